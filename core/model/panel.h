#pragma once

#include "core/model/fit.h"

namespace rapporto {

/// What a panel method tells beside its coefficients.
struct PanelFit {
    int units = 0;
    double meanRows = 0.0;  ///< Rows a unit.
    std::size_t pairs = 0;  ///< Of first differences: rows with the moment before; else 0.

    /// How much of each column’s variance lies within units; of the design as it was.
    struct Share {
        std::string column;
        double within = 0.0;
    };

    std::vector<Share> shares;

    // Of random effects.
    std::optional<double> sigmaUnit;  ///< Spread of the units’ effects.
    std::optional<double> sigmaRest;  ///< Spread within units.
    double thetaLow = 0.0;            ///< Share of a unit’s mean taken out, least …
    double thetaHigh = 0.0;           ///< … and most.
};

/// Units, rows a unit, and what varies within units, of the rows as they are.
[[nodiscard]] PanelFit panelFitOf(const Design& raw);

/// The effects of what a fit holds fixed, as they stand in each row: a vector of n a grouping of
/// `design.effects`, on the scale of the outcome (of its index for counts). With slopes of their
/// own the one vector is level and slopes together. The first keeps no mean where there is a
/// constant.
///
/// @param design  as the answer has it.
/// @return NotBuilt where the fit holds nothing fixed, or its effects cancel without being
///         estimated (conditional logit, differences); NotConverged; Stopped.
[[nodiscard]] Result<std::vector<Eigen::VectorXd>> effectsHeldFixed(const Fit& fit,
                                                                    const Design& design,
                                                                    const Job& job);

/// Sweeps the effects of `design.effects` out of y, X and Z and puts the means back, so that the
/// constant is the mean effect. A column that does not vary once they are out is made constant.
/// `before` is the design as it was.
///
/// @return the swept design, or NoVariation (the outcome), NotConverged, Stopped.
/// Source: Frisch & Waugh (1933), Econometrica 1; sweepEffects().
[[nodiscard]] Result<Design> sweptDesign(Design design, const Job& job);

/// Leverage of the effects held fixed, beside that of the constant where there is one (n): exact
/// for any number of groupings and own slopes.
///
/// @param design  as it is before sweeping.
/// @return BadSetting where it would cost many times the fit, Stopped; see effectsLeverage().
[[nodiscard]] Result<Eigen::VectorXd> heldLeverage(const Design& design, const Job& job);

/// Columns of a swept design that the effects hold: what is said of each in place of a combination.
[[nodiscard]] std::string heldReason(const Design& design);

/// Means of the units, a row each. @return BadSetting without units.
[[nodiscard]] Result<Design> betweenDesign(const Design& design);

/// Changes from one moment to the next within units; a gap makes none. The constant is a trend.
/// @return BadSetting without moments, TooFewRows.
[[nodiscard]] Result<Design> differencedDesign(const Design& design);

/// Parts of the variance for random effects by Swamy & Arora (1972), Econometrica 40; unbalanced by
/// Baltagi & Chang (1994), J. Econometrics 62.
struct VarianceParts {
    double unit = 0.0;      ///< σ_u², zero where the estimate is negative.
    double rest = 0.0;      ///< σ_e².
    bool negative = false;  ///< The estimate of σ_u² was.
};

[[nodiscard]] Result<VarianceParts> varianceParts(const Design& design, const Job& job);

/// Least squares within units (`within`: the design comes swept), of their means, of differences,
/// and of rows less a share of their unit’s mean (random effects; normal law). The last three take
/// weights that are the same in all rows of a unit: a weight of four stands for a unit whose rows,
/// effect and errors alike, scatter half as widely.
[[nodiscard]] Result<Fit> fitWithin(const Design& design, const EstimatorSettings& settings,
                                    const ErrorSpec& errors, double alpha, const Job& job);
[[nodiscard]] Result<Fit> fitBetween(const Design& design, const EstimatorSettings& settings,
                                     const ErrorSpec& errors, double alpha, const Job& job);
[[nodiscard]] Result<Fit> fitFirstDifference(const Design& design,
                                             const EstimatorSettings& settings,
                                             const ErrorSpec& errors, double alpha, const Job& job);
[[nodiscard]] Result<Fit> fitRandom(const Design& design, const EstimatorSettings& settings,
                                    const ErrorSpec& errors, double alpha, const Job& job);

/// The same design on some of its rows.
[[nodiscard]] Design withRows(const Design& design, const std::vector<Eigen::Index>& rows);

}  // namespace rapporto
