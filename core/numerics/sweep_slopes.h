#pragma once

#include "core/numerics/sweep_effects.h"

namespace rapporto {

/// Takes a level and slopes of each group out of every column (n × c, in place), with the levels of
/// further groupings beside them, as regressing on all their columns would.
///
/// Method: each group’s own columns are made orthonormal and projected away; the further levels by
/// the pseudo-inverse of their cross products after that, so they may number 2,000 in all.
///
/// @param slopes   n × s, the variables that have a slope in each group of `own`.
/// @param weights  n positive numbers, or empty.
/// @return the report (`rank` exact), or BadSetting (more further levels), Stopped.
/// Source: Frisch & Waugh (1933), Econometrica 1.
[[nodiscard]] Result<SweptReport> sweepSlopes(Eigen::MatrixXd& columns, const EffectGroups& own,
                                              const Eigen::MatrixXd& slopes,
                                              const std::vector<EffectGroups>& further,
                                              const Eigen::VectorXd& weights, const Job& job);

/// Leverage of the effects alone: diagonal of W½D(D'WD)⁻D'W½ over a level and slopes of each group
/// of `own` and the levels of further groupings, n. Exact.
///
/// Method: the own columns are made orthonormal; of the further levels what those leave is
/// projected on by the pseudo-inverse of their cross products.
/// Time O(L³ + n L) for L further levels.
///
/// @param slopes  n × s; s may be zero.
/// @return BadSetting (L above 1,500, or n L above 2e9), Stopped.
[[nodiscard]] Result<Eigen::VectorXd> effectsLeverage(const EffectGroups& own,
                                                      const Eigen::MatrixXd& slopes,
                                                      const std::vector<EffectGroups>& further,
                                                      const Eigen::VectorXd& weights,
                                                      const Job& job);

}  // namespace rapporto
