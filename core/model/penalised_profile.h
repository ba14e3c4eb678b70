#pragma once

#include "core/model/fit.h"

namespace rapporto {

/// Intervals and p of a penalised logit (by design and fit) from the profile of its penalised
/// likelihood, where errors are classical and the rows are few enough to search at once; says which
/// of both it is. Nothing for other fits. Draws have no use for it.
/// Source: Heinze & Schemper (2002), Statistics in Medicine 21.
void profileIntervals(Fit& fit, const Design& design, const EstimatorSettings& settings,
                      const ErrorSpec& errors, double alpha);

}  // namespace rapporto
