#include "core/describe/calibration.h"

#include "core/base/format.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// A total is hit: in shares, and in means over their spread.
constexpr double kHit = 1e-10;

tl::unexpected<Refusal> bad(const std::string& cause, const std::string& next,
                            const std::string& variable) {
    return refuse(ErrorCode::BadSetting, cause, "targets", next, {variable});
}

Result<void> takeShares(KnownColumns::Part& part, const KnownTotal& target, const Frame& frame) {
    const Column& column = *frame.column(target.variable);
    const auto found = levelsOf(column, *frame.variable(target.variable));
    double sum = 0.0;
    for (const auto& [level, share] : target.shares) {
        if (!(share >= 0.0)) {
            return bad("the share of ‘" + level + "’ is below zero",
                       "Shares are zero or more, and sum to one.", target.variable);
        }
        sum += share;
    }
    if (std::abs(sum - 1.0) > KnownColumns::kRounding) {
        return bad("the shares of ‘" + target.variable + "’ sum to " + shortNumber(sum, 4),
                   "They tell of everyone: add the levels that are missing, or write them as "
                   "parts of one.",
                   target.variable);
    }
    std::map<double, std::int32_t> cellOf;
    for (const auto& [name, share] : target.shares) {
        const auto is = [&name = name](std::string FoundLevel::*what) {
            return [&name, what](const FoundLevel& level) { return level.*what == name; };
        };
        auto level = std::find_if(found.begin(), found.end(), is(&FoundLevel::label));
        level = level != found.end()
                    ? level
                    : std::find_if(found.begin(), found.end(), is(&FoundLevel::value));
        if (level == found.end()) {
            if (share == 0.0) {
                continue;
            }
            return bad("no row has ‘" + name + "’ as its ‘" + target.variable +
                           "’, so no weights can give it a share of " + shortNumber(share, 4),
                       "Add its share to that of a level like it.", target.variable);
        }
        if (!cellOf.emplace(level->code, static_cast<std::int32_t>(part.levels.size())).second) {
            return bad("‘" + name + "’ has two shares", "Leave one of them.", target.variable);
        }
        part.levels.push_back(level->label);
        part.shares.push_back(share / sum);
    }
    for (const FoundLevel& level : found) {
        if (!cellOf.contains(level.code)) {
            return bad(countText(level.count) + " rows have ‘" + level.label + "’ as their ‘" +
                           target.variable + "’, and its share is not known",
                       "Give each level a share, or bring levels together first.", target.variable);
        }
    }
    part.cells.assign(frame.rows(), -1);
    for (std::size_t i = 0; i < part.cells.size(); ++i) {
        if (!column.isMissing(i)) {
            part.cells[i] = cellOf.at(column.isText() ? column.codes()[i] : column.numbers()[i]);
        }
    }
    return {};
}

Result<void> takeMean(KnownColumns::Part& part, const KnownTotal& target, const Frame& frame) {
    const Column& column = *frame.column(target.variable);
    if (column.isText()) {
        return refuse(ErrorCode::WrongType,
                      "‘" + target.variable + "’ holds text, which has no mean", "targets",
                      "Give the shares of its levels.", {target.variable});
    }
    part.values.assign(column.numbers().begin(), column.numbers().end());
    part.mean = *target.mean;
    double squares = 0.0;
    std::size_t n = 0;
    for (const double v : part.values) {
        if (!std::isnan(v)) {
            squares += (v - part.mean) * (v - part.mean);
            ++n;
        }
    }
    part.spread = squares > 0.0 ? std::sqrt(squares / static_cast<double>(n)) : 1.0;
    return {};
}

/// The ratio of new to old weight as a function of u = x'λ, its slope and its integral.
class Distance {
  public:
    explicit Distance(const Survey& survey)
        : linear_(survey.calibration == "linear"), bounded_(survey.bounds.has_value()) {
        if (bounded_) {
            low_ = survey.bounds->first;
            high_ = survey.bounds->second;
            pace_ = (high_ - low_) / ((1.0 - low_) * (high_ - 1.0));
        }
    }

    [[nodiscard]] double ratio(double u) const {
        if (linear_) {
            return bounded_ ? std::clamp(1.0 + u, low_, high_) : 1.0 + u;
        }
        return bounded_ ? low_ + (high_ - low_) * rise(u) : std::exp(u);
    }

