#include "core/model/group_prediction.h"

#include "core/base/format.h"
#include "core/model/level_likelihood.h"
#include "core/numerics/distributions.h"

#include <boost/math/special_functions/gamma.hpp>

#include <algorithm>
#include <cmath>
#include <limits>
#include <map>
#include <numbers>
#include <set>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// Degrees of freedom that are as good as none: nothing of the error hangs on the spreads.
constexpr double kMost = 1e9;

/// By which parameters of spreads are told apart: central differences.
constexpr double kStep = 3e-4;

/// 2v²/Var v, v moving with the parameters by `slope`.
double freedomBy(double v, const VectorXd& slope, const MatrixXd& parameters) {
    const double moves = slope.dot(parameters * slope);
    return moves > 0.0 ? std::min(2.0 * v * v / moves, kMost) : kMost;
}

/// The groups of a grouping, at most so many of them.
std::string someOf(const std::vector<FoundLevel>& levels) {
    constexpr std::size_t kShown = 8;
    std::vector<std::string> labels;
    for (std::size_t g = 0; g < std::min(levels.size(), kShown); ++g) {
        labels.push_back(levels[g].label);
    }
    return joinedNames(labels) + (levels.size() > kShown ? " and others" : "");
}

/// The mean of an outcome at an index, and how it moves there: what a row tells about its index.
struct MeanThere {
    double value = 0.0;
    double slope = 0.0;
};

MeanThere meanAt(bool logit, double index) {
    if (!logit) {
        return {std::exp(index), std::exp(index)};
    }
    const double e = std::exp(-std::abs(index));
    return {1.0 / (1.0 + std::exp(-index)), e / ((1.0 + e) * (1.0 + e))};
}

/// Σ over a normal law of this variance about `index`, by quadrature.
template <typename Of>
void overNormal(double index, double variance, Of of) {
    constexpr int kPoints = 61;
    static const HermiteRule kRule = hermiteRule(kPoints);
    const double root = std::sqrt(std::numbers::pi);
    for (Index j = 0; j < kRule.at.size(); ++j) {
        of(index + std::sqrt(2.0 * variance) * kRule.at(j), kRule.weights(j) / root);
    }
}

}  // namespace

std::vector<MatrixXd> LevelSpreads::factors(const VectorXd& parameters_) const {
    std::vector<MatrixXd> out;
    Index from = 0;
    for (const LevelChart& chart : charts) {
        out.push_back(chart.factor(parameters_.segment(from, chart.parameters())));
        from += chart.parameters();
    }
    return out;
}

ContrastLaw satterthwaite(const LevelSpreads& spreads, const MatrixXd& contrasts) {
    const auto of = [&](const VectorXd& c) {
        VectorXd slope(static_cast<Index>(spreads.slopes.size()));
        for (Index j = 0; j < slope.size(); ++j) {
            slope(j) = c.dot(spreads.slopes[static_cast<std::size_t>(j)] * c);
        }
        return freedomBy(c.dot(spreads.covariance * c), slope, spreads.parameters);
    };
    if (contrasts.cols() == 1) {
        return {of(contrasts.col(0)), 1.0};
    }
    const Eigen::SelfAdjointEigenSolver<MatrixXd> axes(contrasts.transpose() * spreads.covariance *
                                                       contrasts);
    double expected = 0.0;
    for (Index k = 0; k < contrasts.cols(); ++k) {
        const double df = of(contrasts * axes.eigenvectors().col(k));
        expected += df > 2.0 ? df / (df - 2.0) : 0.0;
    }
    const auto q = static_cast<double>(contrasts.cols());
    return {expected > q ? 2.0 * expected / (expected - q) : 2.0, 1.0};
}

ContrastLaw lawOf(const Fit& fit, const MatrixXd& contrasts) {
    // What several sets say together has a law of its own.
    if (fit.levels && fit.levels->lawOf && !fit.pooled) {
        return fit.levels->lawOf(contrasts);
    }
    const std::optional<double> df =
        fit.coefficients.empty() ? std::optional(fit.dfResidual) : fit.coefficients.front().df;
    return {df.value_or(std::numeric_limits<double>::infinity()), 1.0};
}

