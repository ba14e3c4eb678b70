#include "core/model/panel.h"

#include "core/base/format.h"
#include "core/base/large_memory.h"
#include "core/base/parallel.h"
#include "core/model/likelihood.h"
#include "core/model/rows_left.h"
#include "core/numerics/sweep_effects.h"
#include "core/numerics/sweep_slopes.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <unordered_map>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

tl::unexpected<Refusal> needsPanel() {
    return refuse(ErrorCode::BadSetting, "this method needs rows that are a unit at a moment",
                  "method", "Say in Data what a row is.");
}

/// Weights of methods that look at whole units are the units’ own: n, none, or why not.
Result<VectorXd> unitWeights(const Design& design) {
    if (design.weights.size() == 0 || design.units.empty()) {
        return VectorXd();
    }
    if (design.weightKind == WeightKind::Frequency) {
        return refuse(ErrorCode::BadSetting,
                      "frequency weights repeat rows, and a unit has one row at a moment",
                      "weights", "Choose sampling or precision weights.");
    }
    VectorXd out = VectorXd::Zero(design.unitCount);
    for (Index i = 0; i < design.weights.size(); ++i) {
        double& unit = out(design.units[static_cast<std::size_t>(i)]);
        if (unit > 0.0 && std::abs(unit - design.weights(i)) > 1e-12 * unit) {
            return refuse(ErrorCode::BadSetting,
                          "the weights differ between rows of one unit (row " +
                              std::to_string(design.rows[static_cast<std::size_t>(i)] + 1) + ")",
                          "weights",
                          "This method takes a weight for each unit: use one that stays, such as "
                          "avg(w) over (partition by the unit), or compare within units.");
        }
        unit = design.weights(i);
    }
    return out;
}

/// Means of every unit in the columns of X (units × k).
MatrixXd unitMeans(const Design& design, const MatrixXd& X, VectorXd& sizes) {
    MatrixXd means = MatrixXd::Zero(design.unitCount, X.cols());
    sizes = VectorXd::Zero(design.unitCount);
    for (Index i = 0; i < X.rows(); ++i) {
        const auto unit = design.units[static_cast<std::size_t>(i)];
        means.row(unit) += X.row(i);
        sizes(unit) += 1.0;
    }
    return sizes.cwiseInverse().asDiagonal() * means;
}

/// @param w  weights, or empty.
double squaredCorrelation(const VectorXd& a, const VectorXd& b, const VectorXd& w) {
    const VectorXd by = w.size() > 0
                            ? VectorXd(w / w.sum())
                            : VectorXd::Constant(a.size(), 1.0 / static_cast<double>(a.size()));
    const VectorXd x = a.array() - by.dot(a);
    const VectorXd y = b.array() - by.dot(b);
    const double size = by.dot(x.cwiseAbs2()) * by.dot(y.cwiseAbs2());
    const double xy = by.dot(x.cwiseProduct(y));
    return size > 0.0 ? xy * xy / size : std::nan("");
}

/// R² within, between and overall of Xb on the rows as they are.
void fillPanelRSquared(Fit& fit, const Design& raw) {
    VectorXd index = VectorXd::Zero(raw.y.size());
    for (const Coefficient& c : fit.coefficients) {
        if (c.designTerm >= 0) {
            index += c.estimate * raw.X.col(c.column);
        }
    }
    MatrixXd both(raw.y.size(), 2);
    both << raw.y, index;
    VectorXd sizes;
    const MatrixXd means = unitMeans(raw, both, sizes);
    MatrixXd left = both;
    for (Index i = 0; i < left.rows(); ++i) {
        left.row(i) -= means.row(raw.units[static_cast<std::size_t>(i)]);
    }
    const auto put = [](std::optional<double>& into, double value) {
        into = std::isfinite(value) ? std::optional(value) : std::nullopt;
    };
    const auto units = unitWeights(raw);
    put(fit.statistics.within, squaredCorrelation(left.col(0), left.col(1), raw.weights));
    put(fit.statistics.between,
        squaredCorrelation(means.col(0), means.col(1), units ? *units : VectorXd()));
    put(fit.statistics.overall, squaredCorrelation(both.col(0), both.col(1), raw.weights));
}

