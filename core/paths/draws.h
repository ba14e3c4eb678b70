#pragma once

#include "core/paths/effects.h"

namespace rapporto {

/// Effects and shares by draws.
struct TraceDraws {
    Eigen::MatrixXd values;     ///< E × good draws.
    Eigen::MatrixXd influence;  ///< Units × E: what each unit adds to an effect; of BCa alone.
    int asked = 0;
    int failed = 0;  ///< Draws in which an equation has no solution.
};

/// Draws of rows or clusters anew, of the joint normal law of the coefficients, or of the Wishart
/// law of a summary’s covariances. A linear system is not fitted anew: a draw sums the products of
/// its rows (or clusters), block by block as one matrix product, and solves the equations from the
/// sums. Same bits for any number of threads; looks at the job between blocks of a few million
/// products.
///
/// @param covariance  of θ, for parametric draws.
/// @return Stopped, TooFewRows (most draws have no solution).
[[nodiscard]] Result<TraceDraws> drawEffects(const PathSystem& system, const EffectPlan& plan,
                                             const TraceSpec& spec,
                                             const Eigen::MatrixXd& covariance,
                                             const SummaryMatrix* moments, const Job& job);

}  // namespace rapporto
