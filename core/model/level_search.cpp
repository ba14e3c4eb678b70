#include "core/model/level_search.h"

#include "core/base/format.h"

#include <cmath>
#include <numbers>

namespace rapporto {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

/// A spread under this part of the rows’ own, in units of its column’s spread, is none where that
/// costs nothing.
constexpr double kNothing = 1e-3;

}  // namespace

Result<RandomGrouping> levelGrouping(const DesignLevel& level, LevelChart& chart) {
    const Index q = level.slopes.cols() + 1;
    if (q > NestedEffects::kMostColumns) {
        return refuse(ErrorCode::BadSetting,
                      "‘" + level.name + "’ has " + std::to_string(q - 1) + " slopes", "levels",
                      "Name the few whose differences are asked about.");
    }
    chart.q = q;
    chart.full = level.full && q > 1;
    chart.there = MatrixXd::Identity(q, q);
    chart.scales = VectorXd::Ones(q);
    RandomGrouping grouping{level.of, level.count, MatrixXd(level.slopes.rows(), q)};
    grouping.columns.col(0).setOnes();
    for (Index s = 1; s < q; ++s) {
        const VectorXd x = level.slopes.col(s - 1);
        const double mean = x.mean();
        const double sd =
            std::sqrt((x.array() - mean).square().sum() / static_cast<double>(x.size()));
        if (!(sd > 1e-12 * std::abs(mean))) {
            return refuse(ErrorCode::NoVariation,
                          "‘" + level.slopeNames[static_cast<std::size_t>(s - 1)] +
                              "’ does not vary, so nothing has a slope in it",
                          "levels", "Take the slope out.");
        }
        chart.scales(s) = sd;
        // x is mean + sd · z: u₀ + u₁x = (u₀ + mean·u₁) + sd·u₁ z.
        grouping.columns.col(s) = (x.array() - mean) / sd;
        chart.there(s, s) = 1.0 / sd;
        chart.there(0, s) = -mean / sd;
    }
    chart.back = chart.there.inverse();
    return grouping;
}

MatrixXd LevelChart::factor(const Eigen::Ref<const VectorXd>& at) const {
    MatrixXd out = MatrixXd::Zero(q, q);
    Index next = 0;
    for (Index c = 0; c < q; ++c) {
        for (Index r = c; r < (full ? q : c + 1); ++r) {
            out(r, c) = at(next++);
        }
    }
    return full ? out : MatrixXd(back * out);
}

VectorXd LevelChart::start() const {
    constexpr double kStart = 0.5;
    VectorXd out = VectorXd::Zero(parameters());
    Index next = 0;
    for (Index c = 0; c < q; ++c) {
        out(next) = full ? kStart : kStart / scales(c);
        next += full ? q - c : 1;
    }
    return out;
}

MatrixXd LevelChart::covariance(const MatrixXd& factor) const {
    const MatrixXd own = there * factor;
    return own * own.transpose();
}

SmoothFunction LevelSearch::over(LevelPlacing placing, bool freeVariance, double step) const {
    return [this, placing = std::move(placing), freeVariance, step](const VectorXd& x) {
        const LevelPlace place = placing(x);
        const NestedEffects::Aim aim{restricted_, freeVariance ? std::exp(place.logVariance) : 0.0};
        const auto seen = model_->look(place.factors, aim, true);
        SlopedValue out{model_->value(seen, aim), VectorXd::Zero(x.size())};
        for (Index j = 0; j < x.size() && !seen.slopes.empty(); ++j) {
            VectorXd to = x;
            to(j) += step;
            const LevelPlace up = placing(to);
            to(j) = x(j) - step;
            const LevelPlace down = placing(to);
            double moved = seen.slopeOfVariance * (up.logVariance - down.logVariance);
            for (std::size_t l = 0; l < up.factors.size(); ++l) {
                moved += seen.slopes[l].cwiseProduct(up.factors[l] - down.factors[l]).sum();
            }
            out.slope(j) = moved / (2.0 * step);
        }
        return out;
    };
}

