#pragma once

#include <optional>

namespace rapporto {

/// Laws used for tests and intervals, a thin face over Boost.Math. `df` absent means the normal
/// law. Tails come from complements, so small p-values keep their relative accuracy. Outside of a
/// law’s domain (no degrees of freedom, a share beyond 0 and 1, NaN) the answer is NaN, which means
/// “does not exist” and is turned into that at the border of each fit and check; nothing throws.

/// P(|T| ≥ |t|) under Student's t(df) or the normal law.
[[nodiscard]] double twoSidedP(double t, std::optional<double> df);

/// The t with P(|T| ≥ t) = alpha; 0 < alpha < 1.
[[nodiscard]] double criticalValue(double alpha, std::optional<double> df);

/// P(F ≥ f) under F(df1, df2); an absent df2 means chi-square(df1)/df1.
[[nodiscard]] double fTail(double f, double df1, std::optional<double> df2);

/// P(C ≥ c) under chi-square(df).
[[nodiscard]] double chiSquareTail(double c, double df);

/// P(Z ≥ z) under the standard normal law.
[[nodiscard]] double normalTail(double z);

/// The z with P(Z ≤ z) = p, 0 < p < 1.
[[nodiscard]] double normalQuantile(double p);

/// P(T ≥ t) under Student's t(df).
[[nodiscard]] double tTail(double t, double df);

/// The value that is exceeded with probability p, 0 < p < 1.
[[nodiscard]] double chiSquareCritical(double p, double df);
[[nodiscard]] double fCritical(double p, double df1, double df2);

/// Densities.
[[nodiscard]] double normalDensity(double z);
[[nodiscard]] double tDensity(double t, double df);
[[nodiscard]] double chiSquareDensity(double c, double df);
[[nodiscard]] double fDensity(double f, double df1, double df2);

}  // namespace rapporto
