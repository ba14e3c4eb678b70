#pragma once

#include "core/base/result.h"
#include "core/numerics/unit_root_law.h"

#include <Eigen/Dense>

#include <cstdint>
#include <optional>
#include <vector>

namespace rapporto {

/// Values of a series cut where moments are missing: each run holds neighbours in time.
using SeriesRuns = std::vector<std::vector<double>>;

/// The values of a series in runs of neighbours.
/// @param moments  of each value, in whole steps; none twice. Missing values (NaN) end a run.
[[nodiscard]] SeriesRuns runsOf(const std::vector<double>& values,
                                const std::vector<std::int64_t>& moments);

/// How many earlier changes stand beside the level.
struct LagRule {
    enum class By : std::uint8_t { Aic, Bic, Fixed };

    By by = By::Aic;
    int lags = 0;  ///< Of Fixed.
};

/// The t of the level before in the regression of the changes on it and earlier changes.
struct UnitRootTest {
    double t = 0.0;
    std::optional<double> p;  ///< Absent where no law is at hand (too few rows).
    int lags = 0;
    std::size_t rows = 0;  ///< Of the regression.
    double level = 0.0;    ///< The coefficient of the level before.
    double levelSe = 0.0;
};

/// Whether a series wanders: null hypothesis, it has a unit root.
///
/// By a criterion lags from 0 to ⌊12(n/100)^¼⌋ are compared on the rows that the longest has, n the
/// number of values (fewer where n·(columns)² passes 10⁸); the test itself takes all rows that it
/// can.
/// Source: Dickey & Fuller (1979), JASA 74; Said & Dickey (1984), Biometrika 71 (lags).
///
/// @param columns  over one: the series is what the first of so many trending columns leaves of
///                 the others, `with` what their regression held; nothing is taken out of it again.
/// @return the test, or TooFewRows, NoVariation (its changes are one number, but for rounding).
[[nodiscard]] Result<UnitRootTest> unitRootTest(const SeriesRuns& runs, Deterministic with,
                                                const LagRule& rule, int columns = 1);

/// ⌊12(n/100)^¼⌋: Schwert (1989), Journal of Business & Economic Statistics 7.
[[nodiscard]] int mostUnitRootLags(std::size_t n);

/// Whether a series keeps a level (or a trend): null hypothesis, it does.
struct LevelTest {
    double statistic = 0.0;  ///< Σ S²/(n²s²), S the sums of what is left so far.
    double p = 0.0;          ///< Between .01 and .10: the table ends there.
    int lags = 0;            ///< Of the long-run variance, Bartlett weights.
    bool atEnd = false;      ///< p lies at or beyond an end of the table.
};

/// Source: Kwiatkowski, Phillips, Schmidt & Shin (1992), Journal of Econometrics 54; lags
/// ⌊4(n/100)^¼⌋.
///
/// @param with  Constant or Trend.
/// @return the test, or TooFewRows, NoVariation, BadSetting (the series has gaps).
[[nodiscard]] Result<LevelTest> levelTest(const SeriesRuns& runs, Deterministic with,
                                          std::optional<int> lags);

/// Whether all units of a panel wander: null hypothesis, each has a unit root.
struct PanelUnitRootTest {
    double w = 0.0;  ///< Of the mean t; normal.
    double p = 0.0;
    double fisher = 0.0;  ///< −2 Σ ln p of the units; chi-square with 2·units.
    double fisherP = 0.0;
    double meanT = 0.0;
    std::size_t units = 0;
    std::size_t without = 0;  ///< Units too short, or of one value.
    std::vector<double> ts;   ///< Of the units asked, in order.
};

/// Source: Im, Pesaran & Shin (2003), Journal of Econometrics 115; Maddala & Wu (1999), Oxford
/// Bulletin of Economics and Statistics 61.
///
/// @return the test, or TooFewRows: under two units are long enough.
[[nodiscard]] Result<PanelUnitRootTest> panelUnitRootTest(const std::vector<SeriesRuns>& units,
                                                          Deterministic with, const LagRule& rule);

}  // namespace rapporto
