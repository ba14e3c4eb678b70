#include "core/numerics/sweep_slopes.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// Orthonormal columns (weighted) of each group’s level and slopes, by row; zero where a column
/// says what those before it say.
class GroupBasis {
  public:
    GroupBasis(const EffectGroups& own, const MatrixXd& slopes, const VectorXd& roots)
        : rows_(static_cast<std::size_t>(own.count)), Q_(slopes.rows(), slopes.cols() + 1) {
        for (std::size_t i = 0; i < own.of.size(); ++i) {
            rows_[static_cast<std::size_t>(own.of[i])].push_back(static_cast<Index>(i));
        }
        for (const auto& rows : rows_) {
            MatrixXd B(static_cast<Index>(rows.size()), Q_.cols());
            for (std::size_t i = 0; i < rows.size(); ++i) {
                const auto at = static_cast<Index>(i);
                B(at, 0) = roots(rows[i]);
                B.row(at).tail(slopes.cols()) = roots(rows[i]) * slopes.row(rows[i]);
            }
            for (Index j = 0; j < B.cols(); ++j) {
                const double before = B.col(j).norm();
                for (int again = 0; again < 2; ++again) {
                    for (Index l = 0; l < j; ++l) {
                        B.col(j) -= B.col(l).dot(B.col(j)) * B.col(l);
                    }
                }
                const double left = B.col(j).norm();
                const bool some = left > 1e-10 * before && before > 0.0;
                some ? B.col(j) /= left : B.col(j) *= 0.0;
                rank_ += some ? 1.0 : 0.0;
            }
            for (std::size_t i = 0; i < rows.size(); ++i) {
                Q_.row(rows[i]) = B.row(static_cast<Index>(i));
            }
        }
    }

    [[nodiscard]] double rank() const { return rank_; }

    [[nodiscard]] const std::vector<std::vector<Index>>& rows() const { return rows_; }

    [[nodiscard]] const MatrixXd& Q() const { return Q_; }

    /// What the groups leave of a column (times root weights).
    void takeOut(Eigen::Ref<VectorXd> x) const {
        for (const auto& rows : rows_) {
            for (int again = 0; again < 2; ++again) {
                VectorXd c = VectorXd::Zero(Q_.cols());
                for (const Index i : rows) {
                    c += x(i) * Q_.row(i).transpose();
                }
                for (const Index i : rows) {
                    x(i) -= Q_.row(i).dot(c);
                }
            }
        }
    }

  private:
    std::vector<std::vector<Index>> rows_;
    MatrixXd Q_;
    double rank_ = 0.0;
};

/// Levels of further groupings, numbered one behind the other.
class FurtherLevels {
  public:
    FurtherLevels(const std::vector<EffectGroups>& further, const VectorXd& roots)
        : further_(further), roots_(roots) {
        for (const EffectGroups& grouping : further) {
            starts_.push_back(count_);
            count_ += grouping.count;
        }
    }

    [[nodiscard]] Index count() const { return count_; }

    /// Those of a row.
    void of(Index i, std::vector<Index>& out) const {
        out.clear();
        for (std::size_t g = 0; g < further_.size(); ++g) {
            out.push_back(starts_[g] + further_[g].of[static_cast<std::size_t>(i)]);
        }
    }

    /// The levels that rows of a group have, in order, and their products with its basis.
    [[nodiscard]] std::pair<std::vector<Index>, MatrixXd> ofGroup(
        const GroupBasis& basis, const std::vector<Index>& rows) const {
        std::vector<Index> at;
        std::vector<Index> seen;
        for (const Index i : rows) {
            of(i, at);
            seen.insert(seen.end(), at.begin(), at.end());
        }
        std::sort(seen.begin(), seen.end());
        seen.erase(std::unique(seen.begin(), seen.end()), seen.end());
        MatrixXd B = MatrixXd::Zero(static_cast<Index>(seen.size()), basis.Q().cols());
        for (const Index i : rows) {
            of(i, at);
            for (const Index a : at) {
                const auto place = std::lower_bound(seen.begin(), seen.end(), a) - seen.begin();
                B.row(place) += roots_(i) * basis.Q().row(i);
            }
        }
        return {std::move(seen), std::move(B)};
    }

    /// D'MD of the levels, M what the groups of the basis leave.
    [[nodiscard]] MatrixXd leftBy(const GroupBasis& basis, const Job& job) const {
        MatrixXd A = MatrixXd::Zero(count_, count_);
        std::vector<Index> at;
        for (const auto& rows : basis.rows()) {
            if (count_ == 0 || job.stopped()) {
                break;
            }
            for (const Index i : rows) {
                of(i, at);
                for (const Index a : at) {
                    for (const Index b : at) {
                        A(a, b) += roots_(i) * roots_(i);
                    }
                }
            }
            const auto [seen, B] = ofGroup(basis, rows);
            const MatrixXd inner = B * B.transpose();
            for (std::size_t a = 0; a < seen.size(); ++a) {
                for (std::size_t b = 0; b < seen.size(); ++b) {
                    A(seen[a], seen[b]) -= inner(static_cast<Index>(a), static_cast<Index>(b));
                }
            }
        }
        return A;
    }

  private:
    const std::vector<EffectGroups>& further_;
    const VectorXd& roots_;
    std::vector<Index> starts_;
    Index count_ = 0;
};

