#pragma once

#include "core/numerics/gram_schmidt.h"

namespace rapporto {

/// As gramSchmidt(), for many rows: triangles of 1024 rows at a time, reflections of [R; rows] over
/// and over, one after the other within a stretch of rows and the stretches in their order; then
/// refined from the residuals until a correction is under 1e-11 of the residuals' length (four
/// times at most). Same bits for any number of threads.
/// Source: Golub & Van Loan, Matrix Computations (2013), section 5.2; Demmel, Grigori, Hoemmen &
/// Langou (2012), SIAM J. Scientific Computing 34.
[[nodiscard]] Orthogonalised blockedQr(const ColumnsView& X,
                                       const Eigen::Ref<const Eigen::VectorXd>& y,
                                       const Eigen::VectorXd& rootWeights,
                                       const Eigen::VectorXd& centre, double tolerance);

}  // namespace rapporto
