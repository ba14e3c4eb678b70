#include "core/defend/by_lot.h"

#include "core/base/format.h"
#include "core/base/parallel.h"
#include "core/data/grouping.h"
#include "core/defend/lots.h"
#include "core/expression/expression.h"
#include "core/model/names_behind.h"
#include "core/model/term_test.h"
#include "core/numerics/kernels.h"
#include "core/numerics/random.h"
#include "core/numerics/sweep_effects.h"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr int kBlock = 64;  ///< Lots a task.
/// Lots that are as loud but for rounding are as loud.
constexpr double kTie = 1e-9;

/// Which columns of X a cause has, and what it is in each row before anything is taken out.
struct Cause {
    const DesignTerm* term = nullptr;
    std::vector<Index> columns;
    MatrixXd values;  ///< n × as many.
};

/// The variables behind a term.
std::set<std::string> behind(const Frame& frame, const DesignTerm& term) {
    std::set<std::string> out;
    for (const DesignFactor& factor : term.factors) {
        out.merge(namesBehind(frame, factor.text));
    }
    return out;
}

Result<Cause> causeOf(const Frame& frame, const Design& design, const Fit& fit,
                      const std::string& of) {
    const std::string wanted = canonicalText(of);
    Cause out;
    for (const DesignTerm& term : design.terms) {
        const bool named = term.name == wanted || term.name == of ||
                           std::any_of(term.columns.begin(), term.columns.end(), [&](Index column) {
                               const auto& name =
                                   design.columns[static_cast<std::size_t>(column)].name;
                               return name == wanted || name == of;
                           });
        if (named) {
            out.term = &term;
        }
    }
    if (out.term == nullptr) {
        return refuse(ErrorCode::UnknownName, "‘" + of + "’ is no term of this question", "by lot",
                      "Name one of its terms.", {of});
    }
    if (out.term->isProduct) {
        return refuse(ErrorCode::BadSetting, "‘" + of + "’ is a product: no single cause is drawn",
                      "by lot", "Name one of its parts, in a question without the product.", {of});
    }
    const std::set<std::string> own = behind(frame, *out.term);
    for (const DesignTerm& other : design.terms) {
        const std::set<std::string> its = behind(frame, other);
        if (&other != out.term && std::any_of(its.begin(), its.end(), [&](const std::string& name) {
                return own.contains(name);
            })) {
            return refuse(ErrorCode::BadSetting,
                          "‘" + other.name + "’ moves with ‘" + out.term->name +
                              "’, so that no lot can change the one alone",
                          "by lot", "Ask it of a variant without " + other.name + ".", {of});
        }
    }
    for (const Index column : out.term->columns) {
        if (std::find(fit.solution.kept.begin(), fit.solution.kept.end(), column) !=
            fit.solution.kept.end()) {
            out.columns.push_back(column);
        }
    }
    if (out.columns.size() != out.term->columns.size()) {
        return refuse(ErrorCode::BadSetting,
                      "the other terms already say what ‘" + out.term->name + "’ is", "by lot",
                      "Take out a term that says the same.", {of});
    }
    const Design& raw = design.swept && design.before ? *design.before : design;
    out.values = raw.X(Eigen::all, out.columns);
    return out;
}

