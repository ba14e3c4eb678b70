#pragma once

#include "core/model/prediction.h"

namespace rapporto {

/// The outcome at one moment to come.
struct ForecastPoint {
    double time = 0.0;    ///< As the source has it: a number, or days.
    std::string moment;   ///< For people.
    Estimate mean;        ///< What is expected; its error is that of the coefficients alone.
    double rowLow = 0.0;  ///< Where the outcome itself lies: shocks to come are added.
    double rowHigh = 0.0;
    std::optional<Retransformed> original;  ///< Of a logged outcome.
    /// Of an outcome in changes: the level they lead to (of its logarithm: carried back by exp).
    std::optional<Estimate> level;
    double levelRowLow = 0.0;
    double levelRowHigh = 0.0;
};

struct Forecast {
    std::vector<ForecastPoint> points;
    /// What each variable does after the last moment, in words.
    std::vector<std::pair<std::string, std::string>> goesOn;
    bool onItsPast = false;  ///< Terms read the outcome’s own past, which is foretold in turn.
    bool dates = false;      ///< Moments are days; else numbers.
    double echo = 0.0;       ///< ρ of what is left at the last moment, which fades into the first.
    std::string levelOf;     ///< Of an outcome in changes: of what.
    std::vector<std::string> notes;
};

/// Whether it can be asked of this fit: one linear equation of a series.
[[nodiscard]] bool canForecast(const Design& design, const Fit& fit);

/// The outcome at moments after the last one that was used. Variables go on as `request.terms`
/// says; where the table has rows of those moments, what they say of other variables counts where
/// nothing is asked. Lags, changes, trends and seasons are worked out along the way, also from the
/// outcome as it was foretold.
///
/// With D the derivative of a foretold value by those before it, the gradient by the coefficients
/// is g_h = x_h + Σ D_hi g_i and a shock ψ_h = Σ D_hi ψ_i (with an echo + ρ^(h−j)); variances are
/// g'Vg and that + σ² Σ ψ². Exact where the outcome’s past enters in a straight line, else by the
/// delta method. Of an echo the best linear prediction, ρ^h times what is left at the last moment
/// (Goldberger 1962), ρ taken as known.
///
/// @return BadSetting (no series; a method without one linear equation; a way to go on that the
///         variable cannot; a term that reads rows still to come), UnknownName, WrongType, and what
///         ScenarioMap::at refuses.
/// Source: Lütkepohl (2005), New Introduction to Multiple Time Series Analysis, for errors of
///         forecasts; Goldberger (1962), Journal of the American Statistical Association 57.
[[nodiscard]] Result<Forecast> forecastOf(const Frame& frame, const Design& design, const Fit& fit,
                                          const ScenarioMap& map, const ForecastRequest& request,
                                          double alpha, const Job& job);

}  // namespace rapporto
