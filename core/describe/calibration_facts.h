#pragma once

#include "core/describe/calibration.h"
#include "core/describe/exhibit.h"
#include "core/describe/survey_mean.h"

namespace rapporto {

/// What calibration made of the weights.
struct CalibrationFacts {
    /// A level’s share, or a mean.
    struct Total {
        std::string variable;
        std::string level;  ///< Empty: a mean.
        std::size_t rows = 0;
        double drawn = 0.0;    ///< Under the weights of the sample.
        double known = 0.0;    ///< Asked for.
        double reached = 0.0;  ///< Under the new weights.
    };

    std::vector<Total> totals;
    std::size_t rows = 0;        ///< With a weight.
    std::vector<double> ratios;  ///< New to old weight, of each of them.
    double lowest = 1.0;         ///< Of the ratios.
    double highest = 1.0;        ///< Of the ratios.
    std::size_t atBounds = 0;    ///< Rows that a bound holds.
    double effectBefore = 1.0;   ///< Kish’s effect of unequal weights, of the sample.
    double effectAfter = 1.0;    ///< The same of the new weights.
    double effectiveRows = 0.0;  ///< Rows over that.
};

/// The facts of rows whose weights are calibrated; of others, none.
[[nodiscard]] CalibrationFacts calibrationFacts(const SurveyRows& rows);

/// What the sample itself shows of a variable, as a total to begin with: nothing moves before
/// something known takes its place. Shares in whole millionths, what rounding leaves with the
/// largest.
///
/// @param survey  its totals are not looked at.
/// @return UnknownName, WrongType (a mean of texts), BadSetting (over 60 levels, no value in any
///         row), what surveyRows() refuses.
[[nodiscard]] Result<KnownTotal> drawnTotal(const Frame& frame, Survey survey,
                                            const std::string& variable, bool mean);

/// How far the weights are stretched: a histogram of the ratios, with what bounds them.
[[nodiscard]] Exhibit calibrationPicture(const SurveyRows& rows, const CalibrationFacts& facts);

/// Known totals from a table of them: columns `variable`, `level` and `share` or `count` (which
/// are made shares), or `mean` where no level is given; in any order, letters of any height.
///
/// @return BadSetting with the row where one cannot be read.
[[nodiscard]] Result<std::vector<KnownTotal>> knownTotalsOf(const Table& table);

/// “raked to zone and age”, “calibrated to age”; empty: nothing is known.
[[nodiscard]] std::string calibrationWords(const SurveyRows& rows);

}  // namespace rapporto
