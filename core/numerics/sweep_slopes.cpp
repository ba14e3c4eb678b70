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

}  // namespace

Result<SweptReport> sweepSlopes(MatrixXd& columns, const EffectGroups& own, const MatrixXd& slopes,
                                const std::vector<EffectGroups>& further, const VectorXd& weights,
                                const Job& job) {
    const Index n = columns.rows();
    const VectorXd roots = weights.size() > 0 ? VectorXd(weights.cwiseSqrt()) : VectorXd::Ones(n);
    Index levels = 0;
    std::vector<Index> starts;
    for (const EffectGroups& grouping : further) {
        starts.push_back(levels);
        levels += grouping.count;
    }
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
    // D'MD of the further levels.
    MatrixXd A = MatrixXd::Zero(levels, levels);
    const auto levelsOf = [&](Index i, std::vector<Index>& out) {
        out.clear();
        for (std::size_t g = 0; g < further.size(); ++g) {
            out.push_back(starts[g] + further[g].of[static_cast<std::size_t>(i)]);
        }
    };
    std::vector<Index> at;
    for (const auto& rows : basis.rows()) {
        if (levels == 0 || job.stopped()) {
            break;
        }
        std::vector<Index> seen;
        for (const Index i : rows) {
            levelsOf(i, at);
            for (const Index a : at) {
                for (const Index b : at) {
                    A(a, b) += roots(i) * roots(i);
                }
                seen.push_back(a);
            }
        }
        std::sort(seen.begin(), seen.end());
        seen.erase(std::unique(seen.begin(), seen.end()), seen.end());
        MatrixXd B = MatrixXd::Zero(static_cast<Index>(seen.size()), basis.Q().cols());
        for (const Index i : rows) {
            levelsOf(i, at);
            for (const Index a : at) {
                const auto place = std::lower_bound(seen.begin(), seen.end(), a) - seen.begin();
                B.row(place) += roots(i) * basis.Q().row(i);
            }
        }
        const MatrixXd inner = B * B.transpose();
        for (std::size_t a = 0; a < seen.size(); ++a) {
            for (std::size_t b = 0; b < seen.size(); ++b) {
                A(seen[a], seen[b]) -= inner(static_cast<Index>(a), static_cast<Index>(b));
            }
        }
    }
    MatrixXd inverse;
    if (levels > 0) {
        const Eigen::SelfAdjointEigenSolver<MatrixXd> solver(A);
        const double largest = solver.eigenvalues().cwiseAbs().maxCoeff();
        VectorXd reciprocal = VectorXd::Zero(levels);
        for (Index j = 0; j < levels; ++j) {
            if (solver.eigenvalues()(j) > 1e-10 * largest) {
                reciprocal(j) = 1.0 / solver.eigenvalues()(j);
                report.rank += 1.0;
            }
        }
        inverse =
            solver.eigenvectors() * reciprocal.asDiagonal() * solver.eigenvectors().transpose();
    }
    for (Index c = 0; c < columns.cols(); ++c) {
        if (job.stopped()) {
            return refuse(ErrorCode::Stopped, "the computation was stopped");
        }
        VectorXd x = roots.cwiseProduct(columns.col(c));
        basis.takeOut(x);
        for (int again = 0; again < 2 && levels > 0; ++again) {
            VectorXd sums = VectorXd::Zero(levels);
            for (Index i = 0; i < n; ++i) {
                for (std::size_t g = 0; g < further.size(); ++g) {
                    sums(starts[g] + further[g].of[static_cast<std::size_t>(i)]) += roots(i) * x(i);
                }
            }
            const VectorXd effects = inverse * sums;
            for (Index i = 0; i < n; ++i) {
                for (std::size_t g = 0; g < further.size(); ++g) {
                    x(i) -=
                        roots(i) * effects(starts[g] + further[g].of[static_cast<std::size_t>(i)]);
                }
            }
            basis.takeOut(x);
        }
        columns.col(c) = x.cwiseQuotient(roots);
    }
    return report;
}

}  // namespace rapporto
