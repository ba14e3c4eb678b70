// Laws of counts and their derivatives.
#include "core/model/count_terms.h"

#include <boost/math/special_functions/digamma.hpp>
#include <boost/math/special_functions/gamma.hpp>
#include <boost/math/special_functions/log1p.hpp>
#include <boost/math/special_functions/trigamma.hpp>

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

constexpr double kSummed = 200.0;  // Whole counts below it are summed over, one by one.

/// ln Γ(y + a) − ln Γ(a) with two derivatives.
RisingProduct risingOf(double y, double a) {
    RisingProduct out;
    if (y < kSummed && y == std::floor(y)) {
        for (double j = 0.0; j < y; j += 1.0) {
            const double t = 1.0 / (a + j);
            out.value += std::log(a + j);
            out.first += t;
            out.second -= t * t;
        }
        return out;
    }
    out.value = boost::math::lgamma(y + a) - boost::math::lgamma(a);
    out.first = boost::math::digamma(y + a) - boost::math::digamma(a);
    out.second = boost::math::trigamma(y + a) - boost::math::trigamma(a);
    return out;
}

/// R(α) at y + 1 from that at y, for a whole y.
void addFactor(RisingProduct& to, double y, double alpha) {
    const double t = y / (1.0 + alpha * y);
    to.value += std::log1p(alpha * y);
    to.first += t;
    to.second -= t * t;
}

RisingProduct productOf(double y, double alpha) {
    RisingProduct out;
    if (y < kSummed && y == std::floor(y)) {
        for (double j = 1.0; j < y; j += 1.0) {
            addFactor(out, j, alpha);
        }
        return out;
    }
    if (alpha * y < 1e-4) {
        // Σ ln(1 + αj) = Σ (αj − α²j²/2 + α³j³/3 − …) with power sums of 0 … y − 1.
        const double m = y - 1.0;
        const double s1 = m * y / 2.0;
        const double s2 = m * y * (2.0 * m + 1.0) / 6.0;
        const double s3 = s1 * s1;
        const double s4 = m * y * (2.0 * m + 1.0) * (3.0 * m * m + 3.0 * m - 1.0) / 30.0;
        out.value = alpha * (s1 - alpha * (s2 / 2.0 - alpha * (s3 / 3.0 - alpha * s4 / 4.0)));
        out.first = s1 - alpha * (s2 - alpha * (s3 - alpha * s4));
        out.second = -s2 + alpha * (2.0 * s3 - 3.0 * alpha * s4);
        return out;
    }
    const double a = 1.0 / alpha;
    if (a >= 20.0) {
        // Stirling’s series of both gammas, their difference taken term by term.
        const double b = a + y;
        const double ratio = y / a;
        const double a2 = 1.0 / (a * a);
        const double b2 = 1.0 / (b * b);
        out.value = (b - 0.5) * std::log1p(ratio) - y + (1.0 / b - 1.0 / a) / 12.0 -
                    (b2 / b - a2 / a) / 360.0 + (b2 * b2 / b - a2 * a2 / a) / 1260.0;
        const double slope = boost::math::log1pmx(ratio) + ratio / (2.0 * b) + (a2 - b2) / 12.0 -
                             (a2 * a2 - b2 * b2) / 120.0 + (a2 * a2 * a2 - b2 * b2 * b2) / 252.0;
        const double curve = ratio * ratio / b - ratio * (a + b) / (2.0 * a * b * b) +
                             (b2 / b - a2 / a) / 6.0 - (b2 * b2 / b - a2 * a2 / a) / 30.0 +
                             (b2 * b2 * b2 / b - a2 * a2 * a2 / a) / 42.0;
        out.first = -a * a * slope;
        out.second = a * a * a * (2.0 * slope + a * curve);
        return out;
    }
    const RisingProduct s = risingOf(y, a);
    out.value = s.value + y * std::log(alpha);
    out.first = a * (y - a * s.first);
    out.second = a * a * (2.0 * a * s.first + a * a * s.second - y);
    return out;
}

}  // namespace

RisingProducts::RisingProducts(const Eigen::Ref<const Eigen::VectorXd>& counts, double alpha)
    : alpha_(alpha) {
    double most = 0.0;
    for (const double y : counts) {
        most = y < kSummed ? std::max(most, y) : most;
    }
    list_.resize(static_cast<std::size_t>(most) + 1);
    for (std::size_t y = 1; y < list_.size(); ++y) {
        list_[y] = list_[y - 1];
        if (y > 1) {
            addFactor(list_[y], static_cast<double>(y - 1), alpha);
        }
    }
}

