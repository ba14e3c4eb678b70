#pragma once

#include "core/base/job.h"
#include "core/base/result.h"
#include "core/numerics/random.h"

#include <Eigen/Dense>

namespace rapporto {

/// What one draw of a variable is made of: rows where it was seen and rows where it was not, with
/// what foretells it in both. The first column of the matrices is all ones, the others have about
/// mean 0 and spread 1.
struct SeenAndNot {
    const Eigen::MatrixXd& seen;     ///< Rows × columns.
    const Eigen::VectorXd& y;        ///< As many rows: numbers, or places of levels from 0.
    const Eigen::MatrixXd& notSeen;  ///< Rows to be filled × columns.
};

/// Groups that rows hang together by, with the state that a chain keeps of them.
struct GroupsOfRows {
    std::vector<std::int32_t> seen;  ///< Of each row, from 0.
    std::vector<std::int32_t> notSeen;
    Eigen::VectorXd shift;   ///< Of each group, drawn.
    double variance = -1.0;  ///< Of the shifts, drawn; below 0: none yet.
};

/// What a chain keeps of a variable of levels from one visit to the next: where the search was, and
/// room for its rows.
struct LevelState {
    Eigen::VectorXd start;  ///< The maximum of the visit before; empty: none.
    Eigen::MatrixXd X;      ///< Rows seen, and rows that stand for a little of everything.
    Eigen::VectorXd y;
    Eigen::VectorXd weights;
};

/// Values drawn for the rows to be filled from the law of a linear regression on the rows seen,
/// its coefficients and spread drawn first. With groups each has a shift of its own, drawn from a
/// normal law whose variance is drawn, too.
/// Source: Rubin (1987), Multiple Imputation for Nonresponse in Surveys; Schafer & Yucel (2002),
/// Journal of Computational and Graphical Statistics 11, for the groups.
/// @param donors  0: the value itself, with an error of its own; else one of so many rows seen
///                whose foretold values lie nearest (Little (1988), Journal of Business &
///                Economic Statistics 6: theirs by the estimated coefficients, the other's by the
///                drawn ones).
/// @return TooFewRows where the rows seen are no more than what foretells.
[[nodiscard]] Result<Eigen::VectorXd> drawNumbers(const SeenAndNot& rows, int donors,
                                                  GroupsOfRows* groups, RandomStream& random);

/// Levels drawn by the law of a logit (two levels, plain groups) or an ordered logit on the rows
/// seen, its coefficients drawn first. Rows that stand for a little of everything keep estimates
/// finite where a level is told for certain.
/// Source: White, Daniel & Royston (2010), Computational Statistics & Data Analysis 54.
[[nodiscard]] Result<Eigen::VectorXd> drawLevels(const SeenAndNot& rows, int levels, bool ordered,
                                                 LevelState& state, RandomStream& random,
                                                 const Job& job);

/// A standard normal number, and one of chi-square with `df` degrees of freedom.
[[nodiscard]] double normalDraw(RandomStream& random);
[[nodiscard]] double chiSquareDraw(double df, RandomStream& random);

}  // namespace rapporto