Result<ScenarioGroups> ScenarioGroups::make(const Design& design, const Fit& fit,
                                            const ScenarioMap& map, std::vector<Place> places) {
    ScenarioGroups out(design, fit, std::move(places));
    if (auto found = out.findGroups(map); !found) {
        return tl::make_unexpected(found.error());
    }
    out.sumRows();
    const LevelSpreads& spreads = *fit.levels->spreads;
    out.parts_ = out.partsAt(spreads.factors(spreads.at));
    return out;
}

Result<ScenarioGroups> ScenarioGroups::make(const Design& design, const Fit& fit,
                                            const ScenarioMap& map,
                                            const std::vector<PredictRequest>& requests,
                                            const MatrixXd& X) {
    std::vector<ScenarioValues> scenarios;
    for (const PredictRequest& request : requests) {
        scenarios.push_back(request.at);
    }
    const auto columns = map.columnsOfGroups(scenarios);
    if (!columns) {
        return tl::make_unexpected(columns.error());
    }
    std::vector<Place> places;
    for (std::size_t s = 0; s < scenarios.size(); ++s) {
        const auto row = static_cast<Index>(s);
        Place place{X.row(row).transpose()(fit.solution.kept), {}, scenarios[s]};
        for (const MatrixXd& of : *columns) {
            place.of.emplace_back(of.row(row).transpose());
        }
        places.push_back(std::move(place));
    }
    return make(design, fit, map, std::move(places));
}

Result<void> ScenarioGroups::findGroups(const ScenarioMap& map) {
    const std::size_t L = design_.levels.size();
    // What each group lies in, where that is asked.
    std::vector<std::vector<std::int32_t>> outer(L);
    for (std::size_t l = 0; l + 1 < L; ++l) {
        outer[l].assign(static_cast<std::size_t>(design_.levels[l].count), 0);
        for (std::size_t i = 0; i < design_.levels[l].of.size(); ++i) {
            outer[l][static_cast<std::size_t>(design_.levels[l].of[i])] =
                design_.levels[l + 1].of[i];
        }
    }
    std::set<std::pair<std::size_t, std::int32_t>> named;
    for (const Place& place : places_) {
        std::vector<std::optional<std::int32_t>> groups(L);
        for (std::size_t l = L; l-- > 0;) {
            const auto at = place.at.find(design_.levels[l].name);
            if (at == place.at.end()) {
                continue;
            }
            const ScenarioVariable& grouping = map.groupings()[l];
            const std::string wanted = keyText(at->second);
            std::vector<std::int32_t> found;
            std::vector<std::int32_t> elsewhere;
            for (std::size_t g = 0; g < grouping.levels.size(); ++g) {
                const FoundLevel& one = grouping.levels[g];
                if (one.label != wanted && one.value != wanted) {
                    continue;
                }
                const bool apart = l + 1 < L && groups[l + 1] && outer[l][g] != *groups[l + 1];
                (apart ? elsewhere : found).push_back(static_cast<std::int32_t>(g));
            }
            if (found.empty() && !elsewhere.empty()) {
                const auto in =
                    static_cast<std::size_t>(outer[l][static_cast<std::size_t>(elsewhere.front())]);
                return refuse(ErrorCode::WrongType,
                              "‘" + wanted + "’ lies in " +
                                  map.groupings()[l + 1].levels[in].label + ", not in " +
                                  keyText(place.at.at(design_.levels[l + 1].name)),
                              "at", "Name the one it lies in, or leave that out.", {grouping.name});
            }
            if (found.empty()) {
                return refuse(
                    ErrorCode::WrongType,
                    "‘" + grouping.name + "’ has no group ‘" + wanted + "’ in the rows used", "at",
                    "Leave it out for a new group; its groups are " + someOf(grouping.levels) + ".",
                    {grouping.name});
            }
            if (found.size() > 1) {
                return refuse(ErrorCode::BadSetting,
                              "‘" + wanted + "’ stands in " + std::to_string(found.size()) +
                                  " groups of " + design_.levels[l + 1].name,
                              "at", "Name " + design_.levels[l + 1].name + ", too.",
                              {grouping.name});
            }
            groups[l] = found.front();
            // What it lies in is known with it.
            for (std::size_t up = l; up + 1 < L; ++up) {
                groups[up + 1] = outer[up][static_cast<std::size_t>(*groups[up])];
                named.emplace(up + 1, *groups[up + 1]);
            }
            named.emplace(l, *groups[l]);
        }
        groups_.push_back(std::move(groups));
    }
    named_.assign(named.begin(), named.end());
    return {};
}

