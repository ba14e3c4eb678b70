#include "core/numerics/distributions.h"

#include <boost/math/distributions/chi_squared.hpp>
#include <boost/math/distributions/fisher_f.hpp>
#include <boost/math/distributions/normal.hpp>
#include <boost/math/distributions/students_t.hpp>

#include <cmath>
#include <limits>

namespace rapporto {
namespace {

// An overflow or a pole gives the limit value instead of an exception.
using Quiet = boost::math::policies::policy<
    boost::math::policies::overflow_error<boost::math::policies::ignore_error>,
    boost::math::policies::promote_double<false>>;
using Normal = boost::math::normal_distribution<double, Quiet>;
using Student = boost::math::students_t_distribution<double, Quiet>;
using Fisher = boost::math::fisher_f_distribution<double, Quiet>;
using ChiSquared = boost::math::chi_squared_distribution<double, Quiet>;

constexpr double kNone = std::numeric_limits<double>::quiet_NaN();

/// Degrees of freedom that a law has.
bool isDf(double df) { return df > 0.0 && std::isfinite(df); }

bool isShare(double p) { return p > 0.0 && p < 1.0; }

}  // namespace

double normalTail(double z) {
    return std::isnan(z)   ? kNone
           : std::isinf(z) ? (z > 0 ? 0.0 : 1.0)
                           : boost::math::cdf(boost::math::complement(Normal(), z));
}

double normalQuantile(double p) {
    return isShare(p) ? boost::math::quantile(Normal(), p)
           : p == 0.0 ? -std::numeric_limits<double>::infinity()
           : p == 1.0 ? std::numeric_limits<double>::infinity()
                      : kNone;
}

double tTail(double t, double df) {
    return std::isnan(t) || !isDf(df) ? kNone
           : std::isinf(t)            ? (t > 0 ? 0.0 : 1.0)
                                      : boost::math::cdf(boost::math::complement(Student(df), t));
}

double twoSidedP(double t, std::optional<double> df) {
    const double size = std::abs(t);
    return 2.0 * (df ? tTail(size, *df) : normalTail(size));
}

double criticalValue(double alpha, std::optional<double> df) {
    if (!isShare(alpha / 2.0) || (df && !isDf(*df))) {
        return kNone;
    }
    return df ? boost::math::quantile(boost::math::complement(Student(*df), alpha / 2.0))
              : boost::math::quantile(boost::math::complement(Normal(), alpha / 2.0));
}

double fTail(double f, double df1, std::optional<double> df2) {
    if (!df2 || (std::isinf(*df2) && *df2 > 0.0)) {
        return chiSquareTail(f * df1, df1);
    }
    return std::isnan(f) || !isDf(df1) || !isDf(*df2) ? kNone
           : std::isinf(f)
               ? 0.0
               : boost::math::cdf(boost::math::complement(Fisher(df1, *df2), std::max(f, 0.0)));
}

double chiSquareTail(double c, double df) {
    return std::isnan(c) || !isDf(df) ? kNone
           : std::isinf(c)
               ? 0.0
               : boost::math::cdf(boost::math::complement(ChiSquared(df), std::max(c, 0.0)));
}

double chiSquareCritical(double p, double df) {
    return isShare(p) && isDf(df)
               ? boost::math::quantile(boost::math::complement(ChiSquared(df), p))
               : kNone;
}

double fCritical(double p, double df1, double df2) {
    return isShare(p) && isDf(df1) && isDf(df2)
               ? boost::math::quantile(boost::math::complement(Fisher(df1, df2), p))
               : kNone;
}

double normalDensity(double z) { return std::isnan(z) ? kNone : boost::math::pdf(Normal(), z); }

double tDensity(double t, double df) {
    return std::isnan(t) || !isDf(df) ? kNone : boost::math::pdf(Student(df), t);
}

double chiSquareDensity(double c, double df) {
    return c >= 0.0 && isDf(df) ? boost::math::pdf(ChiSquared(df), c) : kNone;
}

double fDensity(double f, double df1, double df2) {
    return f >= 0.0 && isDf(df1) && isDf(df2) ? boost::math::pdf(Fisher(df1, df2), f) : kNone;
}

}  // namespace rapporto
