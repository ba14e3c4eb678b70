#pragma once

#include "core/model/fit.h"

#include <optional>
#include <string>
#include <vector>

namespace rapporto {

/// What a step that stays comes to once the outcome’s own past has carried it on.
struct LongRunEffect {
    std::string of;  ///< The quantity, without its lags.
    double estimate = 0.0;
    double se = 0.0;
    std::optional<double> df;  ///< Absent: normal law.
    std::optional<double> statistic;
    std::optional<double> p;
    double low = 0.0;
    double high = 0.0;
    /// What the outcome’s past leaves (one less the sum of its coefficients) lies within three
    /// errors of nothing: a ratio over it has no law to go by.
    bool loose = false;
};

/// Σb/(1 − Σφ), b the coefficients of a quantity and its lags, φ those of the outcome’s lags; of an
/// outcome change(y) beside lag(y) the coefficients of the levels and −φ of lag(y), which is the
/// same in error-correction form. Errors by the delta method in the question’s own covariance.
/// Source: Bårdsen (1989), Oxford Bulletin of Economics and Statistics 51.
///
/// @return one a quantity that stands in levels and moves no other term (a square, a product), in
///         the order of the terms; none where the
///         outcome’s past is not among the terms or sums up to one or more, or where the fit is
///         more than one linear equation.
[[nodiscard]] std::vector<LongRunEffect> longRunEffects(const Design& design, const Fit& fit,
                                                        double alpha);

/// The quantity behind a term: x of x, lag(x) and lag(x, 2).
[[nodiscard]] std::string withoutLag(const std::string& term);

}  // namespace rapporto