RisingProduct RisingProducts::operator()(double y) const {
    if (y >= 0.0 && y < static_cast<double>(list_.size()) && y == std::floor(y)) {
        return list_[static_cast<std::size_t>(y)];
    }
    return productOf(y, alpha_);
}

CountTerms quadraticTerms(const RisingProduct& product, double y, double logFactorial, double eta,
                          double mean, double alpha) {
    CountTerms out;
    const double am = alpha * mean;
    const double log1 = std::log1p(am);
    const double shrunk = mean / (1.0 + am);
    // ln(1 + αμ)/α without loss as α goes to zero.
    const double overAlpha = am > 1e-12 ? log1 / alpha : mean;
    out.value = product.value - logFactorial + y * eta - y * log1 - overAlpha;
    out.g[0] = (y - mean) / (1.0 + am);
    out.h[0] = -mean * (1.0 + alpha * y) / ((1.0 + am) * (1.0 + am));
    // By α, then by its logarithm.
    const double q = am > 1e-4 ? (log1 / alpha - shrunk) / alpha
                               : mean * mean * (0.5 - am * (2.0 / 3.0 - 0.75 * am));
    const double first = product.first - y * shrunk + q;
    const double qFirst = am > 1e-3 ? (shrunk * shrunk - 2.0 * q) / alpha
                                    : -mean * mean * mean * (2.0 / 3.0 - am * (1.5 - am * 2.4));
    const double second = product.second + y * shrunk * shrunk + qFirst;
    out.g[1] = alpha * first;
    out.h[2] = alpha * first + alpha * alpha * second;
    out.h[1] = -alpha * mean * (y - mean) / ((1.0 + am) * (1.0 + am));
    return out;
}

CountTerms countTerms(CountLaw law, double y, double logFactorial, double eta, double tau) {
    CountTerms out;
    const double mean = std::exp(eta);
    if (law == CountLaw::Poisson) {
        out.value = y * eta - mean - logFactorial;
        out.g[0] = y - mean;
        out.h[0] = -mean;
        return out;
    }
    const double alpha = std::exp(tau);
    if (law == CountLaw::Quadratic) {
        return quadraticTerms(productOf(y, alpha), y, logFactorial, eta, mean, alpha);
    }
    // Σ ln(μ + αj) = y ln μ + R(α/μ): nothing is lost as α goes to zero.
    const double r = alpha / mean;
    const RisingProduct s = productOf(y, r);
    const double log1 = std::log1p(alpha);
    const double q = alpha / (1.0 + alpha);
    const double whole = alpha > 1e-12 ? mean * (log1 / alpha) : mean;
    // (μ/α)(ln(1 + α) − α/(1 + α)).
    const double part = alpha > 1e-4 ? mean / alpha * (log1 - q)
                                     : mean * alpha * (0.5 - alpha * (2.0 / 3.0 - 0.75 * alpha));
    const double first = r * s.first;
    const double curved = first + r * r * s.second;
    out.value = y * eta + s.value - logFactorial - y * log1 - whole;
    out.g[0] = y - first - whole;
    out.h[0] = curved - whole;
    out.g[1] = first - y * q + part;
    out.h[1] = -curved + part;
    out.h[2] = curved - y * q * (1.0 - q) - part + mean * q / (1.0 + alpha);
    return out;
}

double countProbability(CountLaw law, double y, double mean, double dispersion) {
    if (mean <= 0.0) {
        return y == 0.0 ? 1.0 : 0.0;
    }
    const bool plain = law == CountLaw::Poisson || dispersion <= 0.0;
    return std::exp(countTerms(plain ? CountLaw::Poisson : law, y, boost::math::lgamma(y + 1.0),
                               std::log(mean), plain ? 0.0 : std::log(dispersion))
                        .value);
}

CountLaw countLawOf(const Family& family, const EstimatorSettings& settings) {
    // Where zeros are told apart the law of the others is a setting.
    const Family* part =
        family.zeros == Family::Zeros::Counted ? &family : familyOf(settings.count);
    if (part != nullptr && part->ownSpread) {
        return settings.form == 1 ? CountLaw::Linear : CountLaw::Quadratic;
    }
    return CountLaw::Poisson;
}

}  // namespace rapporto