/// What a lot is compared by: the outcome, and the columns that every lot has to leave out, all of
/// them with what the question holds fixed taken out.
class Comparison {
  public:
    static Result<Comparison> make(const Design& design, const Fit& fit, const Cause& cause,
                                   const Job& job) {
        Comparison out(design);
        // Swept columns have their means back, which what is held fixed says already.
        const bool centred = design.swept;
        const bool constant = design.hasConstant && !centred;
        MatrixXd columns(design.X.rows(), 0);
        std::vector<Index> kept;
        for (const Index column : fit.solution.kept) {
            const bool own = std::find(cause.columns.begin(), cause.columns.end(), column) !=
                             cause.columns.end();
            if (!own && !(centred && design.hasConstant && column == 0)) {
                kept.push_back(column);
            }
        }
        columns = design.X(Eigen::all, kept);
        VectorXd y = design.y;
        MatrixXd causes = design.X(Eigen::all, cause.columns);
        if (centred) {
            out.centre(columns);
            out.centre(causes);
            y.array() -= out.meanOf(y);
        }
        if (columns.cols() == 0) {
            out.outcome_ = std::move(y);
            out.basis_ = std::move(columns);
            out.cause_ = std::move(causes);
            return out;
        }
        const ColumnsView others(columns);
        const LinearProblem problem{others, y, design.weights, constant};
        const auto left = solveLinear(problem, false, job);
        if (!left) {
            return tl::make_unexpected(left.error());
        }
        out.outcome_ = left->residuals;
        out.basis_ = orthonormalColumns(others, *left);
        out.cause_.resize(design.X.rows(), static_cast<Index>(cause.columns.size()));
        for (std::size_t c = 0; c < cause.columns.size(); ++c) {
            const VectorXd column = causes.col(static_cast<Index>(c));
            const auto of =
                solveOther(LinearProblem{others, column, design.weights, constant}, *left, job);
            if (!of) {
                return tl::make_unexpected(of.error());
            }
            out.cause_.col(static_cast<Index>(c)) = of->residuals;
        }
        return out;
    }

    /// Products of a lot: with the outcome, with itself, with the cause as it was.
    struct Products {
        VectorXd outcome;
        MatrixXd own;
        double cause = 0.0;  ///< Of one column.
    };

    /// Of the cause itself.
    [[nodiscard]] Products ofCause() const {
        const MatrixXd weighted = weightedRows(cause_);
        Products out{weighted.transpose() * outcome_, weighted.transpose() * cause_, 0.0};
        out.cause = out.own(0, 0);
        return out;
    }

    [[nodiscard]] const VectorXd& outcome() const { return outcome_; }

    [[nodiscard]] const MatrixXd& basis() const { return basis_; }

    [[nodiscard]] const MatrixXd& cause() const { return cause_; }

    [[nodiscard]] double weight(Index row) const {
        return design_->weights.size() == 0 ? 1.0 : design_->weights(row);
    }

    [[nodiscard]] MatrixXd weightedRows(const MatrixXd& of) const {
        return design_->weights.size() == 0
                   ? of
                   : MatrixXd(of.array().colwise() * design_->weights.array());
    }

  private:
    explicit Comparison(const Design& design) : design_(&design) {}

    [[nodiscard]] double meanOf(const VectorXd& of) const {
        return design_->weights.size() == 0 ? of.mean()
                                            : of.dot(design_->weights) / design_->weights.sum();
    }

    void centre(MatrixXd& of) const {
        for (Index c = 0; c < of.cols(); ++c) {
            of.col(c).array() -= meanOf(of.col(c));
        }
    }

    const Design* design_;
    VectorXd outcome_;  ///< What the other terms leave of it.
    MatrixXd basis_;    ///< Orthonormal under the weights.
    MatrixXd cause_;    ///< What they leave of the cause.
};

/// How loudly a lot speaks, and where it is as loud as the cause if that had an effect.
struct Loudness {
    double square = 0.0;    ///< What it tells of the outcome's squares.
    double estimate = 0.0;  ///< Its effect; of a grouping the share it tells.
    double numerator = 0.0;
    double slope = 0.0;
};

Loudness loudnessOf(const Comparison::Products& products, double scale) {
    Loudness out;
    if (products.own.rows() == 1) {
        const double own = products.own(0, 0);
        if (own > 1e-12 * scale) {
            const double root = std::sqrt(own);
            out.numerator = products.outcome(0) / root;
            out.slope = products.cause / root;
            out.square = out.numerator * out.numerator;
            out.estimate = products.outcome(0) / own;
        }
        return out;
    }
    // Levels that a lot has made redundant tell nothing of their own.
    const Eigen::SelfAdjointEigenSolver<MatrixXd> eigen(products.own);
    const double least = 1e-10 * std::max(eigen.eigenvalues().maxCoeff(), 0.0);
    for (Index i = 0; i < eigen.eigenvalues().size(); ++i) {
        if (eigen.eigenvalues()(i) > least) {
            const double along = eigen.eigenvectors().col(i).dot(products.outcome);
            out.square += along * along / eigen.eigenvalues()(i);
        }
    }
    out.estimate = out.square;
    return out;
}

