#include "core/report/effect_picture.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/model/quantile.h"
#include "core/model/rows_left.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr int kPlaces = 121;

std::string others(const Answer& answer) {
    return answer.scenarios->variables().size() > 1 ? ", the others at their means and bases" : "";
}

Result<Exhibit> levelsExhibit(const Answer& answer, const ScenarioVariable& v) {
    std::vector<PredictRequest> requests;
    Exhibit e;
    if (v.groups) {
        for (const FoundLevel& level : v.levels) {
            requests.push_back({{{v.name, level.value}}});
            e.xNames.push_back(level.label);
        }
    } else {
        requests = {{{{v.name, 0.0}}}, {{{v.name, 1.0}}}};
        e.xNames = {"no", "yes"};
    }
    const auto predicted =
        predictAt(*answer.design, *answer.fit, *answer.scenarios, requests, answer.alpha);
    if (!predicted) {
        return tl::make_unexpected(predicted.error());
    }
    for (std::size_t i = 0; i < predicted->size(); ++i) {
        const Estimate& m = (*predicted)[i].mean;
        e.intervals.push_back({static_cast<double>(i) + 1.0, m.low, m.value, m.high});
        e.x.push_back(static_cast<double>(i) + 1.0);
        e.y.push_back(m.value);
    }
    e.pointsHidden = true;
    e.xTitle = v.label;
    return e;
}

}  // namespace

namespace {

/// Levels of a grouping or a yes–no variable with the value that sets each, for people.
std::vector<std::pair<Key, std::string>> levelsOf(const ScenarioVariable& v) {
    std::vector<std::pair<Key, std::string>> out;
    for (const FoundLevel& level : v.levels) {
        out.emplace_back(level.value, level.label);
    }
    if (v.yesNo() && !v.groups) {
        out = {{0.0, v.name + ": no"}, {1.0, v.name + ": yes"}};
    }
    return out;
}

/// A curve with its band along a variable where further values are set.
Result<std::pair<Exhibit::Line, Exhibit::Band>> curveAlong(const Answer& answer,
                                                           const ScenarioVariable& v,
                                                           const ScenarioValues& set) {
    std::vector<PredictRequest> requests;
    for (int i = 0; i < kPlaces; ++i) {
        const double share = static_cast<double>(i) / (kPlaces - 1);
        requests.push_back({set});
        requests.back().at[v.name] = v.low + share * (v.high - v.low);
    }
    const auto predicted =
        predictAt(*answer.design, *answer.fit, *answer.scenarios, requests, answer.alpha);
    if (!predicted) {
        return tl::make_unexpected(predicted.error());
    }
    std::pair<Exhibit::Line, Exhibit::Band> out;
    for (std::size_t i = 0; i < predicted->size(); ++i) {
        const double x = std::get<double>(requests[i].at.at(v.name));
        const Estimate& m = (*predicted)[i].mean;
        out.first.x.push_back(x);
        out.first.y.push_back(m.value);
        out.second.x.push_back(x);
        out.second.low.push_back(m.low);
        out.second.high.push_back(m.high);
    }
    return out;
}

}  // namespace

