#pragma once

#include "core/base/job.h"
#include "core/base/result.h"

#include <Eigen/Dense>

#include <vector>

namespace rapporto {

/// A vertex of min_b Σ w ρ_τ(y − Xb), ρ_τ(r) = r(τ − 1{r < 0}).
struct QuantileSolution {
    Eigen::VectorXd coefficients;     ///< k.
    Eigen::VectorXd residuals;        ///< y − Xb; exactly zero in the rows of the basis.
    std::vector<Eigen::Index> basis;  ///< k rows that the solution passes through.
    double objective = 0.0;
    int steps = 0;   ///< Of the interior point.
    int pivots = 0;  ///< From there to the vertex.
    /// Another vertex does as well: some multiplier of the basis is at an end.
    bool manifold = false;
};

/// Solves the linear programme exactly: a primal–dual interior point on the bounded dual brings the
/// neighbourhood of the solution, the k rows next to it are made a basis, and pivots along edges
/// (each to the best place on its line) go on until every multiplier lies in [τ − 1, τ]. Beyond
/// 4,000 rows a sample foretells the signs of most residuals, whose rows are then taken together
/// as two; what was foretold wrongly is put back and the rest solved again.
///
/// @param X        n × k, independent columns.
/// @param weights  n positive numbers, or empty.
/// @return the vertex, RankDeficient (columns that are not independent), NotConverged, Stopped.
/// Source: Koenker & Bassett (1978), Econometrica 46; Barrodale & Roberts (1973), SIAM J. Numerical
/// Analysis 10; Portnoy & Koenker (1997), Statistical Science 12.
[[nodiscard]] Result<QuantileSolution> solveQuantile(const Eigen::MatrixXd& X,
                                                     const Eigen::VectorXd& y,
                                                     const Eigen::VectorXd& weights, double tau,
                                                     const Job& job);

}  // namespace rapporto