/// Products of lots by sums over units: every unit's rows have one lot, and at most one grouping is
/// held fixed.
class BySums {
  public:
    BySums(const Comparison& comparison, const Design& design, const Lots& lots)
        : lots_(lots), basis_(comparison.basis().cols()), stride_(strideOf(basis_ + 2)) {
        const auto units = static_cast<std::size_t>(lots.units());
        sums_.assign(units * static_cast<std::size_t>(stride_), 0.0);
        weights_.assign(units, 0.0);
        const bool held = design.effects.size() == 1;
        groupWeights_ = VectorXd::Zero(held ? design.effects[0].count : 0);
        std::vector<std::vector<std::pair<std::int32_t, double>>> shares(held ? units : 0);
        for (Index i = 0; i < design.y.size(); ++i) {
            const auto unit = static_cast<std::size_t>(lots.unitOf(i));
            const double w = comparison.weight(i);
            double* at = &sums_[unit * static_cast<std::size_t>(stride_)];
            at[0] += w * comparison.outcome()(i);
            at[1] += w * comparison.cause()(i, 0);
            weights_[unit] += w;
            for (Index q = 0; q < basis_; ++q) {
                at[q + 2] += w * comparison.basis()(i, q);
            }
            if (held) {
                const std::int32_t group = design.effects[0].of[static_cast<std::size_t>(i)];
                groupWeights_(group) += w;
                if (shares[unit].empty() || shares[unit].back().first != group) {
                    shares[unit].emplace_back(group, 0.0);
                }
                shares[unit].back().second += w;
            }
        }
        alike_ = std::adjacent_find(weights_.begin(), weights_.end(), std::not_equal_to<>()) ==
                 weights_.end();
        for (const auto& of : shares) {
            shareFrom_.push_back(shares_.size());
            shares_.insert(shares_.end(), of.begin(), of.end());
        }
        shareFrom_.push_back(shares_.size());
        // Where everybody has the usual label.
        base_ = zero();
        for (std::int32_t unit = 0; unit < lots.units(); ++unit) {
            add(&unit, 1, lots.usual(unit), 1.0, base_);
        }
    }

    [[nodiscard]] Comparison::Products operator()(const Lots::Lot& lot) const {
        Sums at = base_;
        for (const Lots::Run& run : lot.runs) {
            const std::int32_t* units = lot.units.data() + run.from;
            const VectorXd sum = sumOf(units, run.count);
            put(sum, units, run.count, run.usual, -1.0, at);
            put(sum, units, run.count, run.label, 1.0, at);
        }
        Comparison::Products out;
        out.outcome = at.rows.row(0).transpose();
        out.cause = at.rows(1, 0);
        const auto along = at.rows.middleRows(2, basis_);
        out.own = at.own - along.transpose() * along;
        if (groupWeights_.size() > 0) {
            out.own -= at.groups.transpose() *
                       (at.groups.array().colwise() / groupWeights_.array()).matrix();
        }
        return out;
    }

  private:
    /// Fours are added up side by side; rows that lie a power of two apart share their places in
    /// the cache.
    static Index strideOf(Index columns) {
        const Index fours = (columns + 3) / 4;
        return 4 * (fours % 4 == 0 ? fours + 1 : fours);
    }

    /// Of each column of the cause: sums over rows, squares, sums over the groups held fixed.
    struct Sums {
        MatrixXd rows;
        MatrixXd own;
        MatrixXd groups;
    };

    [[nodiscard]] Sums zero() const {
        return {MatrixXd::Zero(stride_, lots_.columns()),
                MatrixXd::Zero(lots_.columns(), lots_.columns()),
                MatrixXd::Zero(groupWeights_.size(), lots_.columns())};
    }

    [[nodiscard]] VectorXd sumOf(const std::int32_t* units, std::size_t count) const {
        VectorXd out(stride_);
        kernels::sumRows(out.data(), sums_.data(), stride_, units, static_cast<Index>(count));
        return out;
    }

