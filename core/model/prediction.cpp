#include "core/model/prediction.h"

#include "core/base/format.h"
#include "core/data/frame.h"
#include "core/model/dynamic_panel.h"
#include "core/model/event_study.h"
#include "core/model/group_prediction.h"
#include "core/model/quantile.h"
#include "core/model/response.h"
#include "core/model/retransformed.h"
#include "core/model/rows_left.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace rapporto {

RAPPORTO_COMPILED_HERE(Prediction);

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// Quantiles at given values: every point that was asked for, in order where they cross.
Result<std::vector<Prediction>> predictQuantiles(const Fit& fit, const MatrixXd& X,
                                                 const std::vector<PredictRequest>& requests,
                                                 double alpha);

/// Of a contrast of the coefficients; absent: the normal law.
std::optional<double> dfOf(const Fit& fit, const VectorXd& contrast) {
    const double df = lawOf(fit, contrast).df;
    return std::isfinite(df) ? std::optional(df) : std::nullopt;
}

VectorXd kept(const Fit& fit, const VectorXd& row) { return row(fit.solution.kept); }

/// Outside of what the rows used span, in words.
std::vector<std::string> warningsAt(const ScenarioMap& map, const ScenarioValues& at) {
    std::vector<std::string> out;
    for (const auto& [name, value] : at) {
        const ScenarioVariable* v = map.find(name);
        if (v == nullptr || v->groups || !v->ranged || !std::holds_alternative<double>(value)) {
            continue;
        }
        const double x = std::get<double>(value);
        if (x < v->low || x > v->high) {
            out.push_back(name + " = " + shortNumber(x) + " lies outside the rows used (" +
                          shortNumber(v->low) + " to " + shortNumber(v->high) + ")");
        }
    }
    return out;
}

/// Mean of exp(e), by the weights.
double smearingFactor(const Design& design, const Fit& fit) {
    double sum = 0.0;
    double total = 0.0;
    const VectorXd left = leftOfRows(design, fit);
    for (Index i = 0; i < left.size(); ++i) {
        const double w = design.weights.size() > 0 ? design.weights(i) : 1.0;
        sum += w * std::exp(left(i));
        total += w;
    }
    return sum / total;
}

VectorXd weightedMean(const MatrixXd& rows, const VectorXd& weights) {
    if (weights.size() == 0) {
        return rows.colwise().mean();
    }
    return rows.transpose() * weights / weights.sum();
}

/// An effect whose gradient is `row` over the columns of the design.
MarginalEffect effectOf(const EffectRequest& request, const std::string& level,
                        const std::string& point, const Fit& fit, const VectorXd& row,
                        double alpha);

/// A level under effects whose groups lie within the clusters has no error of its own; differences
/// have.
bool hasError(const Fit& fit, const VectorXd& c) {
    for (Index j = 0; fit.levelHasNoError && j < c.size(); ++j) {
        if (fit.coefficients[static_cast<std::size_t>(j)].designTerm < 0 && c(j) != 0.0) {
            return false;
        }
    }
    return true;
}

Estimate linear(const Fit& fit, const VectorXd& row, double alpha) {
    const VectorXd c = kept(fit, row);
    // Of several quantiles the first stands here.
    const MatrixXd V = fit.covariance.topLeftCorner(c.size(), c.size());
    return estimateOf(c.dot(fit.solution.coefficients),
                      hasError(fit, c) ? c.dot(V * c) : std::numeric_limits<double>::quiet_NaN(),
                      dfOf(fit, c), alpha);
}

MarginalEffect effectOf(const EffectRequest& request, const std::string& level,
                        const std::string& point, const Fit& fit, const VectorXd& row,
                        double alpha) {
    return {request, level, point, linear(fit, row, alpha), kept(fit, row)};
}

