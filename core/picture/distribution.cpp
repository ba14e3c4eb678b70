#include "core/base/format.h"
#include "core/describe/density.h"
#include "core/describe/normality_tests.h"
#include "core/describe/summary.h"
#include "core/picture/axis.h"
#include "core/picture/desk_rows.h"
#include "core/picture/kinds.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace rapporto {
namespace {

std::string rangeText(AxisScale scale, double from, double to) {
    return valueOn(scale, from) + " to " + valueOn(scale, to);
}

/// Tests of normality with what they say; of the rows themselves, whatever their weight.
void addNormality(DrawnPicture& out, const std::vector<double>& cells, double alpha) {
    const Summary s = summarise(cells);
    const auto tests = normalityTests(cells);
    out.words.push_back(normalityReading(tests, alpha, s.n, s.skewness, s.kurtosis));
    for (const NormalityTest& test : tests) {
        out.numbers.push_back({test.name, test.p ? std::string(test.symbol) + " = " +
                                                       shortNumber(*test.statistic, 4) + ", " +
                                                       pClause(*test.p)
                                                 : test.why});
    }
}

}  // namespace

DrawnPicture drawDistribution(const PictureInput& input) {
    DrawnPicture out;
    const DeskVariable v = deskVariable(input.frame, input.spec.of[0]);
    const std::vector<double> weights = deskWeights(input);
    std::vector<double> cells = v.cells;
    std::size_t notPositive = 0;
    if (input.spec.logX) {
        for (double& x : cells) {
            notPositive += x <= 0.0 ? 1 : 0;
            x = x > 0.0 ? std::log10(x) : std::nan("");
        }
    }
    const Histogram bins = histogram(cells);
    const Summary s = summarise(cells);
    if (s.n == 0) {
        out.nothing = "No row in the sample has a value of " + v.name +
                      (notPositive > 0 ? " above zero." : ".");
        return out;
    }
    Exhibit e;
    e.title = v.title;
    e.xTitle = v.title;
    e.xScale = input.spec.logX ? AxisScale::Log : v.date ? AxisScale::Date : AxisScale::Number;
    e.fromZero = true;
    // The height of a bin: its rows, or what they stand for among as many rows.
    double total = 0.0;
    std::vector<double> heights(bins.counts.size(), 0.0);
    e.bars.resize(bins.counts.size());
    for (std::size_t i = 0; i < cells.size(); ++i) {
        if (std::isnan(cells[i])) {
            continue;
        }
        const double place = std::max((cells[i] - bins.from) / bins.width, 0.0);
        const std::size_t bin = std::min(static_cast<std::size_t>(place), heights.size() - 1);
        const double w = weights.empty() ? 1.0 : weights[i];
        heights[bin] += w;
        total += w;
        e.bars[bin].rows.push_back(static_cast<std::uint32_t>(i));
    }
    if (!(total > 0.0)) {
        out.nothing = "No row with a value of " + v.name + " has a weight.";
        return out;
    }
    const double scale = weights.empty() ? 1.0 : 100.0 / total;
    for (std::size_t b = 0; b < heights.size(); ++b) {
        Exhibit::Bar& bar = e.bars[b];
        bar.x0 = bins.from + bins.width * static_cast<double>(b);
        bar.x1 = bar.x0 + bins.width;
        bar.y1 = heights[b] * scale;
        bar.says = rangeText(e.xScale, bar.x0, bar.x1) + ": " +
                   plural(bar.rows.size(), "row", "rows") +
                   (weights.empty() ? "" : ", " + fixedNumber(bar.y1, 1) + " %");
    }
    e.yTitle = weights.empty() ? "rows" : "% of the weight";
    const double whole = total * scale * bins.width;  // Height of a density of one.
    const Density density = weights.empty() ? densityOf(cells, sheatherJones(cells))
                                            : densityOf(cells, sheatherJones(cells), weights);
    if (density.bandwidth > 0.0 && bins.counts.size() > 2) {
        Exhibit::Line line{"density", density.x, density.y};
        for (double& y : line.y) {
            y *= whole;
        }
        e.lines.push_back(std::move(line));
    }
    const Summary shape = weights.empty() ? s : summariseWeighted(cells, weights);
    if (shape.sd > 0.0 && bins.counts.size() > 2 && !v.date) {
        Exhibit::Line normal{"normal", {}, {}, true};
        const double from = std::min(bins.from, shape.mean - 3.0 * shape.sd);
        const double to = std::max(bins.from + bins.width * static_cast<double>(heights.size()),
                                   shape.mean + 3.0 * shape.sd);
        constexpr int kPlaces = 121;
        for (int k = 0; k < kPlaces; ++k) {
            const double x = from + (to - from) * k / (kPlaces - 1);
            const double z = (x - shape.mean) / shape.sd;
            normal.x.push_back(x);
            normal.y.push_back(whole * std::exp(-0.5 * z * z) /
                               (shape.sd * std::sqrt(2.0 * std::numbers::pi)));
        }
        e.lines.push_back(std::move(normal));
    }
    e.subtitle =
        "n = " + countText(s.n) + (v.date ? "" : " · skewness " + fixedNumber(shape.skewness, 1)) +
        (notPositive > 0 ? " · " + countText(notPositive) + " at or below zero have no place here"
                         : "") +
        weightsNote(input);
    out.exhibits.push_back(std::move(e));
    if (!v.date) {
        // Of what is drawn: on a logarithmic axis of the logarithms.
        addNormality(out, cells, input.alpha);
        if (input.spec.logX) {
            out.words.front() = "Of the logarithm: " + out.words.front();
        }
        if (!weights.empty()) {
            out.words.emplace_back(
                "~The picture is weighted by the survey; the tests count every row alike.");
        }
    }
    return out;
}

}  // namespace rapporto
