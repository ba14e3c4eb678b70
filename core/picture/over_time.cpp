#include "core/base/format.h"
#include "core/describe/survey_mean.h"
#include "core/picture/desk_rows.h"
#include "core/picture/kinds.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace rapporto {
namespace {

constexpr std::size_t kMostUnits = 60;
constexpr std::size_t kMostGroups = 6;

/// One line through the rows of a unit; broken where moments are missing between.
void addUnit(Exhibit& e, const TimeOrder& order, std::size_t unit, const DeskVariable& y,
             const std::vector<double>& time, bool alone, bool logY) {
    Exhibit::Line line;
    line.faint = !alone;
    std::int64_t before = TimeOrder::kNoMoment;
    const auto finish = [&] {
        if (!line.x.empty()) {
            e.lines.push_back(line);
        }
        line.x.clear();
        line.y.clear();
        line.rows.clear();
    };
    for (const std::uint32_t row : order.units.group(unit)) {
        if (std::isnan(y.cells[row]) || (logY && y.cells[row] <= 0.0)) {
            continue;
        }
        if (before != TimeOrder::kNoMoment && order.moment[row] > before + 1) {
            finish();
        }
        line.x.push_back(time[row]);
        line.y.push_back(logY ? std::log10(y.cells[row]) : y.cells[row]);
        line.rows.push_back(row);
        before = order.moment[row];
    }
    finish();
}

}  // namespace

DrawnPicture drawOverTime(const PictureInput& input) {
    DrawnPicture out;
    const Frame& frame = input.frame;
    const auto& order = frame.timeOrder();
    if (!order) {
        out.nothing = order.error().text();
        return out;
    }
    const DeskVariable y = deskVariable(frame, input.spec.of[0]);
    std::optional<DeskVariable> groups;
    if (input.spec.of.size() == 2) {
        groups = deskVariable(frame, input.spec.of[1]);
        if (groups->levels.size() > kMostGroups) {
            out.nothing = groups->name + " has " + countText(groups->levels.size()) +
                          " levels: more than six lines cannot be told apart. Merge levels first.";
            return out;
        }
    }
    const Column& timeColumn = *frame.column(frame.layout().time);
    const Variable& timeVariable = *frame.variable(frame.layout().time);
    const std::vector<double> time(timeColumn.numbers().begin(), timeColumn.numbers().end());
    const std::vector<double> weights = deskWeights(input);
    Exhibit e;
    e.xScale = timeVariable.measure == Measure::Date ? AxisScale::Date : AxisScale::Number;
    e.yScale = input.spec.logY ? AxisScale::Log : AxisScale::Number;
    e.pointsHidden = true;

    // Means by moment, in the order of the moments.
    struct Sum {
        double weight = 0.0;
        double total = 0.0;
    };

    const std::size_t series = groups ? groups->levels.size() : 1;
    std::map<double, std::vector<Sum>> moments;
    std::vector<bool> present(order->units.starts.size() - 1, false);
    for (std::size_t u = 0; u < present.size(); ++u) {
        for (const std::uint32_t row : order->units.group(u)) {
            const double value = y.cells[row];
            if (std::isnan(value) || (groups && std::isnan(groups->cells[row])) ||
                (input.spec.logY && value <= 0.0)) {
                continue;
            }
            present[u] = true;
            e.x.push_back(time[row]);
            e.y.push_back(input.spec.logY ? std::log10(value) : value);
            e.rows.push_back(row);
            auto& sums = moments[time[row]];
            sums.resize(series);
            const double w = weights.empty() ? 1.0 : weights[row];
            Sum& sum = sums[groups ? static_cast<std::size_t>(groups->cells[row]) - 1 : 0];
            sum.weight += w;
            sum.total += w * value;
        }
    }
    const auto units = static_cast<std::size_t>(std::count(present.begin(), present.end(), true));
    if (units == 0) {
        out.nothing = "No row with a place in time has a value of " + y.name + ".";
        return out;
    }
    const bool alone = units == 1;
    const std::size_t every = groups ? 0 : (units + kMostUnits - 1) / kMostUnits;
    std::size_t seen = 0;
    std::size_t drawn = 0;
    for (std::size_t u = 0; u < present.size() && every > 0; ++u) {
        if (present[u] && seen++ % every == 0) {
            addUnit(e, *order, u, y, time, alone, input.spec.logY);
            ++drawn;
        }
    }
    for (std::size_t s = 0; s < series && (!alone || groups); ++s) {
        Exhibit::Line mean{groups ? groups->levels[s] : "mean", {}, {}};
        mean.series = groups ? static_cast<int>(s) : -1;
        for (const auto& [at, sums] : moments) {
            const double value = sums[s].weight > 0.0 ? sums[s].total / sums[s].weight : NAN;
            if (!std::isnan(value) && (!input.spec.logY || value > 0.0)) {
                mean.x.push_back(at);
                mean.y.push_back(input.spec.logY ? std::log10(value) : value);
            }
        }
        if (!mean.x.empty()) {
            e.lines.push_back(std::move(mean));
        }
    }
    e.title = frame.variable(y.name)->shown() + " over time";
    e.subtitle = "n = " + countText(e.x.size());
    if (frame.layout().kind == Layout::Kind::Panel) {
        e.subtitle += " · " + plural(units, "unit", "units");
        e.subtitle += groups          ? " · means of " + groups->name
                      : alone         ? ""
                      : drawn < units ? " · lines of " + countText(drawn) +
                                            " of them, evenly chosen, and the mean of all"
                                      : " · a line each, and their mean";
    }
    e.subtitle += alone && !groups ? "" : weightsNote(input);
    e.xTitle = timeVariable.shown();
    e.yTitle = y.title;
    if (order->unplaced > 0) {
        out.words.push_back("~" + plural(order->unplaced, "row has", "rows have") +
                            " no place in time and " + (order->unplaced == 1 ? "is" : "are") +
                            " not drawn.");
    }
    out.exhibits.push_back(std::move(e));
    return out;
}

}  // namespace rapporto