    [[nodiscard]] double slope(double u) const {
        if (linear_) {
            return bounded_ && (1.0 + u < low_ || 1.0 + u > high_) ? 0.0 : 1.0;
        }
        return bounded_ ? (high_ - low_) * pace_ * rise(u) * (1.0 - rise(u)) : std::exp(u);
    }

    [[nodiscard]] double integral(double u) const {
        if (linear_) {
            if (!bounded_) {
                return u + u * u / 2.0;
            }
            const double cut = std::clamp(u, low_ - 1.0, high_ - 1.0);
            return cut + cut * cut / 2.0 + (1.0 + cut) * (u - cut);
        }
        if (!bounded_) {
            return std::exp(u);
        }
        const double z = pace_ * u + start();
        const double soft = z > 0.0 ? z + std::log1p(std::exp(-z)) : std::log1p(std::exp(z));
        return low_ * u + (high_ - low_) / pace_ * soft;
    }

  private:
    /// From 0 at the lower bound to 1 at the upper one.
    [[nodiscard]] double rise(double u) const {
        return 1.0 / (1.0 + std::exp(-pace_ * u - start()));
    }

    /// Where the ratio is one.
    [[nodiscard]] double start() const { return std::log((1.0 - low_) / (high_ - 1.0)); }

    bool linear_;
    bool bounded_;
    double low_ = 0.0;
    double high_ = 0.0;
    double pace_ = 1.0;
};

/// Newton’s way to λ on a convex function: what its slope leaves are the totals that are missed.
class Solver {
  public:
    Solver(const KnownColumns& known, std::span<const double> weights, const Distance& distance)
        : known_(known), weights_(weights), distance_(distance), asked_(known.asked()) {
        for (const double w : weights) {
            total_ += w;
        }
    }

    struct State {
        VectorXd lambda;
        double value = 0.0;
        VectorXd miss;  ///< Reached less asked, in shares and in means over their spread.
        MatrixXd slope;
    };

    /// @param ridge  above zero: totals may be missed, the less the smaller it is.
    [[nodiscard]] State solve(VectorXd from, double ridge) const {
        State at = look(std::move(from), ridge);
        for (int step = 0; step < kMostSteps && pull(at, ridge).cwiseAbs().maxCoeff() > 1e-15;
             ++step) {
            const VectorXd down = pull(at, ridge);
            MatrixXd slope = at.slope;
            slope.diagonal() += ridgeOf(ridge);
            slope.diagonal().array() += kLift * std::max(slope.diagonal().maxCoeff(), kLift);
            const VectorXd move = -slope.ldlt().solve(down);
            bool moved = false;
            for (double part = 1.0; part > 1e-18 && !moved; part /= 2.0) {
                State next = look(at.lambda + part * move, ridge);
                // Near the end the value is all rounding: there what is missed decides.
                moved = std::isfinite(next.value) && next.miss.allFinite() &&
                        (next.value < at.value + 1e-4 * part * down.dot(move) ||
                         pull(next, ridge).norm() < 0.5 * down.norm());
                if (moved) {
                    at = std::move(next);
                }
            }
            if (!moved) {
                break;
            }
        }
        return at;
    }

    /// The totals nearest to those asked that weights of this kind reach.
    [[nodiscard]] State nearest() const {
        State at = look(VectorXd::Zero(known_.count()), 1e-2);
        for (double ridge = 1e-2; ridge > 1e-9; ridge /= 10.0) {
            at = solve(at.lambda, ridge);
        }
        return at;
    }

  private:
    static constexpr int kMostSteps = 200;
    static constexpr double kLift = 1e-13;

    /// The sum of the weights is kept whatever else is missed.
    [[nodiscard]] VectorXd ridgeOf(double ridge) const {
        VectorXd out = VectorXd::Constant(known_.count(), ridge);
        out(0) = 0.0;
        return out;
    }

    [[nodiscard]] VectorXd pull(const State& state, double ridge) const {
        return state.miss + ridgeOf(ridge).cwiseProduct(state.lambda);
    }

