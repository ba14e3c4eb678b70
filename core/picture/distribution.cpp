#include "core/base/format.h"
#include "core/describe/density.h"
#include "core/describe/normality_tests.h"
#include "core/describe/summary.h"
#include "core/picture/axis.h"
#include "core/picture/counted.h"
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

}  // namespace

void addNormality(DrawnPicture& picture, const std::vector<NormalityTest>& tests, const Summary& s,
                  double alpha) {
    picture.words.push_back(normalityReading(tests, alpha, s.n, s.skewness, s.kurtosis));
    for (const NormalityTest& test : tests) {
        picture.numbers.push_back({test.name, test.p ? std::string(test.symbol) + " = " +
                                                           shortNumber(*test.statistic, 4) + ", " +
                                                           pClause(*test.p)
                                                     : test.why});
    }
}

Exhibit histogramExhibit(const CountedBins& counted) {
    Exhibit e;
    e.title = counted.title;
    e.xTitle = counted.title;
    e.xScale = counted.scale;
    e.fromZero = true;
    const bool weighted = !counted.heights.empty();
    const Histogram& bins = counted.bins;
    for (std::size_t b = 0; b < bins.counts.size(); ++b) {
        Exhibit::Bar bar;
        bar.x0 = bins.from + bins.width * static_cast<double>(b);
        bar.x1 = bar.x0 + bins.width;
        bar.y1 = weighted ? counted.heights[b] : static_cast<double>(bins.counts[b]);
        bar.says = rangeText(e.xScale, bar.x0, bar.x1) + ": " +
                   plural(bins.counts[b], "row", "rows") +
                   (weighted ? ", " + fixedNumber(bar.y1, 1) + " %" : "");
        e.bars.push_back(std::move(bar));
    }
    e.yTitle = weighted ? "% of the weight" : "rows";
    const Summary& shape = counted.shape;
    const bool date = e.xScale == AxisScale::Date;
    if (shape.sd > 0.0 && e.bars.size() > 2 && !date) {
        Exhibit::Line normal{"normal", {}, {}, true};
        const double from = std::min(e.bars.front().x0, shape.mean - 3.0 * shape.sd);
        const double to = std::max(bins.from + bins.width * static_cast<double>(bins.counts.size()),
                                   shape.mean + 3.0 * shape.sd);
        constexpr int kPlaces = 121;
        for (int k = 0; k < kPlaces; ++k) {
            const double x = from + (to - from) * k / (kPlaces - 1);
            const double z = (x - shape.mean) / shape.sd;
            normal.x.push_back(x);
            normal.y.push_back(counted.whole * std::exp(-0.5 * z * z) /
                               (shape.sd * std::sqrt(2.0 * std::numbers::pi)));
        }
        e.lines.push_back(std::move(normal));
    }
    e.subtitle = "n = " + countText(counted.n) +
                 (date ? "" : " · skewness " + fixedNumber(shape.skewness, 1)) +
                 (counted.notPositive > 0 ? " · " + countText(counted.notPositive) +
                                                " at or below zero have no place here"
                                          : "") +
                 counted.note;
    return e;
}

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
    const Summary s = summarise(cells);
    if (s.n == 0) {
        out.nothing = "No row in the sample has a value of " + v.name +
                      (notPositive > 0 ? " above zero." : ".");
        return out;
    }
    CountedBins counted;
    counted.title = v.title;
    counted.scale = input.spec.logX ? AxisScale::Log : v.date ? AxisScale::Date : AxisScale::Number;
    counted.bins = histogram(cells);
    counted.n = s.n;
    counted.notPositive = notPositive;
    counted.note = weightsNote(input);
    // The height of a bin: its rows, or what they stand for among as many rows.
    double total = 0.0;
    counted.heights.assign(counted.bins.counts.size(), 0.0);
    std::vector<std::vector<std::uint32_t>> rows(counted.bins.counts.size());
    for (std::size_t i = 0; i < cells.size(); ++i) {
        if (!std::isnan(cells[i])) {
            const std::size_t bin = counted.bins.binOf(cells[i]);
            const double w = weights.empty() ? 1.0 : weights[i];
            counted.heights[bin] += w;
            total += w;
            rows[bin].push_back(static_cast<std::uint32_t>(i));
        }
    }
    if (!(total > 0.0)) {
        out.nothing = "No row with a value of " + v.name + " has a weight.";
        return out;
    }
    const double scale = weights.empty() ? 1.0 : 100.0 / total;
    for (double& height : counted.heights) {
        height *= scale;
    }
    if (weights.empty()) {
        counted.heights.clear();
    }
    counted.whole = total * scale * counted.bins.width;
    counted.shape = weights.empty() ? s : summariseWeighted(cells, weights);
    Exhibit e = histogramExhibit(counted);
    for (std::size_t b = 0; b < rows.size(); ++b) {
        e.bars[b].rows = std::move(rows[b]);
    }
    const Density density = weights.empty() ? densityOf(cells, sheatherJones(cells))
                                            : densityOf(cells, sheatherJones(cells), weights);
    if (density.bandwidth > 0.0 && e.bars.size() > 2) {
        Exhibit::Line line{"density", density.x, density.y};
        for (double& y : line.y) {
            y *= counted.whole;
        }
        e.lines.insert(e.lines.begin(), std::move(line));
    }
    out.exhibits.push_back(std::move(e));
    if (!v.date) {
        // Of what is drawn: on a logarithmic axis of the logarithms.
        addNormality(out, normalityTests(cells), s, input.alpha);
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