/// A fit on a design made from another; the tables are of the made one.
Result<Fit> fitMade(const Design& raw, Design made, PanelFit panel, const ErrorSpec& errors,
                    double alpha, const Job& job) {
    made.before = std::make_shared<const Design>(raw);
    if (!made.effects.empty()) {
        auto swept = sweptDesign(std::move(made), job);
        if (!swept) {
            return tl::make_unexpected(swept.error());
        }
        made = *std::move(swept);
    }
    auto fit = fitLeastSquares(made, errors, alpha, job);
    if (fit) {
        fillPanelRSquared(*fit, raw);
        fit->panel = std::make_shared<const PanelFit>(panel);
        fit->linearised = std::make_shared<const Design>(std::move(made));
    }
    return fit;
}

template <class T>
std::vector<T> picked(const std::vector<T>& from, const std::vector<Index>& rows) {
    std::vector<T> out;
    if (from.empty()) {
        return out;
    }
    out.reserve(rows.size());
    for (const Index row : rows) {
        out.push_back(from[static_cast<std::size_t>(row)]);
    }
    return out;
}

/// Ids made anew from 0 in the order of appearance.
std::int32_t renumber(std::vector<std::int32_t>& ids) {
    std::unordered_map<std::int32_t, std::int32_t> to;
    for (std::int32_t& id : ids) {
        id = to.emplace(id, static_cast<std::int32_t>(to.size())).first->second;
    }
    return static_cast<std::int32_t>(to.size());
}

/// What is kept by unit, under the numbers that the units have among these rows.
void followUnits(Design& out, const Design& design, const std::vector<Index>& rows) {
    if (design.changed.empty() && design.histories.empty()) {
        return;
    }
    std::unordered_map<std::int32_t, std::int32_t> to;
    for (std::size_t i = 0; i < rows.size(); ++i) {
        to.emplace(design.units[static_cast<std::size_t>(rows[i])], out.units[i]);
    }
    if (!design.changed.empty()) {
        out.changed.assign(static_cast<std::size_t>(out.unitCount), kNever);
        for (const auto& [before, after] : to) {
            out.changed[static_cast<std::size_t>(after)] =
                design.changed[static_cast<std::size_t>(before)];
        }
    }
    for (ColumnHistory& history : out.histories) {
        std::unordered_map<std::int64_t, double> at;
        for (const auto& [key, value] : history.at) {
            const std::int64_t moment = key >> 31;
            const auto unit = static_cast<std::int32_t>(key - moment * (std::int64_t{1} << 31));
            if (const auto found = to.find(unit); found != to.end()) {
                at[historyKey(found->second, moment)] = value;
            }
        }
        history.at = std::move(at);
    }
}

}  // namespace

PanelFit panelFitOf(const Design& raw) {
    PanelFit out;
    MatrixXd all(raw.y.size(), raw.X.cols() + 1);
    all << raw.y, raw.X;
    VectorXd sizes;
    const MatrixXd means = unitMeans(raw, all, sizes);
    for (Index j = 0; j < all.cols(); ++j) {
        const double mean = all.col(j).mean();
        const double total = (all.col(j).array() - mean).square().sum();
        if (total > 0.0) {
            const double between = sizes.dot((means.col(j).array() - mean).square().matrix());
            out.shares.push_back(
                {j == 0 ? raw.outcome : raw.columns[static_cast<std::size_t>(j - 1)].name,
                 std::clamp(1.0 - between / total, 0.0, 1.0)});
        }
    }
    out.units = raw.unitCount;
    out.meanRows = static_cast<double>(raw.y.size()) / std::max(raw.unitCount, 1);
    return out;
}

