#include "core/describe/thumbnail.h"

#include "core/describe/summary.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace rapporto {
namespace {

constexpr std::size_t kMostRows = 20000;
constexpr std::size_t kMostBars = 14;

double cellOf(const Column& column, std::size_t row) {
    if (column.isText()) {
        return column.codes()[row] < 0 ? std::nan("") : static_cast<double>(column.codes()[row]);
    }
    return column.numbers()[row];
}

}  // namespace

Thumbnail thumbnailOf(const Column& column, const Variable& variable) {
    Thumbnail out;
    if (column.isText() && variable.measure == Measure::Text) {
        return out;
    }
    const std::size_t looks = std::min(column.size(), kMostRows);
    const double stride = static_cast<double>(column.size()) / static_cast<double>(looks);
    std::vector<double> cells;
    for (std::size_t k = 0; k < looks; ++k) {
        // Not every so many rows: data often alternate in step.
        const double turn = static_cast<double>(k) * std::numbers::phi;
        const double at =
            (static_cast<double>(k) + (stride > 1.0 ? turn - std::floor(turn) : 0.0)) * stride;
        cells.push_back(cellOf(column, std::min(static_cast<std::size_t>(at), column.size() - 1)));
    }
    std::vector<std::size_t> counts;
    if (column.isText() || isGrouping(variable.measure)) {
        std::map<double, std::size_t> byLevel;
        for (const double c : cells) {
            if (!std::isnan(c)) {
                ++byLevel[c];
            }
        }
        std::vector<std::pair<double, std::size_t>> order(byLevel.begin(), byLevel.end());
        std::stable_sort(order.begin(), order.end(),
                         [](const auto& a, const auto& b) { return a.second > b.second; });
        order.resize(std::min(order.size(), kMostBars));
        for (const auto& [level, count] : order) {
            out.levels.emplace(level, counts.size());
            counts.push_back(count);
        }
    } else {
        Histogram bins =
            histogram(cells, variable.measure == Measure::YesNo ? std::size_t{2} : kMostBars);
        out.from = bins.from;
        out.width = bins.width;
        counts = std::move(bins.counts);
    }
    const std::size_t most =
        counts.empty() ? 1
                       : std::max<std::size_t>(*std::max_element(counts.begin(), counts.end()), 1);
    out.rowsAtTop = static_cast<double>(most) * std::max(stride, 1.0);
    for (const std::size_t c : counts) {
        out.bars.push_back(static_cast<double>(c) / static_cast<double>(most));
    }
    return out;
}

std::vector<double> litPart(const Thumbnail& thumbnail, const Column& column, const RowSet& rows) {
    std::vector<double> out(thumbnail.bars.size(), 0.0);
    if (out.empty() || rows.empty()) {
        return out;
    }
    const std::size_t every = rows.size() / kMostRows + 1;
    std::size_t seen = 0;
    for (const std::size_t row : rows) {
        if (seen++ % every != 0 || row >= column.size()) {
            continue;
        }
        const double cell = cellOf(column, row);
        if (std::isnan(cell)) {
            continue;
        }
        if (!thumbnail.levels.empty()) {
            if (const auto at = thumbnail.levels.find(cell); at != thumbnail.levels.end()) {
                out[at->second] += static_cast<double>(every);
            }
            continue;
        }
        const double place = std::max((cell - thumbnail.from) / thumbnail.width, 0.0);
        out[std::min(static_cast<std::size_t>(place), out.size() - 1)] +=
            static_cast<double>(every);
    }
    for (std::size_t b = 0; b < out.size(); ++b) {
        out[b] = std::min(out[b] / thumbnail.rowsAtTop, thumbnail.bars[b]);
    }
    return out;
}

}  // namespace rapporto