Result<void> LevelSearch::makeModel(const LinearSolution& solution) {
    std::vector<RandomGrouping> groupings;
    Index from = 0;
    for (const DesignLevel& level : design_.levels) {
        LevelChart chart;
        auto grouping = levelGrouping(level, chart);
        if (!grouping) {
            return tl::make_unexpected(grouping.error());
        }
        groupings.push_back(*std::move(grouping));
        first_.push_back(from);
        from += chart.parameters();
        charts_.push_back(std::move(chart));
    }
    if (design_.levels.front().count >= design_.y.size()) {
        return refuse(ErrorCode::BadSetting,
                      "every row is a group of ‘" + design_.levels.front().name +
                          "’ by itself: its effect cannot be told from the row’s own",
                      "levels", "Take the grouping out.");
    }
    model_ =
        std::make_unique<NestedEffects>(orthonormalColumns(design_.X, solution), solution.residuals,
                                        std::move(groupings), design_.weights);
    constant_ = model_->freedom(restricted_) * std::log(2.0 * std::numbers::pi);
    if (restricted_) {
        // Of X in place of its orthonormal columns.
        const Eigen::PartialPivLU<MatrixXd> parts(solution.factor);
        constant_ -= 2.0 * parts.matrixLU().diagonal().array().abs().log().sum();
    }
    if (design_.weights.size() > 0) {
        constant_ -= design_.weights.array().log().sum();
    }
    return {};
}

std::vector<MatrixXd> LevelSearch::factorsAt(const VectorXd& at) const {
    std::vector<MatrixXd> out;
    for (std::size_t l = 0; l < charts_.size(); ++l) {
        out.push_back(charts_[l].factor(at.segment(first_[l], charts_[l].parameters())));
    }
    return out;
}

Result<void> LevelSearch::run(const LinearSolution& solution, const Job& job) {
    if (auto made = makeModel(solution); !made) {
        return made;
    }
    const SmoothFunction land =
        over([this](const VectorXd& x) { return LevelPlace{factorsAt(x)}; }, false, 1.0);
    VectorXd from(first_.back() + charts_.back().parameters());
    for (std::size_t l = 0; l < charts_.size(); ++l) {
        from.segment(first_[l], charts_[l].parameters()) = charts_[l].start();
    }
    constexpr double kGain = 1e-6;  // Newton’s steps take it from there.
    Descent best = descend(land, from, {}, kGain, job);
    // A halt that is no rest is left from further out.
    if (!best.settled && !job.stopped()) {
        const Descent again = descend(land, 4.0 * from, {}, kGain, job);
        best = again.settled || again.value < best.value ? again : best;
    }
    if (job.stopped()) {
        return refuse(ErrorCode::Stopped, "stopped");
    }
    if (!std::isfinite(best.value) || !best.settled) {
        return refuse(ErrorCode::NotConverged, "the spread of the groups’ effects finds no rest",
                      "levels",
                      "Take slopes out, or let constant and slopes go apart (covariance "
                      "diagonal).");
    }
    best = polished(land, best);
    const VectorXd cleared = withoutNothing(best, land);
    if (cleared != best.at) {
        // What is nothing stays nothing: the likelihood is even in each spread.
        const SlopedValue there = land(cleared);
        best = polished(land, {cleared, there.value, there.slope, {}, true});
    }
    at_ = best.at;
    factors_ = factorsAt(at_);
    look_ = model_->look(factors_, aim(), false);
    variance_ = model_->variance(look_, aim());
    value_ = model_->value(look_, aim());
    return {};
}

VectorXd LevelSearch::withoutNothing(const Descent& rest, const SmoothFunction& land) const {
    VectorXd cleared = rest.at;
    for (std::size_t l = 0; l < charts_.size(); ++l) {
        const LevelChart& chart = charts_[l];
        const MatrixXd factor =
            chart.full ? factorsAt(rest.at)[l]
                       : MatrixXd((chart.there * factorsAt(rest.at)[l]).diagonal().asDiagonal());
        Index at = first_[l];
        for (Index c = 0; c < chart.q; ++c) {
            for (Index r = c; r < (chart.full ? chart.q : c + 1); ++r, ++at) {
                const double spread = factor.row(r).norm() * (chart.full ? 1.0 : chart.scales(r));
                cleared(at) = spread < kNothing ? 0.0 : cleared(at);
            }
        }
    }
    return cleared != rest.at && land(cleared).value <= rest.value + 1e-7 ? cleared : rest.at;
}

}  // namespace rapporto