Design withRows(const Design& design, const std::vector<Index>& rows) {
    Design out = design;
    out.X = MatrixXd(design.X(rows, Eigen::all));
    out.y = VectorXd(design.y(rows));
    out.Z = design.Z.cols() > 0 ? MatrixXd(design.Z(rows, Eigen::all))
                                : MatrixXd(static_cast<Index>(rows.size()), 0);
    if (design.weights.size() > 0) {
        out.weights = VectorXd(design.weights(rows));
    }
    if (design.offset.size() > 0) {
        out.offset = VectorXd(design.offset(rows));
    }
    if (design.lower.size() > 0) {
        out.lower = VectorXd(design.lower(rows));
        out.upper = VectorXd(design.upper(rows));
    }
    out.unseen = picked(design.unseen, rows);
    if (design.zeroX.cols() > 0) {
        out.zeroX = MatrixXd(design.zeroX(rows, Eigen::all));
    }
    out.rows = picked(design.rows, rows);
    for (std::size_t d = 0; d < design.clusters.size(); ++d) {
        out.clusters[d] = picked(design.clusters[d], rows);
        out.clusterCounts[d] = renumber(out.clusters[d]);
    }
    for (SweptGrouping& effects : out.effects) {
        std::vector<std::int32_t> of = picked(effects.of.all(), rows);
        effects.count = renumber(of);
        effects.of = std::move(of);
        if (effects.slopes.cols() > 0) {
            effects.slopes = MatrixXd(effects.slopes(rows, Eigen::all));
        }
    }
    for (DesignLevel& level : out.levels) {
        level.of = picked(level.of, rows);
        std::vector<std::string> labels;
        std::vector<std::int32_t> before = level.of;
        level.count = renumber(level.of);
        labels.resize(static_cast<std::size_t>(level.count));
        for (std::size_t i = 0; i < before.size(); ++i) {
            labels[static_cast<std::size_t>(level.of[i])] =
                level.labels[static_cast<std::size_t>(before[i])];
        }
        level.labels = std::move(labels);
        level.slopes = MatrixXd(level.slopes(rows, Eigen::all));
    }
    out.units = picked(design.units, rows);
    out.unitCount = renumber(out.units);
    followUnits(out, design, rows);
    out.unitMoments = picked(design.unitMoments, rows);
    out.time = picked(design.time, rows);
    out.moments = picked(design.moments, rows);
    return out;
}

std::string heldReason(const Design& design) {
    std::string names;
    for (const SweptGrouping& effects : design.effects) {
        names += (names.empty() ? "" : " and ") + effects.name;
        for (const std::string& slope : effects.slopeNames) {
            names += " with its own slope in " + slope;
        }
    }
    return "does not vary once " + names + (design.effects.size() > 1 ? " are" : " is") +
           " held fixed";
}

