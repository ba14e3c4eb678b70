#include "core/numerics/distributions.h"

#include <boost/math/distributions/chi_squared.hpp>
#include <boost/math/distributions/fisher_f.hpp>
#include <boost/math/distributions/normal.hpp>
#include <boost/math/distributions/students_t.hpp>

#include <cmath>

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

}  // namespace

double normalTail(double z) {
    return std::isinf(z) ? (z > 0 ? 0.0 : 1.0)
                         : boost::math::cdf(boost::math::complement(Normal(), z));
}

double normalQuantile(double p) { return boost::math::quantile(Normal(), p); }

double tTail(double t, double df) {
    return std::isinf(t) ? (t > 0 ? 0.0 : 1.0)
                         : boost::math::cdf(boost::math::complement(Student(df), t));
}

double twoSidedP(double t, std::optional<double> df) {
    const double size = std::abs(t);
    return 2.0 * (df ? tTail(size, *df) : normalTail(size));
}

double criticalValue(double alpha, std::optional<double> df) {
    return df ? boost::math::quantile(boost::math::complement(Student(*df), alpha / 2.0))
              : boost::math::quantile(boost::math::complement(Normal(), alpha / 2.0));
}

double fTail(double f, double df1, std::optional<double> df2) {
    if (!df2) {
        return chiSquareTail(f * df1, df1);
    }
    return std::isinf(f)
               ? 0.0
               : boost::math::cdf(boost::math::complement(Fisher(df1, *df2), std::max(f, 0.0)));
}

double chiSquareTail(double c, double df) {
    return std::isinf(c)
               ? 0.0
               : boost::math::cdf(boost::math::complement(ChiSquared(df), std::max(c, 0.0)));
}

double chiSquareCritical(double p, double df) {
    return boost::math::quantile(boost::math::complement(ChiSquared(df), p));
}

double fCritical(double p, double df1, double df2) {
    return boost::math::quantile(boost::math::complement(Fisher(df1, df2), p));
}

double normalDensity(double z) { return boost::math::pdf(Normal(), z); }

double tDensity(double t, double df) { return boost::math::pdf(Student(df), t); }

double chiSquareDensity(double c, double df) { return boost::math::pdf(ChiSquared(df), c); }

double fDensity(double f, double df1, double df2) { return boost::math::pdf(Fisher(df1, df2), f); }

}  // namespace rapporto
