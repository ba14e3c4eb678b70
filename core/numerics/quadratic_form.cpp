#include "core/numerics/quadratic_form.h"

#include <boost/math/quadrature/gauss.hpp>

#include <algorithm>
#include <cmath>
#include <complex>
#include <numbers>
#include <vector>

namespace rapporto {
namespace {

using Complex = std::complex<double>;
using Eigen::Index;

/// ln det K + ln det(Q'K⁻¹Q) for K = I − iu(A − d)/size. The pivots have a positive real part, as
/// has K, so their arguments add up without a jump. Q is k × n, a row of X beside the other.
Complex logDeterminant(const Eigen::MatrixXd& Q, double d, double size, double u) {
    const Index n = Q.cols();
    const Index k = Q.rows();
    const Complex off(0.0, u / size);  // −iu·(−1)/size
    Complex sum = 0.0;
    Complex pivot = 0.0;
    std::vector<Complex> w(static_cast<std::size_t>(k), 0.0);
    std::vector<Complex> G(static_cast<std::size_t>(k * k), 0.0);
    for (Index t = 0; t < n; ++t) {
        const double a = (t == 0 || t == n - 1 ? 1.0 : 2.0) - d;
        const Complex diagonal(1.0, -u * a / size);
        const Complex by = t == 0 ? Complex(0.0) : off / pivot;
        pivot = t == 0 ? diagonal : diagonal - off * by;
        sum += std::log(pivot);
        const Complex inverse = 1.0 / pivot;
        for (Index j = 0; j < k; ++j) {
            Complex& wj = w[static_cast<std::size_t>(j)];
            wj = Q(j, t) - by * wj;
        }
        for (Index j = 0; j < k; ++j) {
            const Complex scaled = w[static_cast<std::size_t>(j)] * inverse;
            for (Index c = j; c < k; ++c) {
                G[static_cast<std::size_t>(j * k + c)] += scaled * w[static_cast<std::size_t>(c)];
            }
        }
    }
    for (Index j = 0; j < k; ++j) {
        const Complex top = G[static_cast<std::size_t>(j * k + j)];
        sum += std::log(top);
        for (Index r = j + 1; r < k; ++r) {
            const Complex by = G[static_cast<std::size_t>(j * k + r)] / top;
            for (Index c = r; c < k; ++c) {
                G[static_cast<std::size_t>(r * k + c)] -=
                    by * G[static_cast<std::size_t>(j * k + c)];
            }
        }
    }
    return sum;
}

}  // namespace

double probabilityBelowZero(const std::function<PhaseAndSize(double)>& at, double turns) {
    // sin θ(u) / (u ρ(u))
    const auto integrand = [&](double u) {
        const PhaseAndSize here = at(u);
        return std::sin(here.theta) / u * std::exp(-here.logRho);
    };
    double sum = 0.0;
    double from = 0.0;
    // Pieces short enough that a rule sees half a turn of the phase.
    double step = std::min(1.0, 2.0 / turns);
    for (int piece = 0; piece < 4000; ++piece) {
        sum += boost::math::quadrature::gauss<double, 20>::integrate(integrand, from, from + step);
        from += step;
        // What is left is below ∫ 1/(uρ), and ρ grows at least like the product of the large λu.
        if (at(from).logRho > 25.0) {
            break;
        }
        if (piece > 40) {
            step *= 1.25;
        }
    }
    return std::clamp(0.5 - sum / std::numbers::pi, 0.0, 1.0);
}

double probabilityBelowZero(const Eigen::VectorXd& lambda) {
    const double size = lambda.cwiseAbs().maxCoeff();
    if (!(size > 0.0)) {
        return 0.0;
    }
    const Eigen::ArrayXd l = lambda.array() / size;
    return probabilityBelowZero(
        [&](double u) {
            return PhaseAndSize{0.5 * (l * u).atan().sum(), 0.25 * (l * u).square().log1p().sum()};
        },
        0.5 * l.abs().sum());
}

double durbinWatsonProbability(const Eigen::MatrixXd& X, double d) {
    const Index n = X.rows();
    const Index k = X.cols();
    const Eigen::HouseholderQR<Eigen::MatrixXd> qr(X);
    const Eigen::MatrixXd Q = (qr.householderQ() * Eigen::MatrixXd::Identity(n, k)).transpose();
    const double size = std::max(d, 4.0 - d);
    const double m = static_cast<double>(n - k);
    // Σλ and √Σλ² of about 2 − d and √2 each say how fast the phase turns where ρ is not large yet.
    const double turns = 0.5 * (m * std::abs(2.0 - d) + 4.0 * static_cast<double>(k)) / size +
                         std::sqrt(2.0 * m) / size;
    return probabilityBelowZero(
        [&](double u) {
            const Complex log = logDeterminant(Q, d, size, u);
            return PhaseAndSize{-0.5 * log.imag(), 0.5 * log.real()};
        },
        turns);
}

}  // namespace rapporto
