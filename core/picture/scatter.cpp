#include "core/base/format.h"
#include "core/describe/smooth.h"
#include "core/numerics/distributions.h"
#include "core/picture/desk_rows.h"
#include "core/picture/kinds.h"
#include "core/picture/line_fit.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace rapporto {
namespace {

constexpr std::size_t kSeries = 6;  // Colours there are.

/// The points of one series.
struct Part {
    std::vector<double> x;
    std::vector<double> y;
    std::vector<std::size_t> rows;
};

Part partOf(const Exhibit& e, int series) {
    Part out;
    for (std::size_t i = 0; i < e.x.size(); ++i) {
        if (series < 0 || e.series[i] == series) {
            out.x.push_back(e.x[i]);
            out.y.push_back(e.y[i]);
            out.rows.push_back(e.rows[i]);
        }
    }
    return out;
}

/// The curve over the range of the points, with its two bands where they are asked for.
void addCurve(Exhibit& e, const Curve& curve, const Part& part, Exhibit::Line line, bool bands,
              double alpha) {
    const auto [low, high] = std::minmax_element(part.x.begin(), part.x.end());
    const int places = bands || curve.coefficients.size() > 2 ? 61 : 2;
    Exhibit::Band mean{"mean", {}, {}, {}, line.series};
    Exhibit::Band row{"a row", {}, {}, {}, line.series};
    const double t = criticalValue(alpha, curve.df);
    for (int k = 0; k < places; ++k) {
        const double x = *low + (*high - *low) * k / (places - 1);
        const double y = curve.at(x);
        line.x.push_back(x);
        line.y.push_back(y);
        if (bands) {
            const double se = curve.se(x);
            const double wide = std::sqrt(se * se + curve.sigma * curve.sigma);
            for (auto [band, reach] : {std::pair{&mean, t * se}, std::pair{&row, t * wide}}) {
                band->x.push_back(x);
                band->low.push_back(y - reach);
                band->high.push_back(y + reach);
            }
        }
    }
    if (bands) {
        e.bands.push_back(std::move(row));
        e.bands.push_back(std::move(mean));
    }
    e.lines.push_back(std::move(line));
}

/// The third variable’s levels as series: the largest have one each, the others one together.
void nameSeries(Exhibit& e, const DeskVariable& groups) {
    std::vector<std::size_t> counts(groups.levels.size(), 0);
    for (const std::size_t row : e.rows) {
        ++counts[static_cast<std::size_t>(groups.cells[row]) - 1];
    }
    std::vector<std::size_t> kept(groups.levels.size());
    std::iota(kept.begin(), kept.end(), std::size_t{0});
    if (kept.size() > kSeries) {
        std::stable_sort(kept.begin(), kept.end(),
                         [&](std::size_t a, std::size_t b) { return counts[a] > counts[b]; });
        kept.resize(kSeries - 1);
        std::sort(kept.begin(), kept.end());
    }
    std::vector<std::uint8_t> series(groups.levels.size(), kSeries - 1);
    for (std::size_t k = 0; k < kept.size(); ++k) {
        series[kept[k]] = static_cast<std::uint8_t>(k);
        e.seriesNames.push_back(groups.levels[kept[k]]);
    }
    if (kept.size() < groups.levels.size()) {
        e.seriesNames.emplace_back("others");
    }
    for (const std::size_t row : e.rows) {
        e.series.push_back(series[static_cast<std::size_t>(groups.cells[row]) - 1]);
    }
}

/// Points that would hide each other are moved a little, by a pattern, never at random.
std::vector<float> shifts(const std::vector<double>& values, std::size_t from) {
    if (!isDiscrete(values) || values.size() < 30) {
        return {};
    }
    std::vector<float> out(values.size());
    for (std::size_t i = 0; i < out.size(); ++i) {
        out[i] = 0.5F * evenShift(i + from);
    }
    return out;
}

std::string named(const std::vector<std::string>& parts) {
    std::string out;
    for (std::size_t k = 0; k < parts.size(); ++k) {
        out += (k == 0 ? " · " : k + 1 == parts.size() ? " and " : ", ") + parts[k];
    }
    return out;
}

std::string spanText(const PictureSpec& spec) {
    return (spec.robust ? "robust smooth (" : "smooth (") + fixedNumber(spec.span, 2, true) + ")";
}

struct Drawing {
    const PictureInput& input;
    std::vector<double> weights;
    std::optional<SurveyRows> design;
    DrawnPicture out;
};

void addSeries(Drawing& d, Exhibit& e, int series) {
    const PictureSpec& spec = d.input.spec;
    const Part part = partOf(e, series);
    const std::string name = series < 0 ? "" : e.seriesNames[static_cast<std::size_t>(series)];
    const SurveyRows* design = d.design ? &*d.design : nullptr;
    if (spec.smooth) {
        std::vector<double> weights;
        for (std::size_t i = 0; i < part.rows.size() && !d.weights.empty(); ++i) {
            weights.push_back(d.weights[part.rows[i]]);
        }
        const SmoothSettings settings{spec.span, spec.robust ? 3 : 0, spec.bands};
        LocalSmooth smooth = localSmooth(part.x, part.y, weights, settings);
        if (!smooth.se.empty()) {
            Exhibit::Band band{"smooth", smooth.x, {}, {}, series};
            const double t = criticalValue(d.input.alpha, smooth.df);
            for (std::size_t i = 0; i < smooth.x.size(); ++i) {
                band.low.push_back(smooth.y[i] - t * smooth.se[i]);
                band.high.push_back(smooth.y[i] + t * smooth.se[i]);
            }
            e.bands.push_back(std::move(band));
        }
        Exhibit::Line line{series < 0  ? "smooth"
                           : spec.line ? ""
                                       : name,
                           std::move(smooth.x), std::move(smooth.y)};
        line.series = series;
        if (!line.x.empty()) {
            e.lines.push_back(std::move(line));
        }
    }
    for (const int degree : {1, 2}) {
        if (!(degree == 1 ? spec.line : spec.square)) {
            continue;
        }
        const auto curve = fitCurve(part.x, part.y, part.rows, degree, design);
        if (!curve) {
            continue;
        }
        if (degree == 1 && series < 0) {
            d.out.slope = curve->slope();
        }
        if (degree == 1 && series >= 0) {
            const double se = std::sqrt(curve->covariance[1][1]) / curve->scale;
            d.out.numbers.push_back(
                {"slope, " + name, fixedNumber(curve->slope(), decimalsFor(se)) + " (se " +
                                       fixedNumber(se, decimalsFor(se)) + ")"});
        }
        Exhibit::Line line{series >= 0 && degree == 1 ? name
                           : series >= 0              ? ""
                           : degree == 1              ? "line"
                                                      : "square",
                           {},
                           {},
                           series < 0 || (degree == 1 && spec.smooth) || degree == 2};
        line.series = series;
        addCurve(e, *curve, part, std::move(line), spec.bands && curve->df >= 1.0, d.input.alpha);
    }
}

}  // namespace