Result<std::vector<Prediction>> predictQuantiles(const Fit& fit, const MatrixXd& X,
                                                 const std::vector<PredictRequest>& requests,
                                                 double alpha) {
    const auto& points = fit.quantile->points;
    const auto k = static_cast<Index>(fit.solution.kept.size());
    std::vector<Prediction> out;
    for (std::size_t s = 0; s < requests.size(); ++s) {
        const VectorXd row = kept(fit, X.row(static_cast<Index>(s)));
        Prediction p;
        p.label = requests[s].label;
        p.at = requests[s].at;
        p.rowLow = p.rowHigh = std::numeric_limits<double>::quiet_NaN();
        std::vector<std::pair<double, Estimate>> all;
        for (std::size_t q = 0; q < points.size(); ++q) {
            const auto at = static_cast<Index>(q) * k;
            const MatrixXd V = fit.covariance.block(at, at, k, k);
            all.emplace_back(points[q].at, estimateOf(row.dot(points[q].b), row.dot(V * row),
                                                      std::nullopt, alpha));
        }
        p.mean = all.front().second;
        std::stable_sort(all.begin(), all.end(),
                         [](const auto& a, const auto& b) { return a.first < b.first; });
        std::vector<Estimate> ordered;
        bool crosses = false;
        for (std::size_t q = 0; q < all.size(); ++q) {
            crosses = crosses || (q > 0 && all[q].second.value < all[q - 1].second.value);
            ordered.push_back(all[q].second);
        }
        if (crosses) {
            // Put in order: the rearranged curve lies no further from the truth.
            std::stable_sort(
                ordered.begin(), ordered.end(),
                [](const Estimate& a, const Estimate& b) { return a.value < b.value; });
            p.warnings.emplace_back("the quantiles cross here and are put in order");
        }
        for (std::size_t q = 0; q < all.size() && all.size() > 1; ++q) {
            p.shares.emplace_back("quantile " + exactNumber(all[q].first), ordered[q]);
        }
        if (s > 0) {
            const VectorXd d = row - kept(fit, X.row(0));
            const MatrixXd V = fit.covariance.topLeftCorner(k, k);
            p.difference = estimateOf(d.dot(points.front().b), d.dot(V * d), std::nullopt, alpha);
        }
        out.push_back(std::move(p));
    }
    return out;
}

/// Of several quantiles effects are told of the first, and say so.
std::string pointOf(const Fit& fit) {
    return fit.quantile ? fit.coefficients.front().equation : std::string();
}

class Elasticity {
  public:
    Elasticity(const Design& design, const Fit& fit, double alpha)
        : design_(design), fit_(fit), alpha_(alpha) {}

    /// @param x  the variable, X the rows and D their slopes in it; weights may be empty.
    [[nodiscard]] Result<Estimate> operator()(const VectorXd& x, const MatrixXd& X,
                                              const MatrixXd& D, const VectorXd& weights,
                                              VectorXd& gradient) const {
        const VectorXd& b = fit_.solution.coefficients;
        const bool logged = !design_.outcomeLogOf.empty();
        double value = 0.0;
        double total = 0.0;
        gradient = VectorXd::Zero(b.size());
        for (Index i = 0; i < X.rows(); ++i) {
            const double w = weights.size() > 0 ? weights(i) : 1.0;
            if (w == 0.0) {
                continue;
            }
            const VectorXd d = kept(fit_, D.row(i));
            const VectorXd row = kept(fit_, X.row(i));
            const double y = logged ? 1.0 : row.dot(b);
            if (y <= 0.0) {
                return refuse(ErrorCode::BadSetting,
                              "an elasticity needs predictions above zero, and here is one of " +
                                  shortNumber(y),
                              "effects", "Log the outcome, or ask for the plain effect.");
            }
            value += w * x(i) * d.dot(b) / y;
            gradient += w * x(i) * (d / y - (logged ? 0.0 : d.dot(b) / (y * y)) * row);
            total += w;
        }
        value /= total;
        gradient /= total;
        const auto k = gradient.size();
        return estimateOf(value, gradient.dot(fit_.covariance.topLeftCorner(k, k) * gradient),
                          dfOf(fit_, gradient), alpha_);
    }

  private:
    const Design& design_;
    const Fit& fit_;
    double alpha_;
};

/// The values that an effect is asked at, one scenario; none for an average over rows.
ScenarioValues place(const EffectRequest& request) {
    return request.as == EffectRequest::As::At ? request.at : ScenarioValues{};
}

