#include "core/numerics/quadratic_form.h"

#include "core/numerics/distributions.h"

#include <boost/math/quadrature/gauss.hpp>

#include <algorithm>
#include <cmath>
#include <complex>
#include <limits>
#include <numbers>
#include <vector>

namespace rapporto {
namespace {

using Complex = std::complex<double>;
using Eigen::Index;

/// ln det K + ln det(Q'K⁻¹Q) for K = I − s(A − d), s = iu/size of a phase or a real number that
/// leaves K positive. The pivots have a positive real part, as has K, so their arguments add up
/// without a jump. Q is k × n, a row of X beside the other.
Complex logDeterminant(const Eigen::MatrixXd& Q, double d, Complex s) {
    const Index n = Q.cols();
    const Index k = Q.rows();
    const Complex off = s;  // −s·(−1)
    Complex sum = 0.0;
    Complex pivot = 0.0;
    std::vector<Complex> w(static_cast<std::size_t>(k), 0.0);
    std::vector<Complex> G(static_cast<std::size_t>(k * k), 0.0);
    for (Index t = 0; t < n; ++t) {
        const double a = (t == 0 || t == n - 1 ? 1.0 : 2.0) - d;
        const Complex diagonal = 1.0 - s * a;
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
            const Complex log = logDeterminant(Q, d, Complex(0.0, u / size));
            return PhaseAndSize{-0.5 * log.imag(), 0.5 * log.real()};
        },
        turns);
}

double durbinWatsonTail(const Eigen::MatrixXd& X, double d) {
    const Index n = X.rows();
    const Eigen::HouseholderQR<Eigen::MatrixXd> qr(X);
    const Eigen::MatrixXd Q =
        (qr.householderQ() * Eigen::MatrixXd::Identity(n, X.cols())).transpose();
    // K(t) = ln E exp(t e'(A − d)e) = −½ ln det(I − 2t(A − d)) of what X leaves; A is not negative,
    // so that t down to −1/(2d) is inside. The smallest K lies where K' = 0.
    // Further down it is inside while the determinant of what X leaves is positive, whatever the
    // signs of its two factors.
    constexpr double kOutside = std::numeric_limits<double>::infinity();
    const auto cumulant = [&](double t) {
        const Complex log = logDeterminant(Q, d, Complex(2.0 * t, 0.0));
        const bool inside = std::isfinite(log.real()) && std::cos(log.imag()) > 0.5;
        return inside ? -0.5 * log.real() : kOutside;
    };
    const double none = std::nan("");
    if (!(d > 0.0)) {
        return none;
    }
    double low = -0.5 / d * (1.0 - 1e-9);
    for (int step = 0; step < 60; ++step) {
        const double here = cumulant(low);
        const double beyond = cumulant(1.1 * low);
        if (!(beyond < here)) {
            break;
        }
        low *= 1.1;
    }
    low *= 1.1;
    double high = 0.0;
    const double golden = 0.5 * (std::sqrt(5.0) - 1.0);
    double a = high - golden * (high - low);
    double b = low + golden * (high - low);
    double ka = cumulant(a);
    double kb = cumulant(b);
    for (int step = 0; step < 100 && high - low > 1e-9 * std::abs(low); ++step) {
        if (ka < kb) {
            high = b;
            b = a;
            kb = ka;
            a = high - golden * (high - low);
            ka = cumulant(a);
        } else {
            low = a;
            a = b;
            ka = kb;
            b = low + golden * (high - low);
            kb = cumulant(b);
        }
    }
    const double t = 0.5 * (low + high);
    const double h = 1e-3 * std::abs(t);
    const double at = cumulant(t);
    const double bend = (cumulant(t + h) - 2.0 * at + cumulant(t - h)) / (h * h);
    if (!(at < 0.0) || !(bend > 0.0) || t > -1e-12) {
        return none;
    }
    const double r = -std::sqrt(-2.0 * at);
    const double v = t * std::sqrt(bend);
    return normalTail(-r) + normalDensity(r) * (1.0 / r - 1.0 / v);
}

}  // namespace rapporto