    [[nodiscard]] double weightOf(const std::int32_t* units, std::size_t count) const {
        if (alike_) {
            return weights_.front() * static_cast<double>(count);
        }
        double out = 0.0;
        for (std::size_t k = 0; k < count; ++k) {
            out += weights_[static_cast<std::size_t>(units[k])];
        }
        return out;
    }

    void add(const std::int32_t* units, std::size_t count, int label, double sign, Sums& at) const {
        put(sumOf(units, count), units, count, label, sign, at);
    }

    /// Units of that label, whose rows add up to `sum`.
    void put(const VectorXd& sum, const std::int32_t* units, std::size_t count, int label,
             double sign, Sums& at) const {
        for (Index c = 0; c < lots_.columns(); ++c) {
            const double value = lots_.value(label, c);
            if (value == 0.0) {
                continue;
            }
            at.rows.col(c) += (sign * value) * sum;
            at.own(c, c) += sign * value * value * weightOf(units, count);
            for (std::size_t k = 0; groupWeights_.size() > 0 && k < count; ++k) {
                const auto unit = static_cast<std::size_t>(units[k]);
                for (std::size_t s = shareFrom_[unit]; s < shareFrom_[unit + 1]; ++s) {
                    at.groups(shares_[s].first, c) += sign * value * shares_[s].second;
                }
            }
        }
    }

    const Lots& lots_;
    Index basis_;
    Index stride_;              ///< Outcome, cause and basis, filled up with zeros.
    std::vector<double> sums_;  ///< A row a unit.
    std::vector<double> weights_;
    bool alike_ = true;                                    ///< All units weigh the same.
    std::vector<std::pair<std::int32_t, double>> shares_;  ///< Groups held fixed, with weights …
    std::vector<std::size_t> shareFrom_;                   ///< … of each unit.
    VectorXd groupWeights_;
    Sums base_;
};

/// Products of lots row by row, with what is held fixed swept out of each: courses of units, and
/// several groupings.
class ByRows {
  public:
    ByRows(const Comparison& comparison, const Design& design, const Lots& lots)
        : comparison_(comparison), design_(design), lots_(lots) {
        for (const SweptGrouping& grouping : design.effects) {
            groupings_.push_back({grouping.of.all(), grouping.count});
        }
        outcome_ = comparison.weightedRows(comparison.outcome());
        cause_ = comparison.weightedRows(comparison.cause());
        basis_ = comparison.weightedRows(comparison.basis());
    }

    /// Of some lots at once. @return Stopped.
    [[nodiscard]] Result<std::vector<Comparison::Products>> operator()(
        const std::vector<std::vector<int>>& labels, const Job& job) const {
        const Index n = design_.y.size();
        const Index g = lots_.columns();
        MatrixXd columns(n, g * static_cast<Index>(labels.size()));
        for (std::size_t k = 0; k < labels.size(); ++k) {
            for (Index i = 0; i < n; ++i) {
                const int label = labels[k][static_cast<std::size_t>(lots_.unitOf(i))];
                for (Index c = 0; c < g; ++c) {
                    columns(i, static_cast<Index>(k) * g + c) = lots_.valueAt(label, i, c);
                }
            }
        }
        if (!groupings_.empty()) {
            const auto swept = sweepEffects(columns, groupings_, design_.weights, job);
            if (!swept) {
                return tl::make_unexpected(swept.error());
            }
        }
        const MatrixXd withOutcome = columns.transpose() * outcome_;
        const MatrixXd withCause = columns.transpose() * cause_;
        const MatrixXd along = basis_.transpose() * columns;
        std::vector<Comparison::Products> out;
        for (std::size_t k = 0; k < labels.size(); ++k) {
            const Index from = static_cast<Index>(k) * g;
            const auto own = columns.middleCols(from, g);
            const auto shared = along.middleCols(from, g);
            Comparison::Products one;
            one.outcome = withOutcome.middleRows(from, g);
            one.cause = withCause(from, 0);
            one.own = comparison_.weightedRows(own).transpose() * own - shared.transpose() * shared;
            out.push_back(std::move(one));
        }
        return out;
    }

  private:
    const Comparison& comparison_;
    const Design& design_;
    const Lots& lots_;
    std::vector<EffectGroups> groupings_;
    VectorXd outcome_;
    MatrixXd cause_;
    MatrixXd basis_;
};

