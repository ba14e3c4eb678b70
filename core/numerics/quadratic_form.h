#pragma once

#include <Eigen/Dense>

#include <functional>

namespace rapporto {

/// A characteristic function at u: half the sum of the phases, and the log of ρ in its modulus 1/ρ.
struct PhaseAndSize {
    double theta = 0.0;
    double logRho = 0.0;
};

/// P(Q < 0) from θ(u) = ½ Σ atan(λu) and ln ρ(u) = ¼ Σ ln(1 + λ²u²), by numerical inversion;
/// absolute error below 1e-9 for three or more λ of mixed sign, the largest |λ| being 1.
///
/// @param turns  bound on how fast the phase turns near zero, a unit of u.
/// Source: Imhof (1961), Biometrika 48, 419–426.
[[nodiscard]] double probabilityBelowZero(const std::function<PhaseAndSize(double)>& at,
                                          double turns);

/// P(Σ λ_i z_i² < 0) for independent standard normal z.
[[nodiscard]] double probabilityBelowZero(const Eigen::VectorXd& lambda);

/// P(d ≤ `d`) for d = Σ(e_t − e_{t−1})²/Σe_t² of the residuals e of independent normal errors on
/// the columns of X (n × k, full rank). The phases come from determinants: with K = I − iu(A − d)
/// tridiagonal and Q an orthonormal basis of X, that of the residuals is det K · det(Q'K⁻¹Q); no
/// eigenvalue is computed. Time O(n k²) for each of some hundreds of u.
/// Source: Durbin & Watson (1950), Biometrika 37; Imhof (1961), Biometrika 48.
[[nodiscard]] double durbinWatsonProbability(const Eigen::MatrixXd& X, double d);

/// The same far down, where the inversion’s absolute error would be all there is: the saddlepoint
/// approximation, within a sixth of it in the cases tried, for d far below its mean. NaN where the
/// saddlepoint is not found.
/// Source: Lugannani & Rice (1980), Advances in Applied Probability 12; Paolella (2007),
/// Intermediate Probability, ch. 5.
[[nodiscard]] double durbinWatsonTail(const Eigen::MatrixXd& X, double d);

}  // namespace rapporto