void ScenarioGroups::sumRows() {
    const LevelSpreads& spreads = *fit_.levels->spreads;
    const auto k = static_cast<Index>(fit_.solution.kept.size());
    turn_ = Eigen::LLT<MatrixXd>(fit_.covariance.topLeftCorner(k, k)).matrixL();
    if (named_.empty()) {
        return;
    }
    // Rows of other outermost groups have nothing to do with these.
    const std::size_t L = design_.levels.size();
    std::set<std::int32_t> outermost;
    for (const auto& groups : groups_) {
        if (groups[L - 1]) {
            outermost.insert(*groups[L - 1]);
        }
    }
    std::vector<Index> rows;
    const DesignLevel& last = design_.levels[L - 1];
    for (std::size_t i = 0; i < last.of.size(); ++i) {
        if (outermost.contains(last.of[i])) {
            rows.push_back(static_cast<Index>(i));
        }
    }
    const auto n = static_cast<Index>(rows.size());
    std::vector<std::vector<std::int32_t>> ids(L);
    std::vector<RandomGrouping> groupings;
    std::vector<std::map<std::int32_t, std::int32_t>> own(L);
    for (std::size_t l = 0; l < L; ++l) {
        const DesignLevel& level = design_.levels[l];
        for (const Index i : rows) {
            ids[l].push_back(own[l]
                                 .try_emplace(level.of[static_cast<std::size_t>(i)],
                                              static_cast<std::int32_t>(own[l].size()))
                                 .first->second);
        }
        // In the model’s columns, as the factors are: z'u = (there' z)'(back u).
        MatrixXd columns(n, level.slopes.cols() + 1);
        columns.col(0).setOnes();
        columns.rightCols(level.slopes.cols()) = level.slopes(rows, Eigen::all);
        groupings.push_back(
            {ids[l], static_cast<std::int32_t>(own[l].size()), columns * spreads.charts[l].there});
    }
    Index width = k;
    for (const auto& [l, g] : named_) {
        width += spreads.charts[l].q;
    }
    MatrixXd all(n, width);
    const MatrixXd X = design_.X(rows, fit_.solution.kept);
    all.leftCols(k) = X * turn_;
    Index from = k;
    for (const auto& [l, g] : named_) {
        const std::int32_t here = own[l].at(g);
        for (Index i = 0; i < n; ++i) {
            const bool in = ids[l][static_cast<std::size_t>(i)] == here;
            all.row(i).segment(from, spreads.charts[l].q) =
                in ? groupings[l].columns.row(i).eval()
                   : Eigen::RowVectorXd::Zero(spreads.charts[l].q).eval();
        }
        from += spreads.charts[l].q;
    }
    VectorXd weights;
    if (fit_.likelihood) {
        weights.resize(n);
        for (Index i = 0; i < n; ++i) {
            const Index row = rows[static_cast<std::size_t>(i)];
            const double offset = design_.offset.size() > 0 ? design_.offset(row) : 0.0;
            weights(i) = meanAt(isLogit(), X.row(i).dot(fit_.solution.coefficients) +
                                               fit_.levels->shift(row) + offset)
                             .slope;
        }
    } else if (design_.weights.size() > 0) {
        weights = design_.weights(rows);
    }
    sums_ = std::make_shared<const NestedEffects>(all, VectorXd::Zero(n), std::move(groupings),
                                                  weights);
}

