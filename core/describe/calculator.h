#pragma once

#include "core/base/result.h"
#include "core/describe/exhibit.h"

#include <optional>

namespace rapporto {

enum class LawKind : std::uint8_t { Normal, T, ChiSquare, F };

/// A law that tests use, with its degrees of freedom.
struct Law {
    LawKind kind = LawKind::Normal;
    double df1 = 10.0;  ///< Of t, chi-square, and F’s first.
    double df2 = 10.0;  ///< F’s second.
};

enum class Tail : std::uint8_t { Both, Upper, Lower };  ///< Chi-square and F: Upper alone.

/// The probability of a statistic at least as far out.
/// @return it, or BadSetting (degrees of freedom not above zero, a statistic that is no number).
[[nodiscard]] Result<double> probabilityBeyond(const Law& law, Tail tail, double statistic);

/// The statistic beyond which the probability is p; the positive one of two.
/// @return it, or BadSetting (p not between 0 and 1).
[[nodiscard]] Result<double> statisticFor(const Law& law, Tail tail, double p);

/// The density with the part beyond the statistic as a band.
[[nodiscard]] Exhibit lawPicture(const Law& law, Tail tail, double statistic);

/// A split of the variance that fills itself from two sums of squares.
struct VarianceSplit {
    double model = 0.0;  ///< Sums of squares.
    double residual = 0.0;
    double total = 0.0;
    double modelDf = 0.0;  ///< Terms without the constant.
    double residualDf = 0.0;
    double f = 0.0;
    double p = 1.0;
    double rSquared = 0.0;
    double adjustedRSquared = 0.0;
    double sigma = 0.0;
};

/// @param terms  terms without the constant, at least one.
/// @return the split, or BadSetting: not exactly enough given, sums that do not add up or are
///         negative, too few rows.
[[nodiscard]] Result<VarianceSplit> splitVariance(std::optional<double> model,
                                                  std::optional<double> residual,
                                                  std::optional<double> total, double n,
                                                  double terms);

}  // namespace rapporto
