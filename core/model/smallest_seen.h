#pragma once

#include "core/model/fit.h"

#include <optional>

namespace rapporto {

/// The smallest effect that a design with this error would have found with probability .8 at the
/// level `alpha`: (t₁₋ₐ/₂ + t.₈)·se, by the law of the coefficient. So “no effect” is never read
/// off a wide interval. Absent where the error is zero or unknown.
[[nodiscard]] std::optional<double> smallestSeen(const Coefficient& effect, double alpha);

}  // namespace rapporto