ScenarioGroups::Parts ScenarioGroups::partsAt(const std::vector<MatrixXd>& factors) const {
    const LevelSpreads& spreads = *fit_.levels->spreads;
    const auto m = static_cast<Index>(places_.size());
    const Index k = turn_.rows();
    Parts out{MatrixXd::Zero(m, m), MatrixXd(k, m)};
    for (Index s = 0; s < m; ++s) {
        out.along.col(s) = places_[static_cast<std::size_t>(s)].row;
    }
    if (!sums_) {
        return out;
    }
    // E'V⁻¹E and X'V⁻¹E of the named groups’ columns E; h = E a, a = ΛΛ'z.
    const MatrixXd crossed = sums_->crossProducts(factors);
    const Index width = crossed.cols() - 1 - k;
    MatrixXd pull = MatrixXd::Zero(width, m);
    MatrixXd prior = MatrixXd::Zero(m, m);
    Index from = 0;
    for (const auto& [l, g] : named_) {
        const LevelChart& chart = spreads.charts[l];
        MatrixXd z = MatrixXd::Zero(chart.q, m);
        for (std::size_t s = 0; s < places_.size(); ++s) {
            if (groups_[s][l] && *groups_[s][l] == g) {
                z.col(static_cast<Index>(s)) = chart.there.transpose() * places_[s].of[l];
            }
        }
        const MatrixXd half = factors[l].transpose() * z;
        pull.middleRows(from, chart.q) = factors[l] * half;
        prior += half.transpose() * half;
        from += chart.q;
    }
    out.inner = prior - pull.transpose() * crossed.block(k, k, width, width) * pull;
    // turn'·(what of x is told by the groups): back to the coefficients’ own columns.
    const MatrixXd told = crossed.block(0, k, k, width) * pull;
    out.along -= turn_.transpose().triangularView<Eigen::Upper>().solve(told);
    return out;
}

std::vector<KnownGroup> ScenarioGroups::known(std::size_t s) const {
    std::vector<KnownGroup> out;
    for (std::size_t l = 0; l < groups_[s].size(); ++l) {
        if (groups_[s][l]) {
            const LevelsFit::Level& level = fit_.levels->levels[l];
            const auto g = static_cast<std::size_t>(*groups_[s][l]);
            out.push_back({level.by, level.labels[g], level.sizes[g],
                           level.effects.row(static_cast<Index>(g)).dot(places_[s].of[l])});
        }
    }
    return out;
}

double ScenarioGroups::shift(std::size_t s) const {
    double out = 0.0;
    for (const KnownGroup& group : known(s)) {
        out += group.adds;
    }
    return out;
}

double ScenarioGroups::value(std::size_t s) const {
    return places_[s].row.dot(fit_.solution.coefficients) + shift(s);
}

VectorXd ScenarioGroups::contrast(std::size_t s, std::optional<std::size_t> from) const {
    VectorXd c = VectorXd::Unit(static_cast<Index>(places_.size()), static_cast<Index>(s));
    if (from) {
        c(static_cast<Index>(*from)) -= 1.0;
    }
    return c;
}

double ScenarioGroups::varianceOf(const Parts& parts, double sigma2, const MatrixXd& covariance,
                                  const VectorXd& c) const {
    const VectorXd along = parts.along * c;
    return std::max(sigma2 * c.dot(parts.inner * c), 0.0) + along.dot(covariance * along);
}

double ScenarioGroups::variance(std::size_t s, std::optional<std::size_t> from) const {
    const Index k = turn_.rows();
    return varianceOf(parts_, std::exp(fit_.levels->spreads->logVariance),
                      fit_.covariance.topLeftCorner(k, k), contrast(s, from));
}