Result<Design> sweptDesign(Design design, const Job& job) {
    const Index first = design.hasConstant ? 1 : 0;
    const Index k = design.X.cols();
    const Index m = design.Z.cols();
    const Index n = design.y.size();
    // The columns are large: one copy is kept as they were, one is worked on, with the outcome in
    // the constant's place.
    MatrixXd columns = largeMatrix(n, 1 + k - first + m);
    columns.col(0) = design.y;
    columns.middleCols(1, k - first) = design.X.rightCols(k - first);
    if (m > 0) {
        columns.rightCols(m) = design.Z;
    }
    MatrixXd asked = std::move(design.X);
    design.X = MatrixXd();
    auto before = std::make_shared<Design>(design);
    before->X = std::move(asked);
    design.y = VectorXd();
    design.Z = MatrixXd();
    Eigen::RowVectorXd means = Eigen::RowVectorXd::Zero(columns.cols());
    VectorXd length(columns.cols());
    const double total = design.weights.size() > 0 ? design.weights.sum() : static_cast<double>(n);
    // As many chunks as columns, up to the most there are.
    constexpr std::size_t kApart = 16384;
    const RowChunks parts(static_cast<std::size_t>(columns.cols()) * kApart);
    parts.forEach([&](std::size_t part) {
        const auto end = static_cast<Index>(parts[part].end / kApart);
        for (auto j = static_cast<Index>(parts[part].begin / kApart); j < end; ++j) {
            means(j) = design.weights.size() > 0 ? design.weights.dot(columns.col(j)) / total
                                                 : columns.col(j).mean();
            columns.col(j).array() -= means(j);
            length(j) = columns.col(j).norm();
        }
    });
    std::vector<EffectGroups> groupings;
    const SweptGrouping* sloped = nullptr;
    for (const SweptGrouping& effects : design.effects) {
        if (effects.slopes.cols() > 0) {
            sloped = &effects;
        } else {
            groupings.push_back({effects.of.all(), effects.count});
        }
    }
    const auto report = sloped != nullptr
                            ? sweepSlopes(columns, {sloped->of.all(), sloped->count},
                                          sloped->slopes, groupings, design.weights, job)
                            : sweepEffects(columns, groupings, design.weights, job);
    if (!report) {
        return tl::make_unexpected(report.error());
    }
    if (!report->converged) {
        return refuse(ErrorCode::NotConverged,
                      "sweeping out what is held fixed did not settle in " +
                          plural(static_cast<std::size_t>(report->steps), "step", "steps") +
                          ": the largest group mean left is " +
                          shortNumber(report->largestMean, 2) + " standard deviations",
                      "held fixed",
                      "The groupings hang together by a few rows only: hold something coarser "
                      "fixed, or keep the largest connected part.");
    }
    for (Index j = 0; j < columns.cols(); ++j) {
        if (columns.col(j).norm() <= 1e-9 * length(j)) {
            if (j == 0) {
                return refuse(ErrorCode::NoVariation,
                              "the outcome ‘" + design.outcome + "’ " + heldReason(design),
                              "held fixed", "Hold less fixed.", {design.outcome});
            }
            columns.col(j).setZero();
        }
        if (design.hasConstant) {
            columns.col(j).array() += means(j);
        }
    }
    design.y = columns.col(0);
    design.Z = columns.rightCols(m);
    if (design.hasConstant) {
        columns.col(0).setOnes();
        columns.conservativeResize(Eigen::NoChange, k);
    } else {
        columns = MatrixXd(columns.middleCols(1, k));
    }
    design.X = std::move(columns);
    constexpr Index kMany = 1'000'000;
    if (n > kMany) {
        giveBackMemory();  // The tables of the groups are gone; the fit wants the room.
    }
    design.effectsRank = report->rank - (design.hasConstant ? 1.0 : 0.0);
    design.swept = true;
    design.before = std::move(before);
    // Cheap enough to be there for whoever looks at single rows.
    double further = 0.0;
    double largest = 0.0;
    for (const SweptGrouping& effects : design.effects) {
        further += effects.count;
        largest = std::max(largest, static_cast<double>(effects.count));
    }
    further -= sloped != nullptr ? sloped->count : largest;
    constexpr double kCheapLevels = 300.0;
    constexpr double kCheapWork = 3e7;
    if (further == 0.0 ||
        (further <= kCheapLevels && further * static_cast<double>(n) <= kCheapWork)) {
        auto leverage = heldLeverage(*design.before, job);
        if (!leverage) {
            return tl::make_unexpected(leverage.error());
        }
        design.effectsLeverage = *std::move(leverage);
    }
    return design;
}

Result<VectorXd> heldLeverage(const Design& design, const Job& job) {
    const Index n = design.y.size();
    const SweptGrouping* own = nullptr;
    for (const SweptGrouping& effects : design.effects) {
        const bool sloped = effects.slopes.cols() > 0;
        const bool better =
            own == nullptr || sloped || (own->slopes.cols() == 0 && effects.count > own->count);
        own = better ? &effects : own;
    }
    std::vector<EffectGroups> further;
    for (const SweptGrouping& effects : design.effects) {
        if (&effects != own) {
            further.push_back({effects.of.all(), effects.count});
        }
    }
    const MatrixXd slopes = own->slopes.cols() > 0 ? own->slopes : MatrixXd(n, 0);
    auto h = effectsLeverage({own->of.all(), own->count}, slopes, further, design.weights, job);
    if (h && design.hasConstant) {
        // The constant stands among the terms, which count it.
        const double whole =
            design.weights.size() > 0 ? design.weights.sum() : static_cast<double>(n);
        for (Index i = 0; i < n; ++i) {
            (*h)(i) -= (design.weights.size() > 0 ? design.weights(i) : 1.0) / whole;
        }
    }
    return h;
}

