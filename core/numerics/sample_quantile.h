#pragma once

#include <Eigen/Core>

#include <vector>

namespace rapporto {

/// Quantile of values by linear interpolation between order statistics, weights aside.
[[nodiscard]] double sampleQuantile(std::vector<double> values, double p);

/// The same where each value stands for so many rows, whole numbers; none: for one.
[[nodiscard]] double countedQuantile(const Eigen::VectorXd& values, const Eigen::VectorXd& counts,
                                     double p);

}  // namespace rapporto
