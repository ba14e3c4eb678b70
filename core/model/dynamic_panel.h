#pragma once

#include "core/model/fit.h"

namespace rapporto {

/// What estimation by earlier moments tells beside its coefficients.
struct DynamicFit {
    /// Do changes of the errors go together with those so many moments before?
    struct Serial {
        int order = 1;
        std::optional<double> z;  ///< Absent: no unit has changes so far apart.
        std::optional<double> p;
    };

    bool system = false;   ///< Levels stand beside the changes.
    int steps = 2;         ///< One, or two with the weight of the first step’s residuals.
    int instruments = 0;   ///< Columns, those of the terms themselves too.
    int rank = 0;          ///< Of the weight; fewer than the instruments where some say the same.
    int coefficients = 0;  ///< Estimated.
    int units = 0;
    std::size_t changes = 0;        ///< Rows of the differenced equation.
    std::size_t levels = 0;         ///< Rows of the level equation; 0 without.
    double sargan = 0.0;            ///< At the first step, under one spread.
    double hansen = 0.0;            ///< With the weight of the second step.
    std::optional<double> levelsJ;  ///< What Hansen’s J gains by the instruments of the levels …
    double levelsDf = 0.0;          ///< … and how many these are.
    std::vector<Serial> serial;     ///< Orders one to three.

    [[nodiscard]] int overidentified() const { return rank - coefficients; }
};

/// Instruments by earlier moments for a panel whose outcome depends on its own past.
///
/// Differenced equation: a row of a unit less the moment before. The lagged outcome is served by
/// itself one moment before and earlier, the terms of design.histories that are not lagged by
/// themselves two moments before and earlier, each moment with columns of its own (collapsed: a
/// column for a distance); every other term by its own change, design.Z by its changes. System:
/// the level equation stands beside it, served by the change of the lagged outcome at the same
/// moment and by that of the others one moment before; other terms serve both equations in one
/// column and the constant the levels alone.
///
/// One step weights by (Σ Z'HZ)⁺ with H the covariance of the transformed errors under one spread;
/// two steps by (Σ Z'ee'Z)⁺ at the first step’s residuals. Errors: robust or clustered by the unit
/// let errors of a unit go together (two steps with the correction for the weight’s own error);
/// classical takes the weight for granted. Normal law.
///
/// @return the fit, or BadSetting (no panel, nothing to instrument, other kinds of errors,
///         weights), TooFewRows, RankDeficient, Stopped.
/// Source: Arellano & Bond (1991), Review of Economic Studies 58; Blundell & Bond (1998), J.
/// Econometrics 87; Windmeijer (2005), J. Econometrics 126; Roodman (2009), Oxford Bulletin 71.
[[nodiscard]] Result<Fit> fitDifferenceGmm(const Design& design, const EstimatorSettings& settings,
                                           const ErrorSpec& errors, double alpha, const Job& job);
[[nodiscard]] Result<Fit> fitSystemGmm(const Design& design, const EstimatorSettings& settings,
                                       const ErrorSpec& errors, double alpha, const Job& job);

}  // namespace rapporto
