#pragma once

#include "core/model/level_search.h"
#include "core/model/multilevel.h"

namespace rapporto {

/// A grouping with its spreads by name: variances, correlations (where constant and slopes may go
/// together), sizes of its groups. Effects, share and ends of intervals are still to come.
[[nodiscard]] LevelsFit::Level levelWithSpreads(const DesignLevel& level, const LevelChart& chart,
                                                Eigen::MatrixXd covariance);

/// What is to be profiled of a level: each spread, then, where wanted, each correlation.
void addParameters(const LevelsFit::Level& level, std::size_t place, bool correlations,
                   std::vector<LevelParameter>& into);

/// Ends of intervals in the order of addParameters() over all levels; of spreads as those of
/// variances.
void setEnds(LevelsFit& fit, const std::vector<ProfileEnds>& ends, bool correlations);

/// What the groups’ effects add to each row.
void addShift(const DesignLevel& level, const Eigen::MatrixXd& effects, Eigen::VectorXd& shift);

}  // namespace rapporto
