#pragma once

#include <Eigen/Dense>

namespace rapporto {

/// P(Σ λ_i z_i² < 0) for independent standard normal z, by numerical inversion of the
/// characteristic function; absolute error below 1e-9 for three or more λ of mixed sign.
///
/// Source: Imhof (1961), Biometrika 48, 419–426.
[[nodiscard]] double probabilityBelowZero(const Eigen::VectorXd& lambda);

}  // namespace rapporto