Result<std::vector<MarginalEffect>> levelEffects(const Fit& fit, const ScenarioMap& map,
                                                 const ScenarioVariable& variable,
                                                 const EffectRequest& request, double alpha,
                                                 const VectorXd& weights) {
    if (request.elasticity) {
        return refuse(ErrorCode::WrongType,
                      "‘" + variable.name + "’ has no percent of itself, so no elasticity",
                      "effects", "Ask for its plain effect.", {variable.name});
    }
    const auto rowAt = [&](const Key& value) -> Result<VectorXd> {
        if (request.as == EffectRequest::As::Average) {
            const auto X = map.usedWith(variable.name, value);
            return X ? Result<VectorXd>(weightedMean(*X, weights)) : tl::make_unexpected(X.error());
        }
        ScenarioValues values = place(request);
        values[variable.name] = value;
        const auto X = map.at({values});
        return X ? Result<VectorXd>(VectorXd(X->row(0))) : tl::make_unexpected(X.error());
    };
    const auto levels = variable.baseAndOthers();
    const auto base = rowAt(levels.front().first);
    if (!base) {
        return tl::make_unexpected(base.error());
    }
    std::vector<MarginalEffect> out;
    for (std::size_t l = 1; l < levels.size(); ++l) {
        const auto row = rowAt(levels[l].first);
        if (!row) {
            return tl::make_unexpected(row.error());
        }
        out.push_back(effectOf(request, levels[l].second, pointOf(fit), fit, *row - *base, alpha));
    }
    return out;
}

}  // namespace

Estimate estimateOf(double value, double variance, std::optional<double> df, double alpha) {
    Estimate out;
    out.value = value;
    out.se = std::sqrt(std::max(variance, 0.0));
    out.df = df;
    if (out.se > 0.0) {
        out.statistic = value / out.se;
        out.p = twoSidedP(*out.statistic, df);
    }
    const double reach = criticalValue(alpha, df) * out.se;
    // Without an error there is no interval either: none is of no width.
    constexpr double kNone = std::numeric_limits<double>::quiet_NaN();
    out.low = out.se > 0.0 ? value - reach : kNone;
    out.high = out.se > 0.0 ? value + reach : kNone;
    return out;
}

namespace {

/// Why this fit has no equation for the outcome at given values, or nothing.
std::optional<Refusal> noEquation(const Fit& fit) {
    if (fit.event && fit.event->weighting == "group-time") {
        return Refusal{ErrorCode::BadSetting,
                       "effects by cohort and moment are differences of means: there is no "
                       "equation to predict from",
                       "predict",
                       "Ask by cohorts, or within units.",
                       {}};
    }
    return std::nullopt;
}

}  // namespace

Retransformed carriedBack(const Prediction& logged, double factor) {
    Retransformed r;
    r.factor = factor;
    r.middle = std::exp(logged.mean.value);
    r.mean = factor * r.middle;
    r.low = factor * std::exp(logged.mean.low);
    r.high = factor * std::exp(logged.mean.high);
    r.rowLow = std::exp(logged.rowLow);
    r.rowHigh = std::exp(logged.rowHigh);
    return r;
}

Result<std::vector<Prediction>> predictAt(const Design& design, const Fit& fit,
                                          const ScenarioMap& map,
                                          const std::vector<PredictRequest>& requests,
                                          double alpha) {
    if (auto refusal = noEquation(fit)) {
        return tl::make_unexpected(*std::move(refusal));
    }
    if (fit.dynamic && !fit.dynamic->system) {
        return refuse(ErrorCode::BadSetting,
                      "changes tell how the outcome moves, not at which level it lies", "predict",
                      "Ask for effects, or bring the levels in beside the changes.");
    }
    if (fit.likelihood) {
        return predictOutcome(design, fit, map, requests, alpha);
    }
    std::vector<ScenarioValues> scenarios;
    for (const PredictRequest& request : requests) {
        scenarios.push_back(request.at);
    }
    const auto X = map.at(scenarios);
    if (!X) {
        return tl::make_unexpected(X.error());
    }
    if (fit.quantile) {
        auto out = predictQuantiles(fit, *X, requests, alpha);
        for (std::size_t s = 0; out && s < requests.size(); ++s) {
            const auto warnings = warningsAt(map, requests[s].at);
            (*out)[s].warnings.insert((*out)[s].warnings.begin(), warnings.begin(), warnings.end());
        }
        return out;
    }
    const bool logged = !design.outcomeLogOf.empty() && fit.residuals.size() > 0;
    const double factor = logged ? smearingFactor(design, fit) : 1.0;
    std::optional<ScenarioGroups> groups;
    if (fit.levels) {
        auto found = ScenarioGroups::make(design, fit, map, requests, *X);
        if (!found) {
            return tl::make_unexpected(found.error());
        }
        groups.emplace(*std::move(found));
    }
    const double mostLeverage = fit.leverage.size() > 0 ? fit.leverage.maxCoeff() : 1.0;
    std::vector<Prediction> out;
    for (std::size_t s = 0; s < requests.size(); ++s) {
        const VectorXd row = X->row(static_cast<Index>(s));
        Prediction p;
        p.label = requests[s].label;
        p.at = requests[s].at;
        p.mean = groups ? groups->estimate(s, alpha) : linear(fit, row, alpha);
        const double ofNew = groups ? groups->varianceOfNew(s) : 0.0;
        const double variance =
            groups ? fit.statistics.sigma * fit.statistics.sigma + ofNew : varianceOfRow(fit);
        if (groups) {
            p.groups = groups->known(s);
        }
        const double reach =
            criticalValue(alpha, p.mean.df) * std::sqrt(p.mean.se * p.mean.se + variance);
        p.rowLow = p.mean.value - reach;
        p.rowHigh = p.mean.value + reach;
        if (!(variance > 0.0)) {
            p.rowLow = p.rowHigh = std::numeric_limits<double>::quiet_NaN();
        }
        p.warnings = warningsAt(map, requests[s].at);
        if (std::isnan(p.mean.se)) {
            p.warnings.emplace_back(
                "with errors clustered by what is held fixed the level has no error of its own: it "
                "is told without an interval, and differences have theirs");
        }
        const VectorXd spread = fit.solution.factor.transpose() * kept(fit, row);
        const bool ranged = std::all_of(map.variables().begin(), map.variables().end(),
                                        [](const ScenarioVariable& v) { return v.ranged; });
        if (ranged && p.warnings.empty() && spread.squaredNorm() > mostLeverage) {
            p.warnings.emplace_back(
                "each value is within its range, but no row used combines them so far out");
        }
        if (logged) {
            // Effects of new groups are normal by the model: E exp(u) = exp(Var u/2).
            p.original = carriedBack(p, factor * std::exp(0.5 * ofNew));
        }
        if (s > 0) {
            p.difference = groups ? groups->estimate(s, alpha, 0)
                                  : linear(fit, row - VectorXd(X->row(0)), alpha);
        }
        out.push_back(std::move(p));
    }
    return out;
}

