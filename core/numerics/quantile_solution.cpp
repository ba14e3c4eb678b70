#include "core/numerics/quantile_solution.h"

#include "core/numerics/random.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// Rows already times their weights: ρ is homogeneous.
class Programme {
  public:
    Programme(const MatrixXd& X, const VectorXd& y, double tau, const Job& job)
        : X_(X), y_(y), tau_(tau), job_(job), n_(X.rows()), k_(X.cols()) {}

    Result<QuantileSolution> run() {
        auto near = interiorPoint();
        if (!near) {
            return tl::make_unexpected(near.error());
        }
        if (!makeBasis(y_ - X_ * *near)) {
            return refuse(ErrorCode::RankDeficient, "the columns are not independent");
        }
        for (out_.pivots = 0;; ++out_.pivots) {
            if (job_.stopped()) {
                return refuse(ErrorCode::Stopped, "the computation was stopped");
            }
            if (out_.pivots > 50 * (static_cast<int>(k_) + 40)) {
                return refuse(ErrorCode::NotConverged,
                              "the quantile did not come to a corner in time");
            }
            if (!pivot()) {
                break;
            }
        }
        out_.coefficients = b_;
        out_.residuals = r_;
        out_.basis = basis_;
        out_.objective = 0.0;
        for (Index i = 0; i < n_; ++i) {
            out_.objective += r_(i) * (r_(i) < 0.0 ? tau_ - 1.0 : tau_);
        }
        return std::move(out_);
    }

  private:
    /// Mehrotra’s predictor and corrector on: max y'a, X'a = (1 − τ)X'1, 0 ≤ a ≤ 1.
    Result<VectorXd> interiorPoint() {
        VectorXd a = VectorXd::Constant(n_, 1.0 - tau_);
        VectorXd s = VectorXd::Constant(n_, tau_);
        const VectorXd c = -y_;
        MatrixXd cross = MatrixXd::Zero(k_, k_);
        cross.selfadjointView<Eigen::Lower>().rankUpdate(X_.transpose());
        Eigen::LDLT<MatrixXd> start(cross.selfadjointView<Eigen::Lower>());
        VectorXd dual = start.solve(X_.transpose() * c);
        VectorXd left = c - X_ * dual;
        const double level = 0.5 * left.cwiseAbs().mean() + 1e-300;
        // Multipliers of both ends, z − w = left.
        VectorXd z = left.cwiseMax(0.0).array() + level;
        VectorXd w = (-left).cwiseMax(0.0).array() + level;
        const VectorXd target = (1.0 - tau_) * X_.colwise().sum().transpose();
        VectorXd q(n_);
        VectorXd rhs(n_);
        VectorXd da(n_);
        VectorXd ds(n_);
        VectorXd dz(n_);
        VectorXd dw(n_);
        const double size = 1.0 + std::abs(y_.cwiseAbs().sum());
        for (out_.steps = 0; out_.steps < 80; ++out_.steps) {
            if (job_.stopped()) {
                return refuse(ErrorCode::Stopped, "the computation was stopped");
            }
            const double gap = a.dot(z) + s.dot(w);
            if (gap < 1e-9 * size) {
                break;
            }
            q = (z.cwiseQuotient(a) + w.cwiseQuotient(s)).cwiseInverse();
            left = c - X_ * dual - z + w;
            const VectorXd missing = target - X_.transpose() * a;
            MatrixXd weighted = q.cwiseSqrt().asDiagonal() * X_;
            cross.setZero();
            cross.selfadjointView<Eigen::Lower>().rankUpdate(weighted.transpose());
            const Eigen::LLT<MatrixXd> factor(cross.selfadjointView<Eigen::Lower>());
            if (factor.info() != Eigen::Success) {
                break;
            }
            const auto direction = [&](const VectorXd& za, const VectorXd& ws) {
                // za = aim of a·z, ws = aim of s·w, both already less what is there.
                rhs = left - za.cwiseQuotient(a) + ws.cwiseQuotient(s);
                const VectorXd dy = factor.solve(missing + X_.transpose() * q.cwiseProduct(rhs));
                da = q.cwiseProduct(X_ * dy - rhs);
                ds = -da;
                dz = (za - z.cwiseProduct(da)).cwiseQuotient(a);
                dw = (ws - w.cwiseProduct(ds)).cwiseQuotient(s);
                return dy;
            };
            VectorXd dy = direction(-a.cwiseProduct(z), -s.cwiseProduct(w));
            double primal = std::min(reach(a, da), reach(s, ds));
            double other = std::min(reach(z, dz), reach(w, dw));
            if (std::min(primal, other) < 0.9) {
                const double after =
                    (a + primal * da).dot(z + other * dz) + (s + primal * ds).dot(w + other * dw);
                const double centre =
                    std::pow(after / gap, 3.0) * gap / (2.0 * static_cast<double>(n_));
                const VectorXd za =
                    (centre - a.array() * z.array() - da.array() * dz.array()).matrix();
                const VectorXd ws =
                    (centre - s.array() * w.array() - ds.array() * dw.array()).matrix();
                dy = direction(za, ws);
                primal = std::min(reach(a, da), reach(s, ds));
                other = std::min(reach(z, dz), reach(w, dw));
            }
            a += primal * da;
            s += primal * ds;
            z += other * dz;
            w += other * dw;
            dual += other * dy;
        }
        return VectorXd(-dual);
    }

