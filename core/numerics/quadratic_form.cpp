#include "core/numerics/quadratic_form.h"

#include <boost/math/quadrature/gauss.hpp>

#include <algorithm>
#include <cmath>
#include <numbers>

namespace rapporto {

double probabilityBelowZero(const Eigen::VectorXd& lambda) {
    const double size = lambda.cwiseAbs().maxCoeff();
    if (!(size > 0.0)) {
        return 0.0;
    }
    const Eigen::ArrayXd l = lambda.array() / size;
    // sin θ(u) / (u ρ(u)) with θ = ½ Σ atan(λu), ρ = Π (1 + λ²u²)^¼.
    const auto integrand = [&](double u) {
        const double theta = 0.5 * (l * u).atan().sum();
        const double logRho = 0.25 * (l * u).square().log1p().sum();
        return std::sin(theta) / u * std::exp(-logRho);
    };
    double sum = 0.0;
    double from = 0.0;
    // The phase turns by at most ½Σ|λ| a unit: pieces short enough that a rule sees half a turn.
    double step = std::min(1.0, 2.0 / (0.5 * l.abs().sum()));
    for (int piece = 0; piece < 4000; ++piece) {
        const double part =
            boost::math::quadrature::gauss<double, 20>::integrate(integrand, from, from + step);
        sum += part;
        from += step;
        // What is left is below ∫ 1/(uρ), and ρ grows at least like the product of the large λu.
        const double logRho = 0.25 * (l * from).square().log1p().sum();
        if (logRho > 25.0) {
            break;
        }
        if (piece > 40) {
            step *= 1.25;
        }
    }
    return std::clamp(0.5 - sum / std::numbers::pi, 0.0, 1.0);
}

}  // namespace rapporto