DrawnPicture drawScatter(const PictureInput& input) {
    Drawing d{input, deskWeights(input), std::nullopt, {}};
    const Frame& frame = input.frame;
    const PictureSpec& spec = input.spec;
    const DeskVariable y = deskVariable(frame, spec.of[0]);
    const DeskVariable x = deskVariable(frame, spec.of[1]);
    std::optional<DeskVariable> groups;
    if (spec.of.size() == 3) {
        groups = deskVariable(frame, spec.of[2]);
    }
    if (!d.weights.empty()) {
        auto rows = surveyRows(frame, input.survey);
        if (!rows) {
            d.out.nothing = rows.error().text();
            return d.out;
        }
        d.design = *std::move(rows);
    }
    const bool logX = spec.logX && !x.groups && !x.date;
    const bool logY = spec.logY && !y.groups && !y.date;
    Exhibit e;
    std::size_t notPositive = 0;
    for (std::size_t i = 0; i < x.cells.size(); ++i) {
        if (std::isnan(x.cells[i]) || std::isnan(y.cells[i]) ||
            (groups && std::isnan(groups->cells[i]))) {
            continue;
        }
        if ((logX && x.cells[i] <= 0.0) || (logY && y.cells[i] <= 0.0)) {
            ++notPositive;
            continue;
        }
        e.x.push_back(logX ? std::log10(x.cells[i]) : x.cells[i]);
        e.y.push_back(logY ? std::log10(y.cells[i]) : y.cells[i]);
        e.rows.push_back(i);
    }
    if (e.x.empty()) {
        d.out.nothing =
            notPositive > 0 ? "No row has values above zero on the log axis." : "No row has both.";
        return d.out;
    }
    e.title = y.name + " against " + x.name + (groups ? " by " + groups->name : "");
    e.xTitle = x.title;
    e.yTitle = y.title;
    e.xScale = logX ? AxisScale::Log : x.date ? AxisScale::Date : AxisScale::Number;
    e.yScale = logY ? AxisScale::Log : y.date ? AxisScale::Date : AxisScale::Number;
    e.xNames = x.levels;
    for (std::size_t k = 0; k < y.levels.size(); ++k) {
        e.yTicks.push_back({static_cast<double>(k) + 1.0, y.levels[k]});
    }
    if (!logX) {
        e.dx = shifts(e.x, 0);
    }
    if (!logY) {
        e.dy = shifts(e.y, 7);  // Another part of the pattern, or points would lie on a diagonal.
    }
    if (groups) {
        nameSeries(e, *groups);
        for (std::size_t k = 0; k < e.seriesNames.size(); ++k) {
            addSeries(d, e, static_cast<int>(k));
        }
    } else {
        addSeries(d, e, -1);
    }
    std::vector<std::string> parts;
    if (spec.line) {
        parts.push_back(logX || logY ? "line in logs" : "line");
    }
    if (spec.square) {
        parts.emplace_back("square");
    }
    if (spec.smooth) {
        parts.push_back(spanText(spec));
    }
    e.subtitle =
        "n = " + countText(e.x.size()) + named(parts) +
        (spec.bands ? " · " + shortNumber(100.0 * (1.0 - input.alpha), 3) + " % bands: mean, row"
                    : "") +
        (!e.dx.empty() || !e.dy.empty() ? " · equal points moved apart" : "") +
        (notPositive > 0 ? " · " + countText(notPositive) + " at or below zero have no place here"
                         : "") +
        weightsNote(input);
    d.out.exhibits.push_back(std::move(e));
    return d.out;
}

}  // namespace rapporto