    /// How far one may go and stay inside, at most one.
    static double reach(const VectorXd& x, const VectorXd& d) {
        double most = 1e20;
        for (Index i = 0; i < x.size(); ++i) {
            if (d(i) < 0.0) {
                most = std::min(most, -x(i) / d(i));
            }
        }
        return std::min(0.99995 * most, 1.0);
    }

    /// The rows next to the plane that are independent.
    bool makeBasis(const VectorXd& r) {
        std::vector<Index> order(static_cast<std::size_t>(n_));
        std::iota(order.begin(), order.end(), Index{0});
        const auto nearer = [&](Index i, Index j) {
            const double a = std::abs(r(i));
            const double b = std::abs(r(j));
            return a < b || (a == b && i < j);
        };
        std::size_t sorted =
            std::min<std::size_t>(order.size(), 4 * static_cast<std::size_t>(k_) + 32);
        std::partial_sort(order.begin(), order.begin() + static_cast<std::ptrdiff_t>(sorted),
                          order.end(), nearer);
        MatrixXd Q(k_, k_);
        Index found = 0;
        for (std::size_t at = 0; at < order.size() && found < k_; ++at) {
            if (at == sorted) {
                std::sort(order.begin() + static_cast<std::ptrdiff_t>(sorted), order.end(), nearer);
                sorted = order.size();
            }
            VectorXd x = X_.row(order[at]).transpose();
            const double before = x.norm();
            for (int again = 0; again < 2; ++again) {
                for (Index j = 0; j < found; ++j) {
                    x -= Q.col(j).dot(x) * Q.col(j);
                }
            }
            const double left = x.norm();
            if (left > 1e-7 * before && before > 0.0) {
                Q.col(found++) = x / left;
                basis_.push_back(order[at]);
            }
        }
        if (found < k_) {
            return false;
        }
        inBasis_.assign(static_cast<std::size_t>(n_), false);
        for (const Index row : basis_) {
            inBasis_[static_cast<std::size_t>(row)] = true;
        }
        solveBasis();
        return true;
    }

    void solveBasis() {
        const MatrixXd own = X_(basis_, Eigen::all);
        lu_.compute(own);
        transposed_.compute(own.transpose());
        const VectorXd target = y_(basis_);
        b_ = lu_.solve(target);
        b_ += lu_.solve(target - own * b_);
        r_ = y_ - X_ * b_;
        // What rounding leaves of a residual that is zero: rows that lie on the plane.
        const double unit = 1e-13 * (y_.cwiseAbs().maxCoeff() + 1e-300);
        for (Index i = 0; i < n_; ++i) {
            if (inBasis_[static_cast<std::size_t>(i)] || std::abs(r_(i)) < unit) {
                r_(i) = 0.0;
            }
        }
    }