Result<Exhibit> shapeExhibit(const Answer& answer, const std::string& variable,
                             const std::string& by) {
    const ScenarioVariable* v = answer.scenarios ? answer.scenarios->find(variable) : nullptr;
    if (v == nullptr || !answer.fit) {
        return refuse(ErrorCode::UnknownName, "the terms do not hang on ‘" + variable + "’");
    }
    const Design& design = *answer.design;
    const std::string title = shownNames(design.outcome) + " along " + variable;
    const std::string subtitle = "predicted mean with its interval" + others(answer) +
                                 " · n = " + countText(answer.rows.used);
    const std::string yTitle =
        shownNames(design.outcome) + (design.outcomeUnit.empty() ? "" : ", " + design.outcomeUnit);
    if (v->groups || v->yesNo()) {
        auto e = levelsExhibit(answer, *v);
        if (e) {
            e->title = title;
            e->subtitle = subtitle;
            e->yTitle = yTitle;
        }
        return e;
    }
    Exhibit e;
    e.title = title;
    e.subtitle = subtitle;
    e.xTitle = v->label + (v->unit.empty() ? "" : ", " + v->unit);
    e.yTitle = yTitle;
    const ScenarioVariable* groups = by.empty() ? nullptr : answer.scenarios->find(by);
    constexpr std::size_t kMostCurves = 12;
    if (groups != nullptr && groups != v && (groups->groups || groups->yesNo()) &&
        std::max<std::size_t>(groups->levels.size(), 2) <= kMostCurves) {
        int series = 0;
        for (const auto& [value, label] : levelsOf(*groups)) {
            auto curve = curveAlong(answer, *v, {{by, value}});
            if (!curve) {
                return tl::make_unexpected(curve.error());
            }
            curve->first.name = label;
            curve->first.series = curve->second.series = series++;
            e.lines.push_back(std::move(curve->first));
            e.bands.push_back(std::move(curve->second));
        }
        e.title = title + ", by " + by;
        e.pointsHidden = true;
        return e;
    }
    auto curve = curveAlong(answer, *v, {});
    if (!curve) {
        return tl::make_unexpected(curve.error());
    }
    auto& [line, band] = *curve;
    // Each row where it would lie with the others there: the curve plus what the fit leaves of it.
    if (const auto x = answer.fromMoments ? std::nullopt : answer.scenarios->used(variable)) {
        const double step = (v->high - v->low) / (kPlaces - 1);
        const Eigen::VectorXd left = leftOfRows(design, *answer.fit);
        for (Index i = 0; i < x->size(); ++i) {
            const double place = step > 0.0 ? ((*x)(i)-v->low) / step : 0.0;
            if (!std::isfinite(place)) {
                continue;
            }
            const auto below =
                static_cast<std::size_t>(std::clamp(place, 0.0, static_cast<double>(kPlaces - 2)));
            const double part = place - static_cast<double>(below);
            e.x.push_back((*x)(i));
            e.y.push_back((1.0 - part) * line.y[below] + part * line.y[below + 1] + left(i));
            e.rows.push_back(design.rows[static_cast<std::size_t>(i)]);
        }
    }
    e.bands.push_back(std::move(band));
    e.lines.push_back(std::move(line));
    const auto [least, most] = [&] {
        const auto& ys = e.y.empty() ? e.lines.front().y : e.y;
        const auto ends = std::minmax_element(ys.begin(), ys.end());
        return std::pair(*ends.first, *ends.second);
    }();
    for (const TurningPoint& t : answer.turningPoints) {
        if (t.of == variable && t.at > v->low && t.at < v->high) {
            e.lines.push_back({.name = "turns at " + shortNumber(t.at, 3),
                               .x = {t.at, t.at},
                               .y = {least, most},
                               .dashed = true});
        }
    }
    if (answer.fit->bent && answer.fit->bent->variable == variable) {
        for (const Bend& b : answer.fit->bent->bends) {
            e.lines.push_back({.name = shortNumber(b.at, 3),
                               .x = {b.at, b.at},
                               .y = {least, most},
                               .dashed = true});
        }
    }
    return e;
}