/// All lots, in the order of their numbers.
Result<std::vector<Loudness>> allLots(const Comparison& comparison, const Design& design,
                                      const Lots& lots, int draws, bool exact, std::uint64_t seed,
                                      double scale, const Job& job) {
    std::vector<Loudness> out(static_cast<std::size_t>(draws));
    const bool summed = !lots.paths() && design.effects.size() <= 1;
    std::optional<BySums> sums;
    std::optional<ByRows> rows;
    if (summed) {
        sums.emplace(comparison, design, lots);
    } else {
        rows.emplace(comparison, design, lots);
    }
    // So many columns at once as stay in memory beside the rows.
    constexpr double kMostCells = 4e6;
    const auto together = static_cast<std::size_t>(std::clamp(
        kMostCells / (static_cast<double>(design.y.size()) * static_cast<double>(lots.columns())),
        1.0, static_cast<double>(kBlock)));
    const int blocks = (draws + kBlock - 1) / kBlock;
    std::atomic<int> done{0};
    std::atomic<bool> failed{false};
    inParallel(static_cast<std::size_t>(blocks), [&](std::size_t block) {
        if (job.stopped() || failed) {
            return;
        }
        const int first = static_cast<int>(block) * kBlock;
        const int last = std::min(draws, first + kBlock);
        Lots::Lot lot;
        std::vector<std::vector<int>> labels;
        for (int number = first; number < last && !job.stopped(); ++number) {
            if (exact) {
                lots.list(number, lot);
            } else {
                lots.draw(RandomStream(seed, static_cast<std::uint64_t>(number)), lot);
            }
            if (summed) {
                out[static_cast<std::size_t>(number)] = loudnessOf((*sums)(lot), scale);
                continue;
            }
            labels.push_back(lots.labelsOf(lot));
            if (labels.size() < together && number + 1 < last) {
                continue;
            }
            const auto products = (*rows)(labels, job.quiet());
            if (!products) {
                failed = true;
                return;
            }
            for (std::size_t k = 0; k < products->size(); ++k) {
                out[static_cast<std::size_t>(number) + 1 - products->size() + k] =
                    loudnessOf((*products)[k], scale);
            }
            labels.clear();
        }
        job.report(static_cast<double>(++done) / blocks);
    });
    if (job.stopped() || failed) {
        return tl::make_unexpected(
            Refusal{ErrorCode::Stopped, "drawing lots was stopped", "by lot", "", {}});
    }
    return out;
}

/// The k-th largest, or absent.
std::optional<double> kthLargest(std::vector<double> values, std::size_t k) {
    if (k == 0 || k > values.size()) {
        return std::nullopt;
    }
    const auto at = values.begin() + static_cast<std::ptrdiff_t>(k - 1);
    std::nth_element(values.begin(), at, values.end(), std::greater<>());
    return std::isfinite(*at) ? std::optional(*at) : std::nullopt;
}

/// Effects that are not rejected: of each lot those at which it is at least as loud as the cause.
/// It is so between the two roots of |a − τc| = |a₀ − τc₀|, since |c| ≤ c₀.
void invert(ByLot& out, const std::vector<Loudness>& lots, const Loudness& own, double alpha) {
    std::vector<double> highs;
    std::vector<double> lows;
    const auto root = [](double above, double below) {
        return below == 0.0 ? std::numeric_limits<double>::quiet_NaN() : above / below;
    };
    for (const Loudness& lot : lots) {
        const double flat = 1e-9 * own.slope;
        double one = root(own.numerator - lot.numerator, own.slope - lot.slope);
        double other = root(own.numerator + lot.numerator, own.slope + lot.slope);
        if (own.slope - lot.slope <= flat || own.slope + lot.slope <= flat) {
            // The same lot, or its opposite: as loud whatever the effect.
            one = -std::numeric_limits<double>::infinity();
            other = std::numeric_limits<double>::infinity();
        }
        highs.push_back(std::max(one, other));
        lows.push_back(-std::min(one, other));
    }
    const auto n = static_cast<double>(lots.size());
    const double k =
        out.exact ? std::floor(alpha * n + kTie) + 1.0 : std::floor(alpha * (n + 1.0) + kTie);
    out.high = kthLargest(std::move(highs), static_cast<std::size_t>(k));
    out.low = kthLargest(std::move(lows), static_cast<std::size_t>(k));
    if (out.low) {
        out.low = -*out.low;
    }
}