    /// A row on the plane beside the basis is taken for above or below it, always in the same way:
    /// ties cannot turn in circles.
    [[nodiscard]] bool below(Index i) const {
        if (r_(i) != 0.0) {
            return r_(i) < 0.0;
        }
        return tieBelow_.empty() ? false : tieBelow_[static_cast<std::size_t>(i)];
    }

    /// One step along the best edge; false at the solution.
    bool pivot() {
        VectorXd g = VectorXd::Zero(k_);
        if (tieBelow_.empty()) {
            tieBelow_.assign(static_cast<std::size_t>(n_), false);
        }
        VectorXd psi(n_);
        for (Index i = 0; i < n_; ++i) {
            psi(i) = inBasis_[static_cast<std::size_t>(i)] ? 0.0 : below(i) ? tau_ - 1.0 : tau_;
        }
        g.noalias() = X_.transpose() * psi;
        const VectorXd multipliers = -transposed_.solve(g);
        // Rounding of sums over n rows.
        const double slack = 1e-10 * (1.0 + std::sqrt(static_cast<double>(n_)) * 1e-4);
        Index worst = -1;
        double most = slack;
        out_.manifold = false;
        for (Index j = 0; j < k_; ++j) {
            const double over = std::max(multipliers(j) - tau_, tau_ - 1.0 - multipliers(j));
            out_.manifold = out_.manifold || std::abs(over) < slack;
            if (over > most) {
                most = over;
                worst = j;
            }
        }
        if (worst < 0) {
            return false;
        }
        const bool up = multipliers(worst) > tau_;
        // r of the leaving row grows (up) or falls at rate one.
        VectorXd e = VectorXd::Zero(k_);
        e(worst) = up ? -1.0 : 1.0;
        const VectorXd d = lu_.solve(e);
        const VectorXd rate = -(X_ * d);
        double slope = -most;

        struct Crossing {
            double at;
            Index row;
        };

        std::vector<Crossing> crossings;
        crossings.reserve(static_cast<std::size_t>(n_) / 2);
        for (Index i = 0; i < n_; ++i) {
            if (inBasis_[static_cast<std::size_t>(i)] || rate(i) == 0.0) {
                continue;
            }
            const bool falls = !below(i) && rate(i) < 0.0;
            const bool rises = below(i) && rate(i) > 0.0;
            if (falls || rises) {
                crossings.push_back({-r_(i) / rate(i), i});
            }
        }
        // Only the first crossings matter: they come out of a heap.
        const auto later = [](const Crossing& a, const Crossing& b) {
            return a.at > b.at || (a.at == b.at && a.row > b.row);
        };
        std::make_heap(crossings.begin(), crossings.end(), later);
        Index enters = -1;
        const double tiny = 1e-9;
        std::vector<Index> passed;
        while (!crossings.empty()) {
            std::pop_heap(crossings.begin(), crossings.end(), later);
            const Crossing one = crossings.back();
            crossings.pop_back();
            slope += std::abs(rate(one.row));
            enters = one.row;
            if (slope >= 0.0 && std::abs(rate(one.row)) > tiny) {
                break;
            }
            passed.push_back(one.row);
        }
        if (enters < 0) {
            return false;
        }
        const Index leaves = basis_[static_cast<std::size_t>(worst)];
        inBasis_[static_cast<std::size_t>(leaves)] = false;
        inBasis_[static_cast<std::size_t>(enters)] = true;
        basis_[static_cast<std::size_t>(worst)] = enters;
        // Ties that were passed change sides; the leaving row takes the side it goes to.
        for (const Index row : passed) {
            if (r_(row) == 0.0) {
                tieBelow_[static_cast<std::size_t>(row)] =
                    !tieBelow_[static_cast<std::size_t>(row)];
            }
        }
        tieBelow_[static_cast<std::size_t>(leaves)] = !up;
        solveBasis();
        return true;
    }

