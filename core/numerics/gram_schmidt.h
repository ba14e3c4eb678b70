#pragma once

#include "core/numerics/columns_view.h"

#include <Eigen/Dense>

#include <vector>

namespace rapporto {

/// Quadruple precision: a 113-bit significand, in software.
__extension__ using Quad = __float128;

/// Result of orthogonalising [Z | y] column by column; see gramSchmidt().
struct Orthogonalised {
    std::vector<Eigen::Index> kept;
    std::vector<Eigen::Index> redundant;
    std::vector<Eigen::VectorXd> relations;  ///< Of each redundant column on the kept before it.
    Eigen::VectorXd solution;                ///< β over the kept columns.
    Eigen::MatrixXd inverse;    ///< R⁻¹, upper triangular: (Z'Z)⁻¹ = R⁻¹R⁻ᵀ.
    Eigen::VectorXd residuals;  ///< y − Zβ as left by the projections.
    double residualSquares = 0.0;
    double outcomeLength = 0.0;
    double condition = 0.0;  ///< √k · the largest ratio of a column's length to what is left of it.
    double leastShare = 1.0;     ///< The least share of its raw length left of any kept column …
    double lostShare = 0.0;      ///< … and the largest left of any redundant one.
    double constantShift = 0.0;  ///< β of the constant less Σ centre·β, when it was asked for.
};

/// Orthogonalises the columns of Z = [1 | x − centre] scaled by the row factors, then y, each
/// against its predecessors, twice; in double or in 113-bit arithmetic.
///
/// @param rootWeights  square roots of the weights, n, or empty.
/// @param tolerance    a column is redundant when it keeps no larger share of its raw length.
[[nodiscard]] Orthogonalised gramSchmidt(const ColumnsView& X,
                                         const Eigen::Ref<const Eigen::VectorXd>& y,
                                         const Eigen::VectorXd& rootWeights,
                                         const Eigen::VectorXd& centre, double tolerance,
                                         bool wide);

/// The same of a triangle that stands for many rows. `lengths` are those of the columns before they
/// were centred, k.
[[nodiscard]] Orthogonalised gramSchmidtOf(const Eigen::MatrixXd& R, const Eigen::VectorXd& y,
                                           const Eigen::VectorXd& lengths, double tolerance);

}  // namespace rapporto
