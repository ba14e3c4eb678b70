#pragma once

#include "core/base/job.h"

#include <Eigen/Dense>

#include <vector>

namespace rapporto {

/// Product-moment correlations of every pair of columns over the rows that have both.
struct PairwiseMoments {
    Eigen::MatrixXd r;           ///< NaN where `again` says so.
    Eigen::MatrixXd n;           ///< Rows with both; the diagonal: rows with that column.
    Eigen::MatrixX<bool> again;  ///< The rows of this pair lie so far from where the columns lie,
                                 ///< or vary so little, that digits are lost: gather them.
};

/// One product of centred blocks for all pairs; a missing cell is a zero there, and what it takes
/// out of the sums of the other columns is counted by itself. Time: rows × p² products, and missing
/// cells × p. Bits do not depend on the number of threads.
///
/// @param columns  of equal length, NaN: missing.
/// @param use      rows that count; empty: all.
[[nodiscard]] PairwiseMoments pairwiseMoments(
    const std::vector<const std::vector<double>*>& columns, const std::vector<bool>& use,
    const Job& job);

}  // namespace rapporto
