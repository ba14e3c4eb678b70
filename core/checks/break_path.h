#pragma once

#include "core/checks/check.h"

namespace rapporto {

/// The F of a break in all coefficients at each moment between 15 % and 85 % of the series; its
/// largest value by the law of Andrews (1993), Econometrica 61.
CheckResult checkSupF(const CheckInput& in);

/// The estimates fitted on the rows up to each moment, and how far they wander from those of all
/// rows. Source: Ploberger, Krämer & Kontrus (1989), Journal of Econometrics 40.
CheckResult checkRecursive(const CheckInput& in);

}  // namespace rapporto
