#include "core/describe/coverage.h"

#include <algorithm>

namespace rapporto {

Coverage coverageOf(const Frame& frame, const TimeOrder& order) {
    constexpr std::size_t kUnits = 60;
    constexpr std::size_t kMoments = 240;
    Coverage out;
    out.unitsInAll = order.units.starts.size() - 1;
    std::int64_t first = INT64_MAX;
    std::int64_t last = INT64_MIN;
    std::uint32_t firstRow = 0;
    std::uint32_t lastRow = 0;
    for (const std::uint32_t row : order.units.rows) {
        if (order.moment[row] < first) {
            first = order.moment[row];
            firstRow = row;
        }
        if (order.moment[row] > last) {
            last = order.moment[row];
            lastRow = row;
        }
    }
    if (order.units.rows.empty()) {
        return out;
    }
    const Column& time = *frame.column(frame.layout().time);
    const Variable& timeVariable = *frame.variable(frame.layout().time);
    out.moments = {cellText(time, timeVariable, firstRow), cellText(time, timeVariable, lastRow)};
    const auto span = static_cast<std::size_t>(last - first) + 1;
    out.columns = std::min(span, kMoments);
    // Units whose coverage is worst tell most: fewest rows first.
    std::vector<std::size_t> units(out.unitsInAll);
    for (std::size_t g = 0; g < units.size(); ++g) {
        units[g] = g;
    }
    std::stable_sort(units.begin(), units.end(), [&](std::size_t a, std::size_t b) {
        return order.units.group(a).size() < order.units.group(b).size();
    });
    units.resize(std::min(units.size(), kUnits));
    out.cells.assign(units.size() * out.columns, 0);
    for (std::size_t u = 0; u < units.size(); ++u) {
        const auto rows = order.units.group(units[u]);
        out.units.push_back(frame.layout().unit.empty()
                                ? std::string()
                                : cellText(*frame.column(frame.layout().unit),
                                           *frame.variable(frame.layout().unit), rows.front()));
        std::int64_t before = INT64_MIN;
        for (const std::uint32_t row : rows) {
            const auto at =
                static_cast<std::size_t>(order.moment[row] - first) * out.columns / span;
            std::uint8_t& cell = out.cells[u * out.columns + at];
            cell = order.moment[row] == before ? 2 : std::max<std::uint8_t>(cell, 1);
            before = order.moment[row];
        }
    }
    return out;
}

}  // namespace rapporto