std::optional<double> ScenarioGroups::freedom(const VectorXd& c) const {
    const LevelSpreads& spreads = *fit_.levels->spreads;
    const VectorXd along = parts_.along * c;
    if (!fit_.levels->lawOf || spreads.parameters.size() == 0) {
        return std::nullopt;
    }
    const double inner = c.dot(parts_.inner * c);
    if (!(inner > 0.0)) {
        return lawOf(fit_, along).df;
    }
    const double sigma2 = std::exp(spreads.logVariance);
    const Index r = spreads.at.size();
    VectorXd slope(r + 1);
    for (Index j = 0; j < r; ++j) {
        const MatrixXd& moved = spreads.slopes[static_cast<std::size_t>(j)];
        const auto seen = [&](double step) {
            VectorXd to = spreads.at;
            to(j) += step;
            return varianceOf(partsAt(spreads.factors(to)), sigma2,
                              spreads.covariance + step * moved, c);
        };
        slope(j) = (seen(kStep) - seen(-kStep)) / (2.0 * kStep);
    }
    const double v = varianceOf(parts_, sigma2, spreads.covariance, c);
    slope(r) = v;  // All of it is σ² times what hangs on the other parameters.
    return freedomBy(v, slope, spreads.parameters);
}

Estimate ScenarioGroups::estimate(std::size_t s, double alpha,
                                  std::optional<std::size_t> from) const {
    return estimateOf(value(s) - (from ? value(*from) : 0.0), variance(s, from),
                      freedom(contrast(s, from)), alpha);
}

double ScenarioGroups::varianceOfNew(std::size_t s) const {
    double out = 0.0;
    for (std::size_t l = 0; l < groups_[s].size(); ++l) {
        const VectorXd& z = places_[s].of[l];
        out += groups_[s][l] ? 0.0 : z.dot(fit_.levels->levels[l].covariance * z);
    }
    return out;
}

void addGroups(const ScenarioGroups& groups, std::size_t s, double alpha, Prediction& into) {
    const double index = groups.value(s);
    const double se = std::sqrt(groups.variance(s));
    const double reach = criticalValue(alpha, std::nullopt) * se;
    // The interval is that of the index, carried through the curve.
    const auto told = [&](auto mean) {
        Estimate out;
        out.value = mean(index).value;
        out.se = mean(index).slope * se;
        out.low = mean(index - reach).value;
        out.high = mean(index + reach).value;
        return out;
    };
    const bool logit = groups.isLogit();
    into.groups = groups.known(s);
    into.mean = told([&](double at) { return meanAt(logit, at); });
    const double spread = groups.varianceOfNew(s);
    if (!(spread > 0.0)) {
        return;
    }
    into.overGroups = told([&](double middle) {
        MeanThere all;
        overNormal(middle, spread, [&](double at, double weight) {
            const MeanThere one = meanAt(logit, at);
            all.value += weight * one.value;
            all.slope += weight * one.slope;
        });
        return all;
    });
}

Estimate differenceInGroups(const ScenarioGroups& groups, std::size_t s, double alpha) {
    const MeanThere first = meanAt(groups.isLogit(), groups.value(0));
    const MeanThere here = meanAt(groups.isLogit(), groups.value(s));
    const double own = groups.variance(0);
    const double other = groups.variance(s);
    const double shared = 0.5 * (own + other - groups.variance(s, 0));
    const double variance = here.slope * here.slope * other + first.slope * first.slope * own -
                            2.0 * here.slope * first.slope * shared;
    return estimateOf(here.value - first.value, variance, std::nullopt, alpha);
}

double countOverGroups(double index, double variance, double share) {
    const auto below = [&](double count) {
        double sum = 0.0;
        overNormal(index, variance, [&](double at, double weight) {
            sum += weight * boost::math::gamma_q(count + 1.0, std::min(std::exp(at), 1e300));
        });
        return sum;
    };
    double high = 1.0;
    while (high < 1e15 && below(high) < share) {
        high *= 2.0;
    }
    double low = -1.0;
    while (high - low > 1.0) {
        const double middle = std::floor(0.5 * (low + high));
        (below(middle) < share ? low : high) = middle;
    }
    return high;
}

}  // namespace rapporto
