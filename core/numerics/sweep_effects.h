#pragma once

#include "core/base/job.h"
#include "core/base/result.h"

#include <Eigen/Dense>

#include <span>
#include <vector>

namespace rapporto {

/// A grouping of the rows: ids from 0, one a row; every id below `count` occurs.
struct EffectGroups {
    std::span<const std::int32_t> of;
    std::int32_t count = 0;
};

/// How sweeping went.
struct SweptReport {
    bool converged = true;
    int steps = 0;             ///< Of conjugate gradients; 0: solved directly.
    double largestMean = 0.0;  ///< Of what is left, over groups and columns, in sd of the column.
    /// Linearly independent effects: exact for one and two groupings; for each further one its
    /// count less one, which may be too many.
    double rank = 0.0;
};

/// Takes the effects of the groupings out of every column (n × c, in place), as regressing on all
/// their indicators would: what is left has (weighted) mean zero in every group.
///
/// Method: the effects of the largest grouping are solved for exactly; those of the others by a
/// Cholesky factorisation of their Schur complement while they number 1200 at most and there are
/// two groupings, else by conjugate gradients on the effects, all columns at once, over the cells
/// in which rows agree; two groupings that do not settle in 150 steps by a sparse factor where it
/// fills little. Repeated on what is left until the largest group mean is 1e-8 sd or less.
/// Time O(n c) a pass over the rows. Same bits for any number of threads.
///
/// @param weights  n positive numbers, or empty.
/// @return the report (`converged` false when the means stay larger), or Stopped.
/// Source: Guimarães & Portugal (2010) (the normal equations of the effects);
/// Correia (2016), working paper (acceleration); Abowd, Creecy & Kramarz (2002), Census Bureau
/// technical paper TP-2002-06 (components).
[[nodiscard]] Result<SweptReport> sweepEffects(Eigen::MatrixXd& columns,
                                               const std::vector<EffectGroups>& groupings,
                                               const Eigen::VectorXd& weights, const Job& job);

/// The effects themselves: of each grouping one number a group, as regressing the column on all
/// indicators gives them. Every grouping’s effects have (weighted) mean zero over the rows but the
/// first’s, which keep the column’s mean; between groupings that rows do not join they are
/// comparable within a part only.
///
/// @return a vector a grouping, or Stopped, NotConverged.
[[nodiscard]] Result<std::vector<Eigen::VectorXd>> groupEffects(
    const Eigen::VectorXd& column, const std::vector<EffectGroups>& groupings,
    const Eigen::VectorXd& weights, const Job& job);

/// Independent effects of the groupings, as SweptReport has them.
[[nodiscard]] double effectsRank(const std::vector<EffectGroups>& groupings);

}  // namespace rapporto