Result<std::vector<VectorXd>> effectsHeldFixed(const Fit& fit, const Design& design,
                                               const Job& job) {
    const bool count = fit.likelihood != nullptr && fit.likelihood->family->isPoisson();
    if (design.effects.empty() || (!count && (!design.swept || design.before == nullptr)) ||
        (fit.likelihood != nullptr && !count)) {
        return refuse(ErrorCode::NotBuilt, "this fit estimates no effects of what is held fixed",
                      "", "Hold a grouping fixed in a linear question or a Poisson count.");
    }
    const MatrixXd& X = count ? design.X : design.before->X;
    VectorXd left =
        count ? VectorXd(fit.likelihood->index.col(0)) : VectorXd(design.before->y - fit.residuals);
    if (count && design.offset.size() > 0) {
        left -= design.offset;
    }
    for (const Coefficient& c : fit.coefficients) {
        if (c.column >= 0 && c.equation == "main") {
            left -= c.estimate * X.col(c.column);
        }
    }
    std::vector<EffectGroups> groupings;
    for (const SweptGrouping& effects : design.effects) {
        if (effects.slopes.cols() > 0) {
            if (design.effects.size() > 1) {
                return refuse(ErrorCode::NotBuilt,
                              "with slopes of their own and further effects they are not told "
                              "apart yet",
                              "", "Hold the one grouping fixed alone.");
            }
            return std::vector<VectorXd>{left};
        }
        groupings.push_back({effects.of.all(), effects.count});
    }
    // Of a count the index is worked out under the weights of the last step; what it holds is
    // exact.
    const auto effects = groupEffects(left, groupings, design.weights, job);
    if (!effects) {
        return tl::make_unexpected(effects.error());
    }
    std::vector<VectorXd> out;
    for (std::size_t d = 0; d < groupings.size(); ++d) {
        VectorXd rows(left.size());
        for (Index i = 0; i < rows.size(); ++i) {
            rows(i) = (*effects)[d](groupings[d].of[static_cast<std::size_t>(i)]);
        }
        out.push_back(std::move(rows));
    }
    return out;
}

Result<Design> betweenDesign(const Design& design) {
    if (design.units.empty()) {
        return needsPanel();
    }
    std::vector<Index> firsts(static_cast<std::size_t>(design.unitCount), -1);
    for (Index i = design.y.size() - 1; i >= 0; --i) {
        firsts[static_cast<std::size_t>(design.units[static_cast<std::size_t>(i)])] = i;
    }
    // A clustering must hold whole units: what a unit is in at its first row.
    Design out = withRows(design, firsts);
    VectorXd sizes;
    out.X = unitMeans(design, design.X, sizes);
    out.y = unitMeans(design, design.y, sizes);
    if (design.Z.cols() > 0) {
        out.Z = unitMeans(design, design.Z, sizes);
    }
    out.unitMoments.clear();
    out.effects.clear();
    if (out.weightKind == WeightKind::Sampling) {
        out.weights /= out.weights.mean();
    }
    if (out.y.maxCoeff() == out.y.minCoeff()) {
        return refuse(ErrorCode::NoVariation, "the units’ means of the outcome are all the same",
                      "method", "Compare within units.");
    }
    return out;
}