std::optional<double> lawOf(const Design& design, const Fit& fit, const Cause& cause) {
    for (std::size_t t = 0; t < design.terms.size(); ++t) {
        if (&design.terms[t] == cause.term) {
            const auto test = testTerm(fit, static_cast<int>(t));
            return test ? std::optional(test->p) : std::nullopt;
        }
    }
    return std::nullopt;
}

}  // namespace

bool canDrawLots(const Design& design, const Fit& fit) {
    const bool linear = fit.likelihood == nullptr && fit.quantile == nullptr &&
                        fit.robust == nullptr && fit.instrumented == nullptr &&
                        fit.dynamic == nullptr && fit.levels == nullptr && fit.event == nullptr &&
                        fit.pooled == nullptr && !fit.bent;
    const bool asTheyAre = !fit.ofShares && (design.swept || design.before == nullptr) &&
                           (design.swept || fit.linearised == nullptr);
    const bool ownSlopes =
        std::any_of(design.effects.begin(), design.effects.end(),
                    [](const SweptGrouping& effect) { return effect.slopes.cols() > 0; });
    return linear && asTheyAre && !ownSlopes && design.weightKind != WeightKind::Frequency &&
           !fit.exact && !design.terms.empty();
}

Result<ByLot> byLot(const Frame& frame, const Design& design, const Fit& fit,
                    const LotRequest& request, std::uint64_t seed, double alpha, const Job& job) {
    if (!canDrawLots(design, fit)) {
        return refuse(ErrorCode::BadSetting,
                      "lots are drawn for one linear equation of rows as they are, and this "
                      "question is another",
                      "by lot",
                      "Ask it of a variant by least squares, without slopes of units and without "
                      "frequency weights.");
    }
    const auto cause = causeOf(frame, design, fit, request.of);
    if (!cause) {
        return tl::make_unexpected(cause.error());
    }
    const auto lots = Lots::make(frame, design, cause->values, cause->term->groups, request);
    if (!lots) {
        return tl::make_unexpected(lots.error());
    }
    const auto comparison = Comparison::make(design, fit, *cause, job);
    if (!comparison) {
        return tl::make_unexpected(comparison.error());
    }
    ByLot out;
    out.of = cause->term->name;
    out.drawn = lots->shown();
    out.paths = lots->paths();
    out.joint = cause->columns.size() > 1;
    out.exact = lots->different() <= static_cast<double>(request.draws);
    out.draws = out.exact ? static_cast<int>(lots->different()) : request.draws;
    const Comparison::Products products = comparison->ofCause();
    const double scale = products.own.trace();
    const Loudness own = loudnessOf(products, scale);
    const auto all = allLots(*comparison, design, *lots, out.draws, out.exact,
                             request.seed.value_or(seed), scale, job);
    if (!all) {
        return tl::make_unexpected(all.error());
    }
    const auto louder =
        static_cast<double>(std::count_if(all->begin(), all->end(), [&](const Loudness& lot) {
            return lot.square >= own.square * (1.0 - kTie);
        }));
    out.p = out.exact ? louder / out.draws : (1.0 + louder) / (1.0 + out.draws);
    const double total =
        comparison->weightedRows(comparison->outcome()).cwiseProduct(comparison->outcome()).sum();
    const auto width = static_cast<double>(cause->columns.size());
    const double f = (own.square / width) / ((total - own.square) / fit.dfResidual);
    out.statistic = out.joint ? f : std::copysign(std::sqrt(f), own.numerator);
    out.lawP = lawOf(design, fit, *cause);
    for (const Loudness& lot : *all) {
        out.lots.push_back(out.joint
                               ? (lot.square / width) / ((total - lot.square) / fit.dfResidual)
                               : lot.estimate);
    }
    if (!out.joint) {
        out.estimate = own.numerator / own.slope;
        invert(out, *all, own, alpha);
    }
    return out;
}

}  // namespace rapporto