namespace {

/// The request is about a group of random effects whose own slopes count: one that is no term, or
/// is one beside it where both can be told together.
bool namesGroup(const ScenarioMap& map, const Fit& fit, const EffectRequest& request) {
    return request.as == EffectRequest::As::At &&
           std::any_of(request.at.begin(), request.at.end(), [&](const auto& value) {
               return map.grouping(value.first) != nullptr &&
                      (!fit.likelihood || map.find(value.first) == nullptr);
           });
}

/// An effect in a known group: the coefficients’ and the group’s own slopes together.
Result<std::vector<MarginalEffect>> effectsInGroup(const Design& design, const Fit& fit,
                                                   const ScenarioMap& map,
                                                   const EffectRequest& request, double alpha) {
    if (fit.likelihood || request.elasticity) {
        return refuse(ErrorCode::BadSetting,
                      "effects in one group are told in units of a normal outcome", "effects",
                      "Leave the group out, or compare two predictions in it.");
    }
    const ScenarioVariable* variable = map.find(request.of);
    std::vector<MarginalEffect> out;
    const auto add = [&](const std::string& level, const MatrixXd& rows,
                         const std::vector<MatrixXd>& of) -> Result<void> {
        ScenarioGroups::Place place{kept(fit, VectorXd(rows.row(0))), {}, request.at};
        for (const MatrixXd& columns : of) {
            place.of.emplace_back(columns.row(0).transpose());
        }
        const VectorXd gradient = place.row;
        const auto groups = ScenarioGroups::make(design, fit, map, {std::move(place)});
        if (!groups) {
            return tl::make_unexpected(groups.error());
        }
        out.push_back({request, level, "", groups->estimate(0, alpha), gradient});
        return {};
    };
    if (variable == nullptr || (!variable->groups && !variable->yesNo())) {
        const auto D = map.slopesAt(request.of, {request.at});
        const auto of = D ? map.columnsOfGroups({request.at}, request.of)
                          : Result<std::vector<MatrixXd>>(tl::make_unexpected(D.error()));
        if (!of) {
            return tl::make_unexpected(of.error());
        }
        auto added = add("", *D, *of);
        return added ? Result<std::vector<MarginalEffect>>(std::move(out))
                     : tl::make_unexpected(added.error());
    }
    const auto levels = variable->baseAndOthers();
    for (std::size_t l = 1; l < levels.size(); ++l) {
        std::vector<ScenarioValues> two = {request.at, request.at};
        two[0][request.of] = levels.front().first;
        two[1][request.of] = levels[l].first;
        const auto X = map.at(two);
        const auto of = X ? map.columnsOfGroups(two)
                          : Result<std::vector<MatrixXd>>(tl::make_unexpected(X.error()));
        if (!of) {
            return tl::make_unexpected(of.error());
        }
        std::vector<MatrixXd> moved;
        for (const MatrixXd& columns : *of) {
            moved.emplace_back(columns.row(1) - columns.row(0));
        }
        if (auto added = add(levels[l].second, X->row(1) - X->row(0), moved); !added) {
            return tl::make_unexpected(added.error());
        }
    }
    return out;
}

/// The effect in the rows as `weights` count them (empty: alike).
Result<std::vector<MarginalEffect>> effectsIn(const Design& design, const Fit& fit,
                                              const ScenarioMap& map, const EffectRequest& request,
                                              double alpha, const VectorXd& weights) {
    if (namesGroup(map, fit, request)) {
        return effectsInGroup(design, fit, map, request, alpha);
    }
    if (fit.likelihood) {
        return outcomeEffects(design, fit, map, request, alpha, weights);
    }
    const ScenarioVariable* variable = map.find(request.of);
    if (variable == nullptr) {
        const auto unknown = map.slopes(request.of);
        return tl::make_unexpected(unknown.error());
    }
    if (variable->groups || variable->yesNo()) {
        return levelEffects(fit, map, *variable, request, alpha, weights);
    }
    const bool average = request.as == EffectRequest::As::Average;
    const auto D = average ? map.slopes(request.of) : map.slopesAt(request.of, {place(request)});
    if (!D) {
        return tl::make_unexpected(D.error());
    }
    if (!request.elasticity) {
        const VectorXd row = average ? weightedMean(*D, weights) : VectorXd(D->row(0));
        return std::vector<MarginalEffect>{effectOf(request, "", pointOf(fit), fit, row, alpha)};
    }
    Result<Estimate> effect = Estimate{};
    VectorXd gradient;
    if (average) {
        effect = Elasticity(design, fit, alpha)(*map.used(request.of), columnsOfRows(design, fit),
                                                *D, weights, gradient);
    } else {
        const auto X = map.at({place(request)});
        const auto named = request.at.find(request.of);
        const double x = request.as == EffectRequest::As::At && named != request.at.end()
                             ? std::get<double>(named->second)
                             : variable->mean;
        effect = Elasticity(design, fit, alpha)(VectorXd::Constant(1, x), *X, *D, {}, gradient);
    }
    if (!effect) {
        return tl::make_unexpected(effect.error());
    }
    return std::vector<MarginalEffect>{{request, "", pointOf(fit), *effect, gradient}};
}

}  // namespace

