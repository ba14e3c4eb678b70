#pragma once

#include "core/model/prediction.h"

namespace rapporto {

/// A prediction of a logarithm in the outcome’s own units, its row ends filled in.
/// @param factor  of smearing: mean of exp(e).
[[nodiscard]] Retransformed carriedBack(const Prediction& logged, double factor);

}  // namespace rapporto