Result<Design> differencedDesign(const Design& design) {
    if (design.units.empty() || design.unitMoments.empty()) {
        return needsPanel();
    }
    std::unordered_map<std::int64_t, Index> at;
    const auto key = [&](std::int32_t unit, std::int64_t moment) {
        return moment * (static_cast<std::int64_t>(design.unitCount) + 1) + unit;
    };
    for (std::size_t i = 0; i < design.units.size(); ++i) {
        if (!at.emplace(key(design.units[i], design.unitMoments[i]), static_cast<Index>(i))
                 .second) {
            return refuse(ErrorCode::BadSetting, "a unit has two rows at one moment", "method",
                          "See What a row is in Data.");
        }
    }
    std::vector<Index> later;
    std::vector<Index> earlier;
    for (std::size_t i = 0; i < design.units.size(); ++i) {
        const auto found = at.find(key(design.units[i], design.unitMoments[i] - 1));
        if (found != at.end()) {
            later.push_back(static_cast<Index>(i));
            earlier.push_back(found->second);
        }
    }
    if (later.empty()) {
        return refuse(ErrorCode::TooFewRows, "no unit has two moments in a row", "method",
                      "Compare within units instead.");
    }
    Design out = withRows(design, later);
    const Index first = design.hasConstant ? 1 : 0;
    out.y -= design.y(earlier);
    for (Index j = first; j < out.X.cols(); ++j) {
        for (std::size_t i = 0; i < earlier.size(); ++i) {
            out.X(static_cast<Index>(i), j) -= design.X(earlier[i], j);
        }
    }
    for (Index j = 0; j < out.Z.cols(); ++j) {
        for (std::size_t i = 0; i < earlier.size(); ++i) {
            out.Z(static_cast<Index>(i), j) -= design.Z(earlier[i], j);
        }
    }
    if (out.weightKind == WeightKind::Sampling) {
        out.weights /= out.weights.mean();
    }
    return out;
}

Result<VarianceParts> varianceParts(const Design& design, const Job& job) {
    if (design.units.empty()) {
        return needsPanel();
    }
    Design within = design;
    within.effects = {{"unit", design.units, design.unitCount}};
    auto swept = sweptDesign(std::move(within), job);
    if (!swept) {
        return tl::make_unexpected(swept.error());
    }
    const auto weights = unitWeights(design);
    if (!weights) {
        return tl::make_unexpected(weights.error());
    }
    const auto inner =
        solveLinear({swept->X, swept->y, swept->weights, design.hasConstant}, false, job);
    if (!inner) {
        return tl::make_unexpected(inner.error());
    }
    const double n = static_cast<double>(design.y.size());
    const double k = static_cast<double>(inner->kept.size());
    const double left = n - k - swept->effectsRank;
    VectorXd sizes;
    const MatrixXd X = unitMeans(design, design.X, sizes);
    const VectorXd y = unitMeans(design, design.y, sizes);
    const VectorXd outerWeights =
        weights->size() > 0 ? VectorXd(sizes.cwiseProduct(*weights)) : sizes;
    const LinearProblem problem{X, y, outerWeights, design.hasConstant};
    const auto outer = solveLinear(problem, false, job);
    if (!outer) {
        return tl::make_unexpected(outer.error());
    }
    const double units = design.unitCount;
    const double columns = static_cast<double>(outer->kept.size());
    if (left < 1.0 || units - columns < 1.0) {
        return refuse(ErrorCode::TooFewRows,
                      plural(static_cast<std::size_t>(units), "unit", "units") +
                          " cannot tell the spread between units from that within",
                      "method", "Take terms out, or compare within units.");
    }
    VarianceParts out;
    out.rest = inner->residualSquares / left;
    const VectorXd h = leverages(problem, *outer);
    const double trace = sizes.dot(h);
    out.unit = (outer->residualSquares - (units - columns) * out.rest) / (n - trace);
    out.negative = out.unit < 0.0;
    out.unit = std::max(out.unit, 0.0);
    return out;
}

Result<Fit> fitWithin(const Design& design, const EstimatorSettings& /*settings*/,
                      const ErrorSpec& errors, double alpha, const Job& job) {
    auto fit = fitLeastSquares(design, errors, alpha, job);
    if (fit && design.before != nullptr && !design.units.empty()) {
        fillPanelRSquared(*fit, *design.before);
        // What the terms explain within units is this method’s own R².
        fit->statistics.within = 1.0 - fit->statistics.rss / fit->statistics.tss;
        fit->statistics.rSquared = fit->statistics.within;
        fit->statistics.adjustedRSquared =
            1.0 - (fit->statistics.rss / fit->dfResidual) /
                      (fit->statistics.tss / (fit->n - 1.0 - design.effectsRank));
        fit->panel = std::make_shared<const PanelFit>(panelFitOf(*design.before));
    }
    return fit;
}