Result<RowGroups> rowGroups(const Frame& frame, const std::string& variable,
                            const std::vector<std::size_t>& rows) {
    const auto evaluated = frame.evaluateText(variable);
    if (!evaluated) {
        return tl::make_unexpected(evaluated.error());
    }
    const Variable* known = frame.variable(variable);
    const Variable plain;
    const auto levels = levelsOf(evaluated->column, known != nullptr ? *known : plain, rows);
    if (levels.size() < 2) {
        return refuse(ErrorCode::NoVariation, "‘" + variable + "’ has one group in the rows used",
                      "over", "Choose another variable, or average over all rows.", {variable});
    }
    constexpr std::size_t kMost = 60;
    if (levels.size() > kMost) {
        return refuse(ErrorCode::BadSetting,
                      "‘" + variable + "’ has " + plural(levels.size(), "group", "groups"), "over",
                      "Sixty are the most: put it into bands.", {variable});
    }
    RowGroups out;
    for (const FoundLevel& level : levels) {
        out.labels.push_back(level.label);
    }
    for (const std::size_t row : rows) {
        const double code = evaluated->column.isText() ? evaluated->column.codes()[row]
                                                       : evaluated->column.numbers()[row];
        const auto at = std::find_if(levels.begin(), levels.end(),
                                     [&](const FoundLevel& l) { return l.code == code; });
        out.of.push_back(at == levels.end() ? -1 : static_cast<std::int32_t>(at - levels.begin()));
    }
    return out;
}