    const MatrixXd& X_;
    const VectorXd& y_;
    double tau_;
    const Job& job_;
    Index n_;
    Index k_;
    QuantileSolution out_;
    std::vector<Index> basis_;
    std::vector<bool> inBasis_;
    std::vector<bool> tieBelow_;
    Eigen::PartialPivLU<MatrixXd> lu_;
    Eigen::PartialPivLU<MatrixXd> transposed_;
    VectorXd b_;
    VectorXd r_;
};

/// Rows whose sign a sample foretells are taken together as one above and one below.
Result<QuantileSolution> byForetelling(const MatrixXd& X, const VectorXd& y, double tau,
                                       const Job& job) {
    const Index n = X.rows();
    const Index k = X.cols();
    auto size =
        static_cast<Index>(std::pow(static_cast<double>(k) * static_cast<double>(n), 2.0 / 3.0));
    size = std::clamp<Index>(size, 50 * k, n / 3);
    for (int round = 0; round < 4; ++round, size = std::min(2 * size, n)) {
        if (size * 2 > n) {
            break;
        }
        RandomStream random(97, static_cast<std::uint64_t>(round));
        std::vector<Index> sample;
        for (Index i = 0; i < size; ++i) {
            sample.push_back(static_cast<Index>(random.below(static_cast<std::uint64_t>(n))));
        }
        const MatrixXd part = X(sample, Eigen::all);
        const VectorXd partY = y(sample);
        const auto first = Programme(part, partY, tau, job).run();
        if (!first) {
            return first;
        }
        // How far a fitted value may be off, in units of its leverage.
        MatrixXd cross = MatrixXd::Zero(k, k);
        cross.selfadjointView<Eigen::Lower>().rankUpdate(part.transpose());
        const Eigen::LLT<MatrixXd> llt(cross.selfadjointView<Eigen::Lower>());
        if (llt.info() != Eigen::Success) {
            continue;
        }
        const MatrixXd Q = llt.matrixL().solve(X.transpose()).transpose();
        const VectorXd length = Q.rowwise().norm().cwiseMax(1e-300);
        const VectorXd r = y - X * first->coefficients;
        const VectorXd scaled = r.cwiseQuotient(length);
        std::vector<double> ordered(scaled.data(), scaled.data() + n);
        const auto band = 0.8 * static_cast<double>(size) / static_cast<double>(n);
        const auto at = [&](double share) {
            const auto place = static_cast<std::ptrdiff_t>(std::clamp(share, 0.0, 1.0) *
                                                           static_cast<double>(n - 1));
            std::nth_element(ordered.begin(), ordered.begin() + place, ordered.end());
            return ordered[static_cast<std::size_t>(place)];
        };
        const double low = at(tau - band / 2.0);
        const double high = at(tau + band / 2.0);
        std::vector<signed char> side(static_cast<std::size_t>(n), 0);
        for (Index i = 0; i < n; ++i) {
            side[static_cast<std::size_t>(i)] = static_cast<signed char>(scaled(i) < low    ? -1
                                                                         : scaled(i) > high ? 1
                                                                                            : 0);
        }
        for (int mend = 0; mend < 8; ++mend) {
            std::vector<Index> kept;
            VectorXd below = VectorXd::Zero(k);
            VectorXd above = VectorXd::Zero(k);
            double yBelow = 0.0;
            double yAbove = 0.0;
            for (Index i = 0; i < n; ++i) {
                const auto one = side[static_cast<std::size_t>(i)];
                if (one == 0) {
                    kept.push_back(i);
                } else if (one < 0) {
                    below += X.row(i).transpose();
                    yBelow += y(i);
                } else {
                    above += X.row(i).transpose();
                    yAbove += y(i);
                }
            }
            const auto m = static_cast<Index>(kept.size());
            MatrixXd less(m + 2, k);
            VectorXd lessY(m + 2);
            less.topRows(m) = X(kept, Eigen::all);
            lessY.head(m) = y(kept);
            less.row(m) = below.transpose();
            less.row(m + 1) = above.transpose();
            lessY(m) = yBelow;
            lessY(m + 1) = yAbove;
            auto solved = Programme(less, lessY, tau, job).run();
            if (!solved) {
                return solved;
            }
            const VectorXd left = y - X * solved->coefficients;
            std::size_t wrong = 0;
            for (Index i = 0; i < n; ++i) {
                auto& one = side[static_cast<std::size_t>(i)];
                if ((one < 0 && left(i) > 0.0) || (one > 0 && left(i) < 0.0)) {
                    one = 0;
                    ++wrong;
                }
            }
            const bool through = std::any_of(solved->basis.begin(), solved->basis.end(),
                                             [m](Index row) { return row >= m; });
            if (wrong == 0 && !through) {
                QuantileSolution out = *std::move(solved);
                for (Index& row : out.basis) {
                    row = kept[static_cast<std::size_t>(row)];
                }
                out.residuals = left;
                for (const Index row : out.basis) {
                    out.residuals(row) = 0.0;
                }
                out.objective = 0.0;
                for (Index i = 0; i < n; ++i) {
                    out.objective += out.residuals(i) * (out.residuals(i) < 0.0 ? tau - 1.0 : tau);
                }
                return out;
            }
            if (through || wrong * 10 > kept.size()) {
                break;
            }
        }
    }
    return Programme(X, y, tau, job).run();
}

}  // namespace