Result<Fit> fitBetween(const Design& design, const EstimatorSettings& /*settings*/,
                       const ErrorSpec& errors, double alpha, const Job& job) {
    if (auto weights = unitWeights(design); !weights) {
        return tl::make_unexpected(weights.error());
    }
    if (!design.effects.empty()) {
        return refuse(ErrorCode::BadSetting,
                      "a unit’s mean mixes what is held fixed: nothing can be held fixed here",
                      "held fixed", "Take it out, or compare within units.");
    }
    auto made = betweenDesign(design);
    if (!made) {
        return tl::make_unexpected(made.error());
    }
    return fitMade(design, *std::move(made), panelFitOf(design), errors, alpha, job);
}

Result<Fit> fitFirstDifference(const Design& design, const EstimatorSettings& /*settings*/,
                               const ErrorSpec& errors, double alpha, const Job& job) {
    if (auto weights = unitWeights(design); !weights) {
        return tl::make_unexpected(weights.error());
    }
    auto made = differencedDesign(design);
    if (!made) {
        return tl::make_unexpected(made.error());
    }
    PanelFit panel = panelFitOf(design);
    panel.pairs = made->rows.size();
    return fitMade(design, *std::move(made), panel, errors, alpha, job);
}

Result<Fit> fitRandom(const Design& design, const EstimatorSettings& /*settings*/,
                      const ErrorSpec& errors, double alpha, const Job& job) {
    if (!design.effects.empty()) {
        return refuse(ErrorCode::BadSetting,
                      "effects are either held fixed or taken as random, not both", "method",
                      "Take out what is held fixed, or compare within units.");
    }
    const auto parts = varianceParts(design, job);
    if (!parts) {
        return tl::make_unexpected(parts.error());
    }
    VectorXd sizes;
    const MatrixXd X = unitMeans(design, design.X, sizes);
    const VectorXd y = unitMeans(design, design.y, sizes);
    PanelFit panel = panelFitOf(design);
    panel.sigmaUnit = std::sqrt(parts->unit);
    panel.sigmaRest = std::sqrt(parts->rest);
    panel.thetaLow = 1.0;
    Design made = design;
    for (Index i = 0; i < made.y.size(); ++i) {
        const auto unit = design.units[static_cast<std::size_t>(i)];
        const double theta =
            parts->rest > 0.0
                ? 1.0 - std::sqrt(parts->rest / (sizes(unit) * parts->unit + parts->rest))
                : 1.0;
        panel.thetaLow = std::min(panel.thetaLow, theta);
        panel.thetaHigh = std::max(panel.thetaHigh, theta);
        made.y(i) -= theta * y(unit);
        made.X.row(i) -= theta * X.row(unit);
    }
    // The constant became 1 − θ: a column like others.
    made.hasConstant = false;
    const LinearProblem problem{made.X, made.y, made.weights, false};
    auto solution = solveLinear(problem, false, job);
    if (!solution) {
        return tl::make_unexpected(solution.error());
    }
    made.before = std::make_shared<const Design>(design);
    GivenSolution given{made.X, *std::move(solution)};
    given.df = std::numeric_limits<double>::infinity();
    auto fit = fitGiven(made, std::move(given), errors, alpha, job);
    if (fit) {
        fit->ofShares = true;
        standardiseByRows(*fit, design);
        fillPanelRSquared(*fit, design);
        fit->statistics.rSquared = fit->statistics.overall;
        fit->panel = std::make_shared<const PanelFit>(panel);
        if (parts->negative) {
            fit->notes.emplace_back(
                "The estimated spread between units was negative and is taken as zero: this is "
                "least squares of the rows as they are.");
        }
        fit->linearised = std::make_shared<const Design>(std::move(made));
    }
    return fit;
}

}  // namespace rapporto