Result<std::vector<MarginalEffect>> marginalEffects(const Design& design, const Fit& fit,
                                                    const ScenarioMap& map,
                                                    const EffectRequest& request, double alpha,
                                                    const RowGroups* over) {
    if (auto refusal = noEquation(fit)) {
        return tl::make_unexpected(*std::move(refusal));
    }
    if (over == nullptr) {
        return effectsIn(design, fit, map, request, alpha, design.weights);
    }
    if (request.as != EffectRequest::As::Average) {
        return refuse(ErrorCode::BadSetting,
                      "an effect at given values is the same in every group of rows", "over",
                      "Average over the groups, or give the group among the values.");
    }
    std::vector<MarginalEffect> out;
    std::size_t each = 0;
    for (std::size_t g = 0; g < over->labels.size(); ++g) {
        VectorXd weights =
            design.weights.size() > 0 ? design.weights : VectorXd(VectorXd::Ones(design.X.rows()));
        for (Index i = 0; i < weights.size(); ++i) {
            weights(i) *= over->of[static_cast<std::size_t>(i)] == static_cast<std::int32_t>(g);
        }
        auto own = effectsIn(design, fit, map, request, alpha, weights);
        if (!own) {
            return own;
        }
        each = own->size();
        for (std::size_t e = 0; e < each; ++e) {
            MarginalEffect& effect = (*own)[e];
            effect.group = over->labels[g];
            if (g > 0) {
                const VectorXd d = effect.gradient - out[e].gradient;
                const auto k = d.size();
                effect.contrast =
                    estimateOf(effect.effect.value - out[e].effect.value,
                               d.dot(fit.covariance.topLeftCorner(k, k) * d), dfOf(fit, d), alpha);
            }
        }
        out.insert(out.end(), own->begin(), own->end());
    }
    return out;
}

std::vector<TurningPoint> turningPoints(const Design& design, const Fit& fit,
                                        const ScenarioMap& map, double alpha) {
    std::vector<TurningPoint> out;
    for (const ScenarioVariable& v : map.variables()) {
        if (v.groups) {
            continue;
        }
        // Exactly two columns may hang on x: itself and its square.
        std::optional<std::size_t> line;
        std::optional<std::size_t> square;
        bool other = false;
        for (std::size_t c = 0; c < fit.coefficients.size(); ++c) {
            const Coefficient& b = fit.coefficients[c];
            if (b.designTerm < 0) {
                continue;
            }
            const DesignTerm& term = design.terms[static_cast<std::size_t>(b.designTerm)];
            const std::string name = quotedName(v.name);
            if (b.term == v.name) {
                line = c;
            } else if (b.term == "power(" + name + ", 2)" || b.term == name + " * " + name ||
                       b.term == v.name + " × " + v.name) {
                square = c;
            } else if (term.names.contains(v.name)) {
                other = true;
            }
        }
        if (!line || !square || other || fit.coefficients[*square].se <= 0.0) {
            continue;
        }
        const auto i = static_cast<Index>(*line);
        const auto j = static_cast<Index>(*square);
        const double b1 = fit.coefficients[*line].estimate;
        const double b2 = fit.coefficients[*square].estimate;
        const double v11 = fit.covariance(i, i);
        const double v12 = fit.covariance(i, j);
        const double v22 = fit.covariance(j, j);
        TurningPoint t;
        t.of = v.name;
        t.at = -b1 / (2.0 * b2);
        t.peak = b2 < 0.0;
        const double g1 = -1.0 / (2.0 * b2);
        const double g2 = b1 / (2.0 * b2 * b2);
        t.se = std::sqrt(std::max(g1 * g1 * v11 + 2.0 * g1 * g2 * v12 + g2 * g2 * v22, 0.0));
        // Values m with (b1 + 2m b2)² ≤ c² Var(b1 + 2m b2): a quadratic in m.
        const double c = criticalValue(alpha, fit.coefficients[*line].df);
        const double qa = 4.0 * (b2 * b2 - c * c * v22);
        const double qb = 4.0 * (b1 * b2 - c * c * v12);
        const double qc = b1 * b1 - c * c * v11;
        const double discriminant = qb * qb - 4.0 * qa * qc;
        if (discriminant > 0.0) {
            const double root = std::sqrt(discriminant);
            // Without cancellation: the roots are q/a and c/q.
            const double q = -0.5 * (qb + (qb >= 0.0 ? root : -root));
            const auto [low, high] = std::minmax({q / qa, qc / q});
            t.low = low;
            t.high = high;
            t.outside = qa < 0.0;
        }
        if (const auto x = map.used(v.name)) {
            t.below =
                static_cast<double>((x->array() < t.at).count()) / static_cast<double>(x->size());
        }
        out.push_back(t);
    }
    return out;
}

}  // namespace rapporto
