#pragma once

#include "core/model/fit.h"

namespace rapporto {

/// What a fit with errors that carry over tells beside its coefficients.
struct EchoFit {
    double rho = 0.0;        ///< Share of an error that the next one takes over.
    int rounds = 0;          ///< Until ρ stood still.
    std::size_t starts = 0;  ///< Rows without the moment before: first ones, and those after gaps.
    bool firstKept = true;   ///< They count, as √(1 − ρ²) of themselves.
};

/// Least squares of rows less ρ times the row of the moment before, ρ = Σ e_t e_{t−1}/Σ e²_{t−1} of
/// what the estimates leave of the rows as they are, both in turns until ρ moves by under 1e-10.
/// Within a panel neighbours are rows of one unit, and ρ is shared. A gap begins anew. R² is of the
/// rows less their past, about their mean.
/// Source: Prais & Winsten (1954), Cowles Commission Discussion Paper 383 (first rows kept);
/// Cochrane & Orcutt (1949), JASA 44 (dropped).
///
/// @return the fit; BadSetting (no series and no panel, two rows at one moment, weights, drawn or
///         survey errors, effects held fixed), TooFewRows (no two neighbours, or fewer rows than
///         columns), NotConverged (ρ goes to one, or does not stand still), Stopped.
[[nodiscard]] Result<Fit> fitFeasibleAr(const Design& design, const EstimatorSettings& settings,
                                        const ErrorSpec& errors, double alpha, const Job& job);

}  // namespace rapporto