/// @param rank  the rank is added to it.
MatrixXd pseudoInverse(const MatrixXd& A, double& rank) {
    const Eigen::SelfAdjointEigenSolver<MatrixXd> solver(A);
    const double largest = solver.eigenvalues().cwiseAbs().maxCoeff();
    VectorXd reciprocal = VectorXd::Zero(A.rows());
    for (Index j = 0; j < A.rows(); ++j) {
        if (solver.eigenvalues()(j) > 1e-10 * largest) {
            reciprocal(j) = 1.0 / solver.eigenvalues()(j);
            rank += 1.0;
        }
    }
    return solver.eigenvectors() * reciprocal.asDiagonal() * solver.eigenvectors().transpose();
}

}  // namespace

Result<SweptReport> sweepSlopes(MatrixXd& columns, const EffectGroups& own, const MatrixXd& slopes,
                                const std::vector<EffectGroups>& further, const VectorXd& weights,
                                const Job& job) {
    const Index n = columns.rows();
    const VectorXd roots = weights.size() > 0 ? VectorXd(weights.cwiseSqrt()) : VectorXd::Ones(n);
    const FurtherLevels levelsOf(further, roots);
    const Index levels = levelsOf.count();
    if (levels > 2000) {
        return refuse(
            ErrorCode::BadSetting,
            "beside slopes of their own for each unit at most 2,000 further levels can be "
            "held fixed",
            "held fixed", "Hold something coarser fixed, or leave the slopes out.");
    }
    // Slopes are told apart best about their own mean.
    MatrixXd centred = slopes;
    for (Index j = 0; j < centred.cols(); ++j) {
        centred.col(j).array() -= centred.col(j).mean();
    }
    const GroupBasis basis(own, centred, roots);
    SweptReport report;
    report.rank = basis.rank();
    const MatrixXd inverse =
        levels > 0 ? pseudoInverse(levelsOf.leftBy(basis, job), report.rank) : MatrixXd();
    std::vector<Index> at;
    for (Index c = 0; c < columns.cols(); ++c) {
        if (job.stopped()) {
            return refuse(ErrorCode::Stopped, "the computation was stopped");
        }
        VectorXd x = roots.cwiseProduct(columns.col(c));
        basis.takeOut(x);
        for (int again = 0; again < 2 && levels > 0; ++again) {
            VectorXd sums = VectorXd::Zero(levels);
            for (Index i = 0; i < n; ++i) {
                levelsOf.of(i, at);
                for (const Index a : at) {
                    sums(a) += roots(i) * x(i);
                }
            }
            const VectorXd effects = inverse * sums;
            for (Index i = 0; i < n; ++i) {
                levelsOf.of(i, at);
                for (const Index a : at) {
                    x(i) -= roots(i) * effects(a);
                }
            }
            basis.takeOut(x);
        }
        columns.col(c) = x.cwiseQuotient(roots);
    }
    return report;
}

Result<VectorXd> effectsLeverage(const EffectGroups& own, const MatrixXd& slopes,
                                 const std::vector<EffectGroups>& further, const VectorXd& weights,
                                 const Job& job) {
    const auto n = static_cast<Index>(own.of.size());
    const VectorXd roots = weights.size() > 0 ? VectorXd(weights.cwiseSqrt()) : VectorXd::Ones(n);
    const FurtherLevels levels(further, roots);
    constexpr Index kMostLevels = 1500;
    constexpr double kMostWork = 2e9;
    if (levels.count() > kMostLevels ||
        static_cast<double>(n) * static_cast<double>(levels.count()) > kMostWork) {
        return refuse(ErrorCode::BadSetting,
                      "the leverage of rows under so much that is held fixed would cost many times "
                      "the fit",
                      "errors", "Use HC1 or clustered errors, or hold something coarser fixed.");
    }
    MatrixXd centred = slopes;
    for (Index j = 0; j < centred.cols(); ++j) {
        centred.col(j).array() -= centred.col(j).mean();
    }
    const GroupBasis basis(own, centred, roots);
    VectorXd h = basis.Q().rowwise().squaredNorm();
    if (levels.count() == 0) {
        return h;
    }
    double rank = 0.0;
    const MatrixXd inverse = pseudoInverse(levels.leftBy(basis, job), rank);
    std::vector<Index> at;
    for (const auto& rows : basis.rows()) {
        if (job.stopped()) {
            return refuse(ErrorCode::Stopped, "the computation was stopped");
        }
        // r = root e_levels − B q of each row of the group; h adds r' A⁻ r.
        const auto [seen, B] = levels.ofGroup(basis, rows);
        const MatrixXd onSeen = inverse(seen, seen);
        const MatrixXd AB = onSeen * B;
        const MatrixXd BAB = B.transpose() * AB;
        for (const Index i : rows) {
            const VectorXd q = basis.Q().row(i).transpose();
            levels.of(i, at);
            double levelsAlone = 0.0;
            double cross = 0.0;
            for (const Index a : at) {
                for (const Index b : at) {
                    levelsAlone += roots(i) * roots(i) * inverse(a, b);
                }
                const auto place = std::lower_bound(seen.begin(), seen.end(), a) - seen.begin();
                cross += roots(i) * AB.row(place).dot(q);
            }
            h(i) += levelsAlone - 2.0 * cross + q.dot(BAB * q);
        }
    }
    return h;
}

}  // namespace rapporto
