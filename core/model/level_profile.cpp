#include "core/model/level_search.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace rapporto {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

/// The likelihood with one spread, or one correlation, held.
class Profile {
  public:
    Profile(const LevelLand& found, const LevelParameter& held, double rows, double alpha,
            const Job& job)
        : found_(found),
          held_(held),
          chart_(found.charts()[held.level]),
          rows_(rows),
          allowed_(std::abs(criticalValue(alpha, std::nullopt))),
          job_(job) {
        order_.push_back(held.first);
        if (held.second) {
            order_.push_back(*held.second);
        }
        for (Index c = 0; c < chart_.q; ++c) {
            if (std::find(order_.begin(), order_.end(), c) == order_.end()) {
                order_.push_back(c);
            }
        }
    }

    [[nodiscard]] ProfileEnds ends() {
        const MatrixXd covariance = found_.covariance(held_.level);
        const double spread = std::sqrt(covariance(held_.first, held_.first));
        if (!held_.second) {
            const auto groups = static_cast<double>(found_.groups(held_.level));
            const double unit = std::sqrt(found_.variance()) / chart_.scales(held_.first);
            const double guess = spread > 0.0 ? spread * (1.0 + 1.6 / std::sqrt(groups))
                                              : unit / std::sqrt(rows_ / groups);
            lookAround(spread);
            const auto high = endBeyond(spread, guess);
            if (!(spread > 0.0)) {
                return {0.0, high};
            }
            // Ends of a spread lie about as many times below as above.
            return {endToward(spread, 0.0, high ? spread * spread / *high : 0.0), high};
        }
        const double other = std::sqrt(covariance(*held_.second, *held_.second));
        if (!(spread > 0.0 && other > 0.0)) {
            return {};
        }
        const double r = covariance(held_.first, *held_.second) / (spread * other);
        lookAround(r);
        return {correlationEnd(r, -1.0), correlationEnd(r, 1.0)};
    }

  private:
    /// Where the parameters stand with the held one at `value`: ln σ² first, then those of the
    /// other levels, then what is left of this one, its columns in an order that begins with the
    /// held.
    [[nodiscard]] LevelPlace placed(const VectorXd& x, double value) const {
        LevelPlace out;
        out.logVariance = x(0);
        Index next = 1;
        for (std::size_t l = 0; l < found_.charts().size(); ++l) {
            const LevelChart& chart = found_.charts()[l];
            if (l == held_.level) {
                out.factors.push_back(heldFactor(x, next, value));
            } else {
                out.factors.push_back(chart.factor(x.segment(next, chart.parameters())));
                next += chart.parameters();
            }
        }
        return out;
    }

    [[nodiscard]] MatrixXd heldFactor(const VectorXd& x, Index& next, double value) const {
        const double sigma = std::exp(0.5 * x(0));
        MatrixXd triangle = MatrixXd::Zero(chart_.q, chart_.q);
        for (Index c = 0; c < chart_.q; ++c) {
            for (Index r = c; r < (chart_.full ? chart_.q : c + 1); ++r) {
                if (isHeld(r, c)) {
                    triangle(r, c) = held_.second ? 0.0 : value / sigma;
                    continue;
                }
                triangle(r, c) = x(next++) / chart_.scales(order_[static_cast<std::size_t>(r)]);
            }
        }
        if (held_.second) {
            triangle(1, 0) = triangle(1, 1) * value;
            triangle(1, 1) *= std::sqrt(std::max(1.0 - value * value, 0.0));
        }
        MatrixXd own(chart_.q, chart_.q);
        for (Index k = 0; k < chart_.q; ++k) {
            own.row(order_[static_cast<std::size_t>(k)]) = triangle.row(k);
        }
        return chart_.back * own;
    }

    [[nodiscard]] bool isHeld(Index row, Index column) const {
        return column == 0 && row == (held_.second ? 1 : 0);
    }

    /// Where that stands at the estimate.
    [[nodiscard]] VectorXd start() const {
        std::vector<double> x = {std::log(found_.variance())};
        for (std::size_t l = 0; l < found_.charts().size(); ++l) {
            if (l != held_.level) {
                const VectorXd own = found_.own(l);
                x.insert(x.end(), own.begin(), own.end());
                continue;
            }
            const MatrixXd whole = found_.covariance(l) / found_.variance();
            MatrixXd sorted = whole(order_, order_);
            // A covariance that is not definite has a triangle all the same once it is lifted.
            const double lift = 1e-9 * std::max(sorted.trace(), 1e-6);
            sorted.diagonal().array() += lift;
            MatrixXd triangle = sorted.diagonal().cwiseSqrt().asDiagonal();
            if (chart_.full) {
                triangle = sorted.llt().matrixL();
            }
            for (Index c = 0; c < chart_.q; ++c) {
                for (Index r = c; r < (chart_.full ? chart_.q : c + 1); ++r) {
                    const double scale = chart_.scales(order_[static_cast<std::size_t>(r)]);
                    if (!isHeld(r, c)) {
                        const bool total = held_.second && c == 1 && r == 1;
                        x.push_back(scale * (total ? triangle.row(1).norm() : triangle(r, c)));
                    }
                }
            }
        }
        return Eigen::Map<const VectorXd>(x.data(), static_cast<Index>(x.size()));
    }

    void beginAnew() {
        warm_ = start();
        curved_ = around_;
    }

    [[nodiscard]] SmoothFunction landAt(double value) const {
        constexpr double kStep = 1e-5;
        return found_.free([this, value](const VectorXd& x) { return placed(x, value); }, kStep);
    }