    [[nodiscard]] State look(VectorXd lambda, double ridge) const {
        State out;
        out.miss = -asked_;
        out.slope = MatrixXd::Zero(known_.count(), known_.count());
        out.value = -lambda.dot(asked_) + 0.5 * lambda.dot(ridgeOf(ridge).cwiseProduct(lambda));
        std::vector<std::pair<Index, double>> row;
        for (std::size_t i = 0; i < weights_.size(); ++i) {
            if (weights_[i] == 0.0) {
                continue;
            }
            row.clear();
            known_.of(i, [&](Index column, double x) { row.emplace_back(column, x); });
            const double u = known_.along(lambda, i);
            const double share = weights_[i] / total_;
            const double ratio = distance_.ratio(u);
            const double slope = share * distance_.slope(u);
            out.value += share * distance_.integral(u);
            for (const auto& [column, x] : row) {
                out.miss(column) += share * ratio * x;
                for (const auto& [other, z] : row) {
                    out.slope(column, other) += slope * x * z;
                }
            }
        }
        out.lambda = std::move(lambda);
        return out;
    }

    const KnownColumns& known_;
    std::span<const double> weights_;
    const Distance& distance_;
    VectorXd asked_;
    double total_ = 0.0;
};

/// Both with digits enough to tell them apart.
std::pair<std::string, std::string> apart(double a, double b) {
    constexpr int kMost = 12;
    int digits = 4;
    while (digits < kMost && shortNumber(a, digits) == shortNumber(b, digits)) {
        ++digits;
    }
    return {shortNumber(a, digits), shortNumber(b, digits)};
}

/// “the share .5 of Ridge in zone: the nearest is .41; 2 further totals are missed”.
tl::unexpected<Refusal> outOfReach(const KnownColumns& known, const VectorXd& miss,
                                   const Survey& survey) {
    // What is missed by less than this is rounding on the way to the nearest.
    constexpr double kTold = 1e-5;
    const auto seen = known.totalsAt(known.asked() + miss);
    const auto part = [&](const KnownColumns::Total& one) {
        const auto of =
            std::find_if(known.parts().begin(), known.parts().end(),
                         [&](const KnownColumns::Part& p) { return p.variable == one.variable; });
        return std::abs(one.reached - one.known) / (one.level.empty() ? of->spread : 1.0);
    };
    const auto worst = std::max_element(
        seen.begin(), seen.end(), [&](const auto& a, const auto& b) { return part(a) < part(b); });
    const auto missed = static_cast<std::size_t>(std::count_if(
        seen.begin(), seen.end(), [&](const auto& one) { return part(one) > kTold; }));
    std::string cause = survey.bounds
                            ? "no weights from " + shortNumber(survey.bounds->first, 4) + " to " +
                                  shortNumber(survey.bounds->second, 4) + " times those drawn"
                            : std::string("no weights above zero");
    const auto [asked, nearest] = apart(worst->known, worst->reached);
    cause += " reach ";
    cause += worst->level.empty()
                 ? "the mean " + asked + " of ‘" + worst->variable + "’"
                 : "the share " + asked + " of ‘" + worst->level + "’ in ‘" + worst->variable + "’";
    cause += (missed > 1 ? " with the others: the nearest is " : ": the nearest is ") + nearest;
    return bad(cause,
               survey.bounds ? "Widen the bounds, bring small levels together, or leave a "
                               "total out."
                             : "Bring small levels together, or leave a total out.",
               worst->variable);
}

}  // namespace

Result<KnownColumns> KnownColumns::make(const Frame& frame,
                                        const std::vector<KnownTotal>& targets) {
    KnownColumns out;
    for (const KnownTotal& target : targets) {
        if (frame.column(target.variable) == nullptr) {
            return refuse(ErrorCode::UnknownName, "there is no variable ‘" + target.variable + "’",
                          "targets", "Choose another in Data, under known totals.",
                          {target.variable});
        }
        if (target.shares.empty() == !target.mean.has_value()) {
            return bad(
                "what is known of ‘" + target.variable + "’ is either its shares or its mean",
                "Give one of the two.", target.variable);
        }
        Part part;
        part.variable = target.variable;
        part.first = out.count_;
        if (auto taken =
                target.mean ? takeMean(part, target, frame) : takeShares(part, target, frame);
            !taken) {
            return tl::make_unexpected(taken.error());
        }
        out.count_ += target.mean ? 1 : static_cast<Index>(part.levels.size()) - 1;
        out.parts_.push_back(std::move(part));
    }
    return out;
}

