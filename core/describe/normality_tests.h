#pragma once

#include <optional>
#include <span>
#include <string>
#include <vector>

namespace rapporto {

/// One test of whether values could be a sample of a normal law.
struct NormalityTest {
    const char* id;  ///< shapiro-wilk, anderson-darling, lilliefors, jarque-bera, dagostino.
    const char* name;
    const char* symbol;  ///< Of the statistic: W, A², D, JB, K².
    std::optional<double> statistic;
    std::optional<double> p;
    std::string why;  ///< Why there is none: too few values, too many.
};

/// Values in order, as deviates from their mean in standard deviations (n − 1).
struct Deviates {
    explicit Deviates(std::vector<double> values);

    std::vector<double> z;
};

/// A²* = A²(1 + 0.75/n + 2.25/n²) and its p, mean and variance estimated; n ≥ 8.
/// Source: D'Agostino & Stephens (1986), Goodness-of-Fit Techniques, table 4.9.
struct AndersonDarling {
    double a2 = 0.0;        ///< Unadjusted.
    double adjusted = 0.0;  ///< A²*.
    double p = 1.0;
};

[[nodiscard]] AndersonDarling andersonDarling(const Deviates& of);

/// Largest distance to the normal law with estimated mean and variance; n ≥ 5. p up to .1 by
/// Dallal & Wilkinson (1986), The American Statistician 40; above it by Molin & Abdi (1998).
struct Lilliefors {
    double d = 0.0;
    double p = 1.0;
};

[[nodiscard]] Lilliefors lilliefors(const Deviates& of);

/// Skewness and kurtosis as normal deviates and together; n ≥ 20.
/// Sources: D'Agostino (1970), Biometrika 57; Anscombe & Glynn (1983), Biometrika 70; D'Agostino,
/// Belanger & D'Agostino (1990), The American Statistician 44.
struct DAgostino {
    double zSkewness = 0.0;
    double zKurtosis = 0.0;
    double k2 = 0.0;
    double p = 1.0;
};

[[nodiscard]] DAgostino dagostino(std::span<const double> values);

/// The same from the moments of n values: skewness m₃/m₂^1.5, kurtosis m₄/m₂².
[[nodiscard]] DAgostino dagostino(double n, double skewness, double kurtosis);

/// All tests on the values that are not missing.
[[nodiscard]] std::vector<NormalityTest> normalityTests(std::span<const double> cells,
                                                        const std::vector<bool>& use = {});

/// Those that take no more than the moments of n values, which vary.
[[nodiscard]] std::vector<NormalityTest> normalityTestsByMoments(std::size_t n, double skewness,
                                                                 double excessKurtosis);

/// What they say together, in words that cannot be misread, and that a model asks it of residuals.
[[nodiscard]] std::string normalityReading(const std::vector<NormalityTest>& tests, double alpha,
                                           std::size_t n, double skewness, double excessKurtosis);

}  // namespace rapporto
