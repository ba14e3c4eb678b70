// A quantity against a law, and its cumulative shares.
#include "core/base/format.h"
#include "core/describe/normality_tests.h"
#include "core/describe/summary.h"
#include "core/numerics/distributions.h"
#include "core/picture/desk_rows.h"
#include "core/picture/kinds.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

/// Rows that have a value, ascending by it.
struct Ordered {
    std::vector<double> values;
    std::vector<std::size_t> rows;
};

Ordered ordered(const std::vector<double>& cells) {
    Ordered out;
    for (std::size_t i = 0; i < cells.size(); ++i) {
        if (!std::isnan(cells[i])) {
            out.rows.push_back(i);
        }
    }
    std::stable_sort(out.rows.begin(), out.rows.end(),
                     [&](std::size_t a, std::size_t b) { return cells[a] < cells[b]; });
    for (const std::size_t row : out.rows) {
        out.values.push_back(cells[row]);
    }
    return out;
}

}  // namespace

DrawnPicture drawQuantiles(const PictureInput& input) {
    DrawnPicture out;
    const DeskVariable v = deskVariable(input.frame, input.spec.of[0]);
    const Ordered all = ordered(v.cells);
    const auto n = static_cast<double>(all.values.size());
    if (all.values.size() < 3) {
        out.nothing = "Under three rows have a value of " + v.name + ".";
        return out;
    }
    Exhibit e;
    e.title = input.frame.variable(v.name)->shown() + " against a normal law";
    e.subtitle = "n = " + countText(all.values.size()) + " · line through the quartiles, " +
                 percentLevel(input.alpha) + " band for each point";
    e.xTitle = "normal quantile";
    e.yTitle = v.title;
    e.y = all.values;
    e.rows = all.rows;
    for (std::size_t i = 0; i < all.values.size(); ++i) {
        e.x.push_back(normalQuantile((static_cast<double>(i) + 1.0 - 0.375) / (n + 0.25)));
    }
    const double low = sortedQuantile(all.values, 0.25);
    const double high = sortedQuantile(all.values, 0.75);
    const double slope = (high - low) / (normalQuantile(0.75) - normalQuantile(0.25));
    const double middle = 0.5 * (low + high);
    Exhibit::Line line{"normal", {}, {}};
    Exhibit::Band band;
    const double z = normalQuantile(1.0 - input.alpha / 2.0);
    constexpr int kPlaces = 81;
    for (int k = 0; k < kPlaces; ++k) {
        const double x = e.x.front() + (e.x.back() - e.x.front()) * k / (kPlaces - 1);
        const double p = normalTail(-x);
        const double reach = z * slope / normalDensity(x) * std::sqrt(p * normalTail(x) / n);
        line.x.push_back(x);
        line.y.push_back(middle + slope * x);
        band.x.push_back(x);
        band.low.push_back(line.y.back() - reach);
        band.high.push_back(line.y.back() + reach);
    }
    e.lines = {line};
    e.bands = {band};
    out.exhibits.push_back(std::move(e));
    const Summary s = summarise(v.cells);
    const auto tests = normalityTests(v.cells);
    out.words.push_back(normalityReading(tests, input.alpha, s.n, s.skewness, s.kurtosis));
    return out;
}

DrawnPicture drawCumulative(const PictureInput& input) {
    DrawnPicture out;
    const DeskVariable v = deskVariable(input.frame, input.spec.of[0]);
    const std::vector<double> weights = deskWeights(input);
    std::vector<double> cells = v.cells;
    for (std::size_t i = 0; i < cells.size(); ++i) {
        if (!weights.empty() && !(weights[i] > 0.0)) {
            cells[i] = std::nan("");
        } else if (input.spec.logX) {
            cells[i] = cells[i] > 0.0 ? std::log10(cells[i]) : std::nan("");
        }
    }
    const Ordered all = ordered(cells);
    if (all.values.empty()) {
        out.nothing = "No row in the sample has a value of " + v.name + ".";
        return out;
    }
    const auto n = static_cast<double>(all.values.size());
    double total = 0.0;
    for (const std::size_t row : all.rows) {
        total += weights.empty() ? 1.0 : weights[row];
    }
    Exhibit e;
    e.title = "Share of rows at or below a value of " + input.frame.variable(v.name)->shown();
    e.subtitle = "n = " + countText(all.values.size()) +
                 (weights.empty() ? " · " + percentLevel(input.alpha) + " band for the whole curve"
                                  : weightsNote(input));
    e.xTitle = v.title;
    e.yTitle = weights.empty() ? "share of rows" : "share of the weight";
    e.xScale = input.spec.logX ? AxisScale::Log : v.date ? AxisScale::Date : AxisScale::Number;
    e.pointsHidden = true;
    const double reach = std::sqrt(std::log(2.0 / input.alpha) / (2.0 * n));
    Exhibit::Line steps;
    Exhibit::Band band;
    double before = 0.0;
    double sum = 0.0;
    for (std::size_t i = 0; i < all.values.size();) {
        std::size_t j = i;
        while (j < all.values.size() && all.values[j] == all.values[i]) {
            sum += weights.empty() ? 1.0 : weights[all.rows[j]];
            e.x.push_back(all.values[j]);
            e.rows.push_back(all.rows[j]);
            ++j;
        }
        const double share = sum / total;
        e.y.resize(j, share);
        for (const double height : {before, share}) {
            steps.x.push_back(all.values[i]);
            steps.y.push_back(height);
            if (weights.empty()) {
                band.x.push_back(all.values[i]);
                band.low.push_back(std::max(height - reach, 0.0));
                band.high.push_back(std::min(height + reach, 1.0));
            }
        }
        before = share;
        i = j;
    }
    e.lines.push_back(std::move(steps));
    if (!band.x.empty()) {
        e.bands.push_back(std::move(band));
    }
    out.exhibits.push_back(std::move(e));
    return out;
}

}  // namespace rapporto
