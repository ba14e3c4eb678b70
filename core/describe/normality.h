#pragma once

#include <Eigen/Dense>

namespace rapporto {

struct ShapiroWilk {
    double w = 1.0;
    double p = 1.0;
};

/// W of the values and its p by Royston's approximation; 3 ≤ n ≤ 5000, not all equal.
/// Source: Royston (1995), Applied Statistics 44, 547–551 (algorithm R94).
[[nodiscard]] ShapiroWilk shapiroWilk(Eigen::VectorXd values);

struct Moments {
    double skewness = 0.0;  ///< m₃ / m₂^1.5.
    double kurtosis = 3.0;  ///< m₄ / m₂².
};

/// Moment skewness and kurtosis about the mean.
[[nodiscard]] Moments moments(const Eigen::VectorXd& values);

}  // namespace rapporto