Result<QuantileSolution> solveQuantile(const MatrixXd& X, const VectorXd& y,
                                       const VectorXd& weights, double tau, const Job& job) {
    // Columns of one length, and the outcome too: tolerances mean something then.
    VectorXd length = X.colwise().norm() / std::sqrt(static_cast<double>(X.rows()));
    length = length.unaryExpr([](double v) { return v > 0.0 ? v : 1.0; });
    const double unit = std::max(y.cwiseAbs().maxCoeff(), 1e-300);
    MatrixXd scaled = X * length.cwiseInverse().asDiagonal();
    VectorXd outcome = y / unit;
    if (weights.size() > 0) {
        const VectorXd w = weights / weights.mean();
        scaled = w.asDiagonal() * scaled;
        outcome = w.cwiseProduct(outcome);
    }
    constexpr Index kForetold = 4000;  // Rows from which a sample first saves work.
    auto found = X.rows() > kForetold ? byForetelling(scaled, outcome, tau, job)
                                      : Programme(scaled, outcome, tau, job).run();
    if (!found) {
        return found;
    }
    found->coefficients = (unit * found->coefficients).cwiseQuotient(length);
    // In the units of the rows, through the rows of the basis.
    const MatrixXd own = X(found->basis, Eigen::all);
    const Eigen::PartialPivLU<MatrixXd> lu(own);
    VectorXd b = lu.solve(VectorXd(y(found->basis)));
    b += lu.solve(VectorXd(y(found->basis)) - own * b);
    if (b.allFinite()) {
        found->coefficients = b;
    }
    const VectorXd before = found->residuals;
    found->residuals = y - X * found->coefficients;
    for (Index i = 0; i < y.size(); ++i) {
        if (before(i) == 0.0) {
            found->residuals(i) = 0.0;
        }
    }
    found->objective = 0.0;
    for (Index i = 0; i < y.size(); ++i) {
        found->objective += (weights.size() > 0 ? weights(i) : 1.0) * found->residuals(i) *
                            (found->residuals(i) < 0.0 ? tau - 1.0 : tau);
    }
    return found;
}

}  // namespace rapporto