    /// The curvature at the estimate: it nearly holds along the way, and finding it costs less than
    /// each descent’s own.
    void lookAround(double value) {
        constexpr Index kFew = 8;
        constexpr double kStep = 1e-3;
        const VectorXd at = start();
        if (at.size() > kFew) {
            return;
        }
        const Eigen::LLT<MatrixXd> root(curvature(landAt(value), at, kStep));
        if (root.info() == Eigen::Success) {
            around_ = root.solve(MatrixXd::Identity(at.size(), at.size()));
        }
    }

    /// By how much the root of the rise is above what the level allows, nearly straight in `value`.
    [[nodiscard]] double risen(double value) {
        constexpr double kGain = 1e-9;
        const Descent rest = descend(landAt(value), warm_, curved_, kGain, job_);
        if (!std::isfinite(rest.value)) {
            return std::numeric_limits<double>::quiet_NaN();
        }
        warm_ = rest.at;
        curved_ = rest.inverse;
        return std::sqrt(std::max(rest.value - found_.value(), 0.0)) - allowed_;
    }

    /// An end on the way to what cannot be passed. Where the guess lies beyond the end, the limit,
    /// far off, need not be looked at.
    [[nodiscard]] std::optional<double> endToward(double from, double limit, double guess) {
        beginAnew();
        double inside = from;
        double atInside = -allowed_;
        if (guess != limit) {
            const double there = risen(guess);
            if (there > 0.0) {
                return between(from, -allowed_, guess, there);
            }
            if (!std::isnan(there)) {
                inside = guess;
                atInside = there;
            }
            beginAnew();
        }
        const double there = risen(limit);
        if (std::isnan(there)) {
            return std::nullopt;
        }
        if (there <= 0.0) {
            return limit;
        }
        beginAnew();
        return between(inside, atInside, limit, there);
    }

    [[nodiscard]] std::optional<double> endBeyond(double from, double guess) {
        constexpr int kMostTries = 60;
        beginAnew();
        double inside = from;
        double atInside = -allowed_;
        double outside = guess;
        double atOutside = risen(outside);
        for (int tries = 0; atOutside < 0.0 && tries < kMostTries; ++tries) {
            inside = outside;
            atInside = atOutside;
            outside = from + 1.8 * (outside - from);
            atOutside = risen(outside);
        }
        return atOutside >= 0.0 ? between(inside, atInside, outside, atOutside) : std::nullopt;
    }

    /// Correlations that stand at one, or may, end there.
    [[nodiscard]] std::optional<double> correlationEnd(double r, double limit) {
        constexpr double kNear = 1.0 - 1e-9;
        if (std::abs(r - limit) < 1e-6) {
            return limit;
        }
        // By the law of a correlation of so many pairs, somewhat wider.
        constexpr double kWider = 1.5;
        const double reach =
            kWider * allowed_ / std::sqrt(static_cast<double>(found_.groups(held_.level)));
        const double guess = std::tanh(std::atanh(r) + std::copysign(reach, limit));
        const auto end = endToward(r, kNear * limit, std::clamp(guess, -kNear, kNear));
        return end && std::abs(*end - limit) < 1e-8 ? std::optional(limit) : end;
    }

    /// Secants through the two last looks, within what holds the end; halves where they stick.
    [[nodiscard]] std::optional<double> between(double inside, double atInside, double outside,
                                                double atOutside) {
        constexpr int kMostSteps = 80;
        constexpr int kPatience = 3;
        double before = inside;
        double atBefore = atInside;
        double last = outside;
        double atLast = atOutside;
        double width = std::abs(outside - inside);
        for (int step = 1; step <= kMostSteps; ++step) {
            double next = last - atLast * (last - before) / (atLast - atBefore);
            const bool held = next > std::min(inside, outside) && next < std::max(inside, outside);
            if (!held || step % (kPatience + 1) == 0) {
                const double now = std::abs(outside - inside);
                next = !held || now > 0.5 * width ? 0.5 * (inside + outside) : next;
                width = now;
            }
            const double there = risen(next);
            if (std::isnan(there) || job_.stopped()) {
                return std::nullopt;
            }
            if (std::abs(there) < 1e-8 ||
                std::abs(outside - inside) < 1e-11 * std::max(std::abs(outside), 1e-300)) {
                return next;
            }
            (there > 0.0 ? outside : inside) = next;
            before = last;
            atBefore = atLast;
            last = next;
            atLast = there;
        }
        return 0.5 * (inside + outside);
    }

    const LevelLand& found_;
    LevelParameter held_;
    const LevelChart& chart_;
    double rows_;
    double allowed_;
    const Job& job_;
    std::vector<Index> order_;
    VectorXd warm_;
    MatrixXd curved_;
    MatrixXd around_;  ///< Inverse of the curvature at the estimate, or empty.
};

}  // namespace

Result<std::vector<ProfileEnds>> profileEnds(const LevelLand& found,
                                             const std::vector<LevelParameter>& parameters,
                                             double rows, double alpha, const Job& job) {
    // Each look at the likelihood is cut into parts already.
    std::vector<ProfileEnds> out;
    for (const LevelParameter& parameter : parameters) {
        out.push_back(Profile(found, parameter, rows, alpha, job).ends());
    }
    if (job.stopped()) {
        return refuse(ErrorCode::Stopped, "stopped");
    }
    return out;
}

}  // namespace rapporto
