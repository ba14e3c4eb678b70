#include "core/base/format.h"
#include "core/describe/comparison.h"
#include "core/describe/survey_mean.h"
#include "core/numerics/distributions.h"
#include "core/picture/counted.h"
#include "core/picture/kinds.h"

#include <algorithm>
#include <cmath>

namespace rapporto {

void addComparison(DrawnPicture& picture, const Result<GroupComparison>& compared,
                   const std::string& outcome, double alpha) {
    if (!compared) {
        picture.words.push_back("~" + compared.error().text());
        return;
    }
    picture.words.push_back(groupReading(*compared, outcome, alpha));
    for (const auto& group : compared->groups) {
        picture.numbers.push_back({group.label, shortNumber(group.summary.mean, 4) + " (sd " +
                                                    shortNumber(group.summary.sd, 3) + ", n " +
                                                    countText(group.summary.n) + ")"});
    }
    for (const GroupTest* test :
         {&compared->means, &compared->pooled, &compared->spread, &compared->ranks}) {
        if (test->p) {
            picture.numbers.push_back(
                {test->name, shortNumber(*test->statistic, 4) + ", " + pClause(*test->p)});
        }
    }
}

double onAxis(bool logarithmic, double value) {
    return !logarithmic ? value : value > 0.0 ? std::log10(value) : std::nan("");
}

Exhibit::Interval meanInterval(const Summary& group, double at, double alpha) {
    const auto n = static_cast<double>(group.n);
    const double reach =
        group.n > 1 ? criticalValue(alpha, n - 1.0) * group.sd / std::sqrt(n) : 0.0;
    return {at, group.mean - reach, group.mean, group.mean + reach};
}

void nameGroups(Exhibit& exhibit, const DeskVariable& y, const DeskVariable& groups,
                const PictureInput& input, const GroupParts& parts, std::size_t n) {
    exhibit.title =
        input.frame.variable(y.name)->shown() + " by " + input.frame.variable(groups.name)->shown();
    exhibit.subtitle = "n = " + countText(n);
    exhibit.subtitle += !parts.boxes   ? ""
                        : parts.points ? " · boxes: quartiles"
                                       : " · boxes: quartiles, points beyond 1.5 of their length";
    exhibit.subtitle += !parts.means  ? ""
                        : parts.boxes ? " · at the right: mean, " + percentLevel(input.alpha)
                                      : " · means, " + percentLevel(input.alpha) + " intervals";
    exhibit.xTitle = groups.title;
    exhibit.yTitle = y.title;
}

namespace {

/// Mean and interval of one group by the design.
std::optional<Exhibit::Interval> meanByDesign(const std::vector<double>& cells, double at,
                                              const SurveyRows& design, double alpha) {
    const auto mean = meanUnder(design, cells);
    if (!mean) {
        return std::nullopt;
    }
    const double reach = mean->df >= 1.0 ? criticalValue(alpha, mean->df) * mean->se : 0.0;
    return Exhibit::Interval{at, mean->mean - reach, mean->mean, mean->mean + reach};
}

Exhibit::Box boxOf(const std::vector<double>& cells, const std::vector<double>& weights,
                   double at) {
    const Summary s = weights.empty() ? summarise(cells) : summariseWeighted(cells, weights);
    Exhibit::Box box{at, s.high, s.lowerQuartile, s.median, s.upperQuartile, s.low};
    // Whiskers end at the last value within one and a half box lengths (Tukey 1977).
    const double reach = 1.5 * (s.upperQuartile - s.lowerQuartile);
    for (const double x : cells) {
        if (!std::isnan(x) && x >= s.lowerQuartile - reach && x <= s.upperQuartile + reach) {
            box.low = std::min(box.low, x);
            box.high = std::max(box.high, x);
        }
    }
    return box;
}

/// Leaves the points that no whisker reaches.
void keepOutlying(Exhibit& e) {
    Exhibit all = e;
    e.x.clear();
    e.y.clear();
    e.dx.clear();
    e.rows.clear();
    for (std::size_t i = 0; i < all.x.size(); ++i) {
        const auto box = std::find_if(all.boxes.begin(), all.boxes.end(),
                                      [&](const auto& one) { return one.at == all.x[i]; });
        if (box != all.boxes.end() && (all.y[i] < box->low || all.y[i] > box->high)) {
            e.x.push_back(all.x[i]);
            e.y.push_back(all.y[i]);
            e.dx.push_back(0.0F);
            e.rows.push_back(all.rows[i]);
        }
    }
}

DrawnPicture draw(const PictureInput& input, const GroupParts& parts) {
    DrawnPicture out;
    const Frame& frame = input.frame;
    const DeskVariable y = deskVariable(frame, input.spec.of[0]);
    const DeskVariable g = deskVariable(frame, input.spec.of[1]);
    if (g.levels.size() > kMostBars) {
        out.nothing = g.name + " has " + countText(g.levels.size()) +
                      " levels: too many side by side. Merge levels first.";
        return out;
    }
    const std::vector<double> weights =
        parts.boxes || parts.means ? deskWeights(input) : std::vector<double>();
    std::optional<SurveyRows> design;
    if (!weights.empty()) {
        auto rows = surveyRows(frame, input.survey);
        if (!rows) {
            out.nothing = rows.error().text();
            return out;
        }
        design = *std::move(rows);
    }
    Exhibit e;
    e.xNames = g.levels;
    e.yScale = input.spec.logY ? AxisScale::Log : AxisScale::Number;
    std::vector<std::size_t> turn(g.levels.size(), 0);
    for (std::size_t i = 0; i < y.cells.size(); ++i) {
        if (std::isnan(y.cells[i]) || std::isnan(g.cells[i]) ||
            (input.spec.logY && y.cells[i] <= 0.0)) {
            continue;
        }
        e.x.push_back(g.cells[i]);
        e.y.push_back(input.spec.logY ? std::log10(y.cells[i]) : y.cells[i]);
        e.dx.push_back(0.5F * evenShift(turn[static_cast<std::size_t>(g.cells[i]) - 1]++));
        e.rows.push_back(i);
    }
    if (e.x.empty()) {
        out.nothing = "No row has both.";
        return out;
    }
    e.pointsHidden = !parts.points && parts.means;
    const auto inLog = [&](double v) { return onAxis(input.spec.logY, v); };
    std::vector<double> cells(y.cells.size());
    for (std::size_t k = 0; k < g.levels.size(); ++k) {
        const double level = static_cast<double>(k) + 1.0;
        for (std::size_t i = 0; i < cells.size(); ++i) {
            cells[i] = g.cells[i] == level ? y.cells[i] : std::nan("");
        }
        if (turn[k] == 0) {
            continue;
        }
        if (parts.boxes) {
            Exhibit::Box box = boxOf(cells, weights, level);
            for (double* v :
                 {&box.low, &box.lowerQuartile, &box.median, &box.upperQuartile, &box.high}) {
                *v = inLog(*v);
            }
            e.boxes.push_back(box);
        }
        if (parts.means) {
            const double at = parts.boxes ? level + 0.36 : level;
            if (auto mean = design ? meanByDesign(cells, at, *design, input.alpha)
                                   : meanInterval(summarise(cells), at, input.alpha)) {
                mean->low = inLog(mean->low);
                mean->estimate = inLog(mean->estimate);
                mean->high = inLog(mean->high);
                e.intervals.push_back(*mean);
            }
        }
    }
    const std::size_t n = e.x.size();
    if (parts.boxes && !parts.points) {
        keepOutlying(e);
    }
    nameGroups(e, y, g, input, parts, n);
    e.subtitle += parts.boxes || parts.means ? weightsNote(input) : "";
    out.exhibits.push_back(std::move(e));
    addComparison(out, compareBy(frame, y.name, g.name, input.alpha), y.name, input.alpha);
    if (!weights.empty()) {
        out.words.emplace_back(
            "~The picture is weighted by the survey; the tests below count every row alike.");
    }
    return out;
}

}  // namespace

DrawnPicture drawGroups(const PictureInput& input) { return draw(input, {}); }

DrawnPicture drawStrips(const PictureInput& input) { return draw(input, {true, false, false}); }

DrawnPicture drawBoxes(const PictureInput& input) { return draw(input, {false, true, false}); }

DrawnPicture drawMeans(const PictureInput& input) { return draw(input, {false, false, true}); }

}  // namespace rapporto
