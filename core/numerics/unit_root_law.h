#pragma once

#include "core/numerics/unit_root_tables.h"

#include <cstddef>
#include <optional>

namespace rapporto {

/// Trending columns of a regression, the outcome with them, that there are laws for.
inline constexpr int kMostTrending = 6;

/// P(t ≤ `t`) where nothing holds a series together: of one column, of the t of the level before in
/// the regression of its changes (Dickey & Fuller 1979, JASA 74); of several, of the same t of what
/// the first leaves of the others (Engle & Granger 1987, Econometrica 55). Simulated for each
/// number of rows by response surfaces, as MacKinnon (1996), Journal of Applied Econometrics 11,
/// does; within .002 of simulation, see docs/methods.md. Lags do not enter the law.
///
/// @param columns  1 to kMostTrending.
/// @param with     taken out of the series; of several columns Constant or Trend.
/// @param rows     of the regression whose t it is.
/// @return the probability; nothing for a law that is not there: under 12 rows (20 of several
///         columns).
[[nodiscard]] std::optional<double> unitRootP(double t, int columns, Deterministic with,
                                              std::size_t rows);

/// Mean and variance of the t of one column that wanders, by simulation, interpolated in 1/rows.
/// Source: Im, Pesaran & Shin (2003), Journal of Econometrics 115 (what they are for).
struct UnitRootAverage {
    double mean = 0.0;
    double variance = 1.0;
};

/// @return nothing for over 8 lags, or where under 6 degrees of freedom are left.
[[nodiscard]] std::optional<UnitRootAverage> unitRootAverage(Deterministic with, int lags,
                                                             std::size_t rows);

}  // namespace rapporto
