#pragma once

#include "core/data/layout.h"
#include "core/describe/exhibit.h"

#include <span>
#include <vector>

namespace rapporto {

/// Correlations of a variable with itself some moments before.
struct Autocorrelations {
    std::vector<double> r;        ///< At lags 1, 2, …; 0 where no pair of rows is that far apart.
    std::vector<double> partial;  ///< By Durbin (1960) and Levinson (1947).
    std::size_t n = 0;            ///< Rows with a value and a place in time.
    double q = 0.0;               ///< Ljung & Box (1978) over the lags of `df`.
    double df = 0.0;
    double p = 1.0;
};

/// r_k = (Σ pairs/present)·(possible/n)/(Σ squares/n) with deviations from the unit’s mean, where
/// `possible` counts the pairs that rows without gaps would make: of a whole series the textbook’s
/// c_k/c_0 (Box & Jenkins 1970). Pairs never cross a unit and are `k` moments apart.
///
/// @param cells  of each row; NaN: missing.
[[nodiscard]] Autocorrelations autocorrelations(const TimeOrder& order,
                                                std::span<const double> cells, std::size_t lags);

/// Correlation of y with x `lag` moments earlier, lags −lags … lags, in the same convention.
[[nodiscard]] std::vector<double> crossCorrelations(const TimeOrder& order,
                                                    std::span<const double> x,
                                                    std::span<const double> y, std::size_t lags);

/// Correlations as stems at lags `firstLag`, … with the ground where unrelated values keep, ±bound.
[[nodiscard]] Exhibit correlogram(const std::vector<double>& r, int firstLag, double bound);

}  // namespace rapporto
