#pragma once

#include "core/numerics/linear_solution.h"

#include <cstdint>
#include <optional>
#include <vector>

namespace rapporto {

/// Columns of nought and one of which each row has at most one: the levels of a grouping. Where
/// they are many, least squares and what follows from it take them out by means within groups and
/// put them back, in time that grows with their number as the rows do and not with its square.
struct IndicatorBlock {
    std::vector<Eigen::Index> columns;  ///< One a group, in their order …
    std::vector<Eigen::Index> others;   ///< … and those that are none of it.
    std::vector<std::int32_t> of;       ///< Group of each row; −1: of none.
};

/// The block of the columns, those with the fewest ones first; nothing where it would be small.
[[nodiscard]] std::optional<IndicatorBlock> indicatorBlock(const ColumnsView& X);

/// As solveLinear(). Nothing where a column is, or nearly is, a combination of others: what is
/// redundant is told in the order of the columns, and here groups come first.
[[nodiscard]] std::optional<LinearSolution> solveWithin(const LinearProblem& problem,
                                                        const IndicatorBlock& block,
                                                        const Job& job);

/// A problem less the means of its groups.
struct ProblemWithin {
    Eigen::MatrixXd X;  ///< Columns that vary within groups.
    Eigen::VectorXd y;
    double groups = 0.0;  ///< How many columns went with them.
};

/// Leaves the same of the outcome as the problem, whose columns are as many and the groups’.
/// Columns of nought are left out. Nothing where there is no block, or it is not clear whether a
/// column varies within groups.
[[nodiscard]] std::optional<ProblemWithin> withinGroups(const LinearProblem& problem);

/// As the functions of linear_solution.h of these names. Nothing where a group's column is centred,
/// or the others nearly go together within groups.
[[nodiscard]] std::optional<Eigen::VectorXd> leveragesWithin(const LinearProblem& problem,
                                                             const LinearSolution& solution);
[[nodiscard]] std::optional<Eigen::MatrixXd> scaledMeatWithin(const LinearProblem& problem,
                                                              const LinearSolution& solution,
                                                              const Eigen::VectorXd& factorByRow);
[[nodiscard]] std::optional<Eigen::MatrixXd> groupedScoresWithin(
    const LinearProblem& problem, const LinearSolution& solution,
    const Eigen::VectorXd& factorByRow, std::span<const std::int32_t> groups, Eigen::Index count);

}  // namespace rapporto