bool KnownColumns::lacks(std::size_t row) const {
    return std::any_of(parts_.begin(), parts_.end(), [row](const Part& part) {
        return part.levels.empty() ? std::isnan(part.values[row]) : part.cells[row] < 0;
    });
}

VectorXd KnownColumns::asked() const {
    VectorXd out = VectorXd::Zero(count_);
    out(0) = 1.0;
    for (const Part& part : parts_) {
        for (std::size_t l = 1; l < part.levels.size(); ++l) {
            out(part.first + static_cast<Index>(l) - 1) = part.shares[l];
        }
    }
    return out;
}

std::vector<KnownColumns::Total> KnownColumns::totalsAt(const VectorXd& reached) const {
    std::vector<Total> out;
    for (const Part& part : parts_) {
        if (part.levels.empty()) {
            out.push_back(
                {part.variable, "", part.mean, part.mean + part.spread * reached(part.first)});
            continue;
        }
        const auto others = reached.segment(part.first, static_cast<Index>(part.levels.size()) - 1);
        for (std::size_t l = 0; l < part.levels.size(); ++l) {
            out.push_back({part.variable, part.levels[l], part.shares[l],
                           l == 0 ? 1.0 - others.sum() : others(static_cast<Index>(l) - 1)});
        }
    }
    return out;
}

MatrixXd KnownColumns::residuals(std::span<const double> weights, const MatrixXd& scores) const {
    MatrixXd cross = MatrixXd::Zero(count_, count_);
    MatrixXd with = MatrixXd::Zero(count_, scores.cols());
    for (std::size_t i = 0; i < weights.size(); ++i) {
        if (weights[i] == 0.0) {
            continue;
        }
        of(i, [&](Index column, double x) {
            with.row(column) += x * scores.row(static_cast<Index>(i));
            of(i, [&](Index other, double z) { cross(column, other) += weights[i] * x * z; });
        });
    }
    // Targets may say the same twice: of the coefficients that do as well, the shortest.
    const MatrixXd foretells = Eigen::CompleteOrthogonalDecomposition<MatrixXd>(cross).solve(with);
    MatrixXd out = scores;
    for (std::size_t i = 0; i < weights.size(); ++i) {
        if (weights[i] == 0.0) {
            continue;
        }
        of(i, [&](Index column, double x) {
            out.row(static_cast<Index>(i)) -= weights[i] * x * foretells.row(column);
        });
    }
    return out;
}

Result<std::vector<double>> calibrated(const KnownColumns& known, std::span<const double> weights,
                                       const Survey& survey) {
    if (survey.bounds && !(survey.bounds->first >= 0.0 && survey.bounds->first < 1.0 &&
                           survey.bounds->second > 1.0)) {
        return refuse(ErrorCode::BadSetting,
                      "the bounds of new to old weights do not hold one between them", "bounds",
                      "As 0.3 and 3: the least is from zero to under one, the most above one.");
    }
    std::vector<double> out(weights.size(), 0.0);
    if (std::all_of(weights.begin(), weights.end(), [](double w) { return w == 0.0; })) {
        return out;
    }
    const Distance distance(survey);
    const Solver solver(known, weights, distance);
    const auto found = solver.solve(VectorXd::Zero(known.count()), 0.0);
    if (!(found.miss.cwiseAbs().maxCoeff() <= kHit)) {
        return outOfReach(known, solver.nearest().miss, survey);
    }
    std::size_t below = 0;
    for (std::size_t i = 0; i < out.size(); ++i) {
        if (weights[i] == 0.0) {
            continue;
        }
        out[i] = weights[i] * distance.ratio(known.along(found.lambda, i));
        below += out[i] < 0.0 ? 1 : 0;
    }
    if (below > 0) {
        return refuse(
            ErrorCode::BadSetting,
            "linear calibration makes " + plural(below, "weight", "weights") + " negative",
            "targets", "Set bounds, as 0.3 and 3, or calibrate by raking.");
    }
    return out;
}

}  // namespace rapporto
