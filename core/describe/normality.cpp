#include "core/describe/normality.h"

#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>
#include <vector>

namespace rapporto {
namespace {

double polynomial(std::initializer_list<double> c, double x) {
    double value = 0.0;
    for (auto it = std::rbegin(c); it != std::rend(c); ++it) {
        value = value * x + *it;
    }
    return value;
}

/// Royston's weights a, antisymmetric; the first half, largest first.
std::vector<double> weights(std::size_t n) {
    const std::size_t half = n / 2;
    std::vector<double> a(half);
    if (n == 3) {
        a[0] = std::sqrt(0.5);
        return a;
    }
    std::vector<double> m(half);
    double squares = 0.0;
    for (std::size_t i = 0; i < half; ++i) {
        m[i] = normalQuantile((static_cast<double>(i) + 1.0 - 0.375) /
                              (static_cast<double>(n) + 0.25));
        squares += 2.0 * m[i] * m[i];
    }
    const double root = std::sqrt(squares);
    const double u = 1.0 / std::sqrt(static_cast<double>(n));
    const double a1 =
        polynomial({0.0, 0.221157, -0.147981, -2.071190, 4.434685, -2.706056}, u) - m[0] / root;
    std::size_t from = 1;
    double scale = 0.0;
    if (n > 5) {
        from = 2;
        const double a2 =
            polynomial({0.0, 0.042981, -0.293762, -1.752461, 5.682633, -3.582633}, u) - m[1] / root;
        scale = std::sqrt((squares - 2.0 * m[0] * m[0] - 2.0 * m[1] * m[1]) /
                          (1.0 - 2.0 * a1 * a1 - 2.0 * a2 * a2));
        a[1] = a2;
    } else {
        scale = std::sqrt((squares - 2.0 * m[0] * m[0]) / (1.0 - 2.0 * a1 * a1));
    }
    a[0] = a1;
    for (std::size_t i = from; i < half; ++i) {
        a[i] = -m[i] / scale;
    }
    return a;
}

}  // namespace

ShapiroWilk shapiroWilk(Eigen::VectorXd values) {
    std::sort(values.begin(), values.end());
    const auto n = static_cast<std::size_t>(values.size());
    const double nd = static_cast<double>(n);
    const double mean = values.mean();
    const double total = (values.array() - mean).square().sum();
    const std::vector<double> a = weights(n);
    double b = 0.0;
    for (std::size_t i = 0; i < a.size(); ++i) {
        b += a[i] *
             (values(static_cast<Eigen::Index>(n - 1 - i)) - values(static_cast<Eigen::Index>(i)));
    }
    ShapiroWilk out;
    out.w = std::min(b * b / total, 1.0);
    const double w1 = std::max(1.0 - out.w, 1e-300);
    if (n == 3) {
        constexpr double kPi6 = 1.90985931710274;
        constexpr double kStart = 1.04719755119660;
        out.p = std::max(kPi6 * (std::asin(std::sqrt(out.w)) - kStart), 0.0);
        return out;
    }
    double y = std::log(w1);
    const double logN = std::log(nd);
    double m = 0.0;
    double s = 0.0;
    if (n <= 11) {
        const double gamma = polynomial({-2.273, 0.459}, nd);
        if (y >= gamma) {
            out.p = 1e-99;
            return out;
        }
        y = -std::log(gamma - y);
        m = polynomial({0.5440, -0.39978, 0.025054, -6.714e-4}, nd);
        s = std::exp(polynomial({1.3822, -0.77857, 0.062767, -0.0020322}, nd));
    } else {
        m = polynomial({-1.5861, -0.31082, -0.083751, 0.0038915}, logN);
        s = std::exp(polynomial({-0.4803, -0.082676, 0.0030302}, logN));
    }
    out.p = normalTail((y - m) / s);
    return out;
}

Moments moments(const Eigen::VectorXd& values) {
    const Eigen::ArrayXd d = values.array() - values.mean();
    const double m2 = d.square().mean();
    Moments out;
    if (m2 > 0.0) {
        out.skewness = d.cube().mean() / std::pow(m2, 1.5);
        out.kurtosis = d.square().square().mean() / (m2 * m2);
    }
    return out;
}

}  // namespace rapporto
