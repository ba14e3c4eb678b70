#pragma once

#include "core/model/fit.h"

namespace rapporto {

/// What a design like the one at hand needs to find an effect of some size.
struct Planned {
    std::string of;
    double effect = 0.0;
    double power = 0.8;
    double rows = 0.0;               ///< That find it with that probability, rounded up.
    std::optional<double> clusters;  ///< Where errors are by clusters: how many, of the same size.
    double here = 0.0;               ///< Probability that the rows at hand find it.
};

/// Rows (and clusters) needed for `request.power` at the level alpha, as if more of the same were
/// drawn: errors shrink by the root of their number, and the law’s degrees of freedom grow with it.
///
/// @return UnknownName (no such effect), BadSetting (an effect of zero, no error).
/// Source: the same rule as smallestSeen(), solved for the number; Bloom (1995), Evaluation Review
///         19.
[[nodiscard]] Result<Planned> plannedSize(const Design& design, const Fit& fit,
                                          const PlannedRequest& request, double alpha);

}  // namespace rapporto
