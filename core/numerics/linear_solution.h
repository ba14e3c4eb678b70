#pragma once

#include "core/base/job.h"
#include "core/base/result.h"
#include "core/numerics/columns_view.h"

#include <Eigen/Dense>

#include <span>
#include <vector>

namespace rapporto {

/// y (n) on the columns of X (n × k), rows weighted by w where given. No cell is missing.
struct LinearProblem {
    ColumnsView X;
    Eigen::Ref<const Eigen::VectorXd> y;
    const Eigen::VectorXd& weights;  ///< n positive numbers, or empty.
    bool hasConstant = false;        ///< Column 0 is all ones.
};

/// A column that is a linear combination of those before it.
struct RedundantColumn {
    Eigen::Index column = 0;
    std::vector<Eigen::Index> of;  ///< Columns it is made of …
    std::vector<double> by;        ///< … and how much of each.
};

/// Least squares solution over the columns that are linearly independent of their predecessors.
///
/// With Z the kept columns centred at `centre` (the constant, if any, stays 1),
/// (Z'WZ)⁻¹ = C C' for C = `centredFactor`, and (X'WX)⁻¹ = F F' for F = `factor`.
struct LinearSolution {
    std::vector<Eigen::Index> kept;
    std::vector<RedundantColumn> redundant;
    Eigen::VectorXd coefficients;  ///< Of the kept columns.
    Eigen::VectorXd residuals;     ///< y − Xb, n, unweighted.
    Eigen::MatrixXd factor;
    Eigen::MatrixXd centredFactor;
    Eigen::VectorXd centre;
    double residualSquares = 0.0;  ///< Σ w e².
    bool wide = false;             ///< Solved in 113-bit arithmetic.
    /// Σ (w e)² z z' over the kept, centred columns; filled where it was asked for.
    Eigen::MatrixXd meat;
    /// Σ w e z' over each group (groups × k) of the kept, centred columns; filled where asked for.
    Eigen::MatrixXd scores;
};

/// What a solution is to bring along from its last look at the rows.
struct WantedSums {
    bool meat = false;
    std::span<const std::int32_t> groups = {};  ///< Ids from 0, one a row; empty: no scores.
    Eigen::Index groupCount = 0;
};

/// Solves by one of three ways, chosen by size and condition:
///   - modified Gram–Schmidt with reorthogonalisation while n·k² ≤ 3e6 (blocked Householder
///     triangles beyond),
///   - the same in 113-bit arithmetic when the estimated relative error eps(κ + κ²‖e‖/‖y‖) or the
///     loss in the residuals eps‖y‖/‖e‖ exceeds 3e-13 (Wampler's polynomials),
///   - centred and scaled cross products by row blocks, Cholesky and one refinement step for
///     larger problems, falling back to the first way when a pivot falls below 1e-6.
/// Columns are scaled by powers of two, so a change of unit by one changes nothing else. A column
/// is redundant when less than 1e-11 of its length (1e-13 in wide arithmetic) is left after its
/// predecessors. Same bits for any number of threads.
///
/// @return the solution, or Stopped.
/// Source: Å. Björck, Numerical Methods for Least Squares Problems (1996), sections 2.4, 2.9.
[[nodiscard]] Result<LinearSolution> solveLinear(const LinearProblem& problem,
                                                 const WantedSums& wanted, const Job& job);

/// The same with the meat or nothing beside the solution.
[[nodiscard]] inline Result<LinearSolution> solveLinear(const LinearProblem& problem, bool wantMeat,
                                                        const Job& job) {
    return solveLinear(problem, WantedSums{.meat = wantMeat}, job);
}

/// Another outcome on the columns of a solution: its factor serves again, so that the rows are
/// read for products with the outcome alone. Problems that are solved by orthogonalising are solved
/// anew.
[[nodiscard]] Result<LinearSolution> solveOther(const LinearProblem& problem,
                                                const LinearSolution& known, const Job& job);

/// Σ w (x − mean)² of the kept columns of X, k; the constant's is zero.
[[nodiscard]] Eigen::VectorXd centredSquares(const LinearProblem& problem,
                                             const LinearSolution& solution);

/// Σ w (x − mean)² with the mean's rounding taken out; w may be empty.
/// Source: Chan, Golub & LeVeque (1983), The American Statistician 37.
[[nodiscard]] double centredSquares(const Eigen::VectorXd& x, const Eigen::VectorXd& w);

/// X F for F F' = (X'WX)⁻¹, by way of the centred columns: far from zero F cancels in the digits of
/// the columns, and this does not. W½ times it has orthonormal columns.
[[nodiscard]] Eigen::MatrixXd orthonormalColumns(const ColumnsView& X,
                                                 const LinearSolution& solution);

/// Nothing is left but rounding: the residuals are within a few units in the last place of what
/// they are the difference of. The one place that says so.
///
/// @param blurred  what the outcome and the columns are uncertain by beyond rounding, as a share of
///                 their spread (columns that were swept iteratively); 0: nothing.
[[nodiscard]] bool isRounding(const LinearProblem& problem, const LinearSolution& solution,
                              double blurred = 0.0);

/// Diagonal of W½X(X'WX)⁻¹X'W½, n.
[[nodiscard]] Eigen::VectorXd leverages(const LinearProblem& problem,
                                        const LinearSolution& solution);

/// Σ f² z z' over the kept, centred columns, for a factor f per row (n).
[[nodiscard]] Eigen::MatrixXd scaledMeat(const LinearProblem& problem,
                                         const LinearSolution& solution,
                                         const Eigen::VectorXd& factorByRow);

/// Rows of sums Σ f z over the members of each group (groups × k); ids from 0.
[[nodiscard]] Eigen::MatrixXd groupedScores(const LinearProblem& problem,
                                            const LinearSolution& solution,
                                            const Eigen::VectorXd& factorByRow,
                                            std::span<const std::int32_t> groups,
                                            Eigen::Index count);

}  // namespace rapporto