std::optional<BentPreview> bentPreview(const Answer& answer, std::vector<double> places) {
    if (!answer.fit || !answer.fit->bent || !answer.scenarios) {
        return std::nullopt;
    }
    const BentLine& bent = *answer.fit->bent;
    const ScenarioVariable* v = answer.scenarios->find(bent.variable);
    if (v == nullptr || places.size() != bent.bends.size()) {
        return std::nullopt;
    }
    std::sort(places.begin(), places.end());
    const auto m = static_cast<Index>(places.size());
    const Index k = answer.design->X.cols() - (bent.fixed ? m : 2 * m);
    const auto x = answer.scenarios->used(bent.variable);
    if (!x) {
        return std::nullopt;
    }
    MatrixXd X(answer.design->X.rows(), k + m);
    X.leftCols(k) = answer.design->X.leftCols(k);
    for (Index j = 0; j < m; ++j) {
        X.col(k + j) = (x->array() - places[static_cast<std::size_t>(j)]).max(0.0);
    }
    const LinearProblem problem{X, answer.design->y, answer.design->weights,
                                answer.design->hasConstant};
    const auto solved = solveLinear(problem, false, Job());
    if (!solved) {
        return std::nullopt;
    }
    VectorXd b = VectorXd::Zero(k + m);
    b(solved->kept) = solved->coefficients;
    BentPreview out;
    out.rss = solved->residualSquares;
    std::vector<ScenarioValues> scenarios;
    for (int i = 0; i < kPlaces; ++i) {
        const double share = static_cast<double>(i) / (kPlaces - 1);
        scenarios.push_back({{bent.variable, v->low + share * (v->high - v->low)}});
    }
    const auto rows = answer.scenarios->at(scenarios);
    if (!rows) {
        return std::nullopt;
    }
    for (int i = 0; i < kPlaces; ++i) {
        const double at = std::get<double>(scenarios[static_cast<std::size_t>(i)].begin()->second);
        double y = rows->row(i).head(k).dot(b.head(k));
        for (Index j = 0; j < m; ++j) {
            y += b(k + j) * std::max(at - places[static_cast<std::size_t>(j)], 0.0);
        }
        out.line.x.push_back(at);
        out.line.y.push_back(y);
    }
    return out;
}

Exhibit processExhibit(const Answer& answer, std::size_t coefficient) {
    const QuantileFit& told = *answer.fit->quantile;
    const auto k = answer.fit->solution.kept.size();
    const std::size_t j = coefficient % std::max<std::size_t>(k, 1);
    const auto column = static_cast<Index>(j);
    const Coefficient& own = answer.fit->coefficients[j];
    Exhibit e;
    e.title = "The effect of " + own.term + " along the distribution";
    e.subtitle = "its effect on each quantile of " + shownNames(answer.design->outcome) +
                 ", errors " + answer.question.errors.shown() +
                 " · n = " + countText(answer.rows.used);
    e.xTitle = "quantile";
    e.yTitle =
        answer.design->outcomeUnit.empty() ? "effect" : "effect in " + answer.design->outcomeUnit;
    e.zeroLine = true;
    Exhibit::Band band;
    Exhibit::Line line{"", {}, {}};
    line.series = 0;
    band.series = 0;
    for (std::size_t t = 0; t < told.process.at.size(); ++t) {
        const auto at = static_cast<Index>(t);
        line.x.push_back(told.process.at[t]);
        line.y.push_back(told.process.b(at, column));
        band.x.push_back(told.process.at[t]);
        band.low.push_back(told.process.low(at, column));
        band.high.push_back(told.process.high(at, column));
    }
    e.bands.push_back(std::move(band));
    e.lines.push_back(std::move(line));
    for (const Coefficient& c : told.leastSquares) {
        if (c.term == own.term) {
            for (const auto& [value, faint] :
                 {std::pair(c.estimate, false), std::pair(c.low, true), std::pair(c.high, true)}) {
                Exhibit::Line flat;
                flat.name = faint ? "" : "least squares";
                flat.x = {told.process.at.front(), told.process.at.back()};
                flat.y = {value, value};
                flat.dashed = true;
                flat.faint = faint;
                flat.series = 1;
                e.lines.push_back(std::move(flat));
            }
        }
    }
    for (std::size_t p = 0; p < told.points.size(); ++p) {
        const Coefficient& c = answer.fit->coefficients[p * k + j];
        e.intervals.push_back({told.points[p].at, c.low, c.estimate, c.high, -1});
    }
    return e;
}

}  // namespace rapporto
