#include "core/numerics/blocked_qr.h"

#include "core/base/parallel.h"

#include <cblas.h>

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr Index kRows = 1024;
constexpr int kMostRefinements = 4;  // Each gains the digits that eps·κ² leaves.

/// The triangle of rows that come in blocks. A reflection that clears a column of the block touches
/// one row of the triangle; the columns to its right are turned one at a time, while they are near.
class Triangle {
  public:
    explicit Triangle(Index columns)
        : columns_(columns),
          R_(MatrixXd::Zero(columns, columns)),
          block_(std::max(kRows, columns), columns) {}

    /// Where the next rows are written.
    [[nodiscard]] Eigen::Block<MatrixXd> rows(Index count) {
        return block_.block(0, 0, count, columns_);
    }

    /// Takes the rows in.
    void absorb(Index count) {
        const int rows = static_cast<int>(count);
        for (Index j = 0; j < columns_; ++j) {
            double* v = &block_(0, j);
            const double below = cblas_ddot(rows, v, 1, v, 1);
            if (below == 0.0) {
                continue;
            }
            const double top = R_(j, j);
            const double length = std::copysign(std::sqrt(top * top + below), top);
            // I − τ u u' with u = (top + length, v) and τ = 1/(length (top + length)).
            const double u = top + length;
            const double tau = 1.0 / (length * u);
            R_(j, j) = -length;
            for (Index c = j + 1; c < columns_; ++c) {
                double* x = &block_(0, c);
                const double by = -tau * (u * R_(j, c) + cblas_ddot(rows, v, 1, x, 1));
                R_(j, c) += by * u;
                cblas_daxpy(rows, by, v, 1, x, 1);
            }
        }
    }

    [[nodiscard]] const MatrixXd& R() const { return R_; }

  private:
    Index columns_;
    MatrixXd R_;
    MatrixXd block_;
};

}  // namespace

Orthogonalised blockedQr(const ColumnsView& X, const Eigen::Ref<const VectorXd>& y,
                         const VectorXd& rootWeights, const VectorXd& centre, double tolerance) {
    const Index k = X.cols();
    const RowChunks chunks(static_cast<std::size_t>(X.rows()));
    std::vector<MatrixXd> triangles(chunks.count());
    std::vector<VectorXd> raws(chunks.count(), VectorXd::Zero(k));
    chunks.forEach([&](std::size_t c) {
        Triangle triangle(k + 1);
        const auto end = static_cast<Index>(chunks[c].end);
        for (auto from = static_cast<Index>(chunks[c].begin); from < end; from += kRows) {
            const Index rows = std::min(kRows, end - from);
            auto block = triangle.rows(rows);
            for (Index j = 0; j < k; ++j) {
                const auto x = X.col(j).segment(from, rows).array();
                if (rootWeights.size() > 0) {
                    const auto w = rootWeights.segment(from, rows).array();
                    block.col(j) = (x - centre(j)) * w;
                    raws[c](j) += (x * w).square().sum();
                } else {
                    block.col(j) = x - centre(j);
                    raws[c](j) += x.square().sum();
                }
            }
            block.col(k) = y.segment(from, rows);
            if (rootWeights.size() > 0) {
                block.col(k).array() *= rootWeights.segment(from, rows).array();
            }
            triangle.absorb(rows);
        }
        triangles[c] = triangle.R();
    });
    VectorXd raw = VectorXd::Zero(k);
    Triangle all(k + 1);
    for (std::size_t c = 0; c < chunks.count(); ++c) {
        raw += raws[c];
        all.rows(k + 1) = triangles[c];
        all.absorb(k + 1);
    }
    const MatrixXd R = all.R();
    const VectorXd lengths = raw.cwiseSqrt();
    Orthogonalised out = gramSchmidtOf(R.leftCols(k), R.col(k), lengths, tolerance);

    // Residuals by row, and what they still correlate with the columns.
    const auto kept = static_cast<Index>(out.kept.size());
    out.residuals.resize(X.rows());
    bool settled = false;
    for (int turn = 0; turn <= kMostRefinements && !settled; ++turn) {
        const bool last = turn == kMostRefinements;
        std::vector<VectorXd> gradients(chunks.count(), VectorXd::Zero(kept));
        std::vector<double> squares(chunks.count(), 0.0);
        chunks.forEach([&](std::size_t c) {
            const auto end = static_cast<Index>(chunks[c].end);
            VectorXd weighted(kRows);
            for (auto from = static_cast<Index>(chunks[c].begin); from < end; from += kRows) {
                const Index rows = std::min(kRows, end - from);
                auto e = out.residuals.segment(from, rows);
                e = y.segment(from, rows);
                for (Index j = 0; j < kept; ++j) {
                    const Index column = out.kept[static_cast<std::size_t>(j)];
                    e.array() -= out.solution(j) *
                                 (X.col(column).segment(from, rows).array() - centre(column));
                }
                auto w = weighted.head(rows);
                w = e;
                if (rootWeights.size() > 0) {
                    w.array() *= rootWeights.segment(from, rows).array();
                }
                squares[c] += w.squaredNorm();
                if (last) {
                    continue;
                }
                if (rootWeights.size() > 0) {
                    w.array() *= rootWeights.segment(from, rows).array();
                }
                const double sum = w.sum();
                for (Index j = 0; j < kept; ++j) {
                    const Index column = out.kept[static_cast<std::size_t>(j)];
                    gradients[c](j) +=
                        X.col(column).segment(from, rows).dot(w) - centre(column) * sum;
                }
            }
        });
        out.residualSquares = 0.0;
        VectorXd gradient = VectorXd::Zero(kept);
        for (std::size_t c = 0; c < chunks.count(); ++c) {
            gradient += gradients[c];
            out.residualSquares += squares[c];
        }
        // Along orthonormal columns a correction is measured in standard errors.
        const VectorXd correction = out.inverse.transpose() * gradient;
        settled = last || correction.squaredNorm() <= 1e-22 * out.residualSquares;
        if (!settled) {
            out.solution += out.inverse * correction;
        }
    }
    out.constantShift = kept > 0 ? out.solution(0) : 0.0;
    for (Index j = 0; j < kept; ++j) {
        out.constantShift -= centre(out.kept[static_cast<std::size_t>(j)]) * out.solution(j);
    }
    return out;
}

}  // namespace rapporto
