#pragma once

#include "core/checks/check.h"

namespace rapporto {

/// The F of a break in all coefficients at each moment between 15 % and 85 % of the series; its
/// largest value by the law of Andrews (1993), Econometrica 61.
CheckResult checkSupF(const CheckInput& in);

/// The estimates fitted on the rows up to each moment; tested by how far the sums of the scores
/// wander from zero, whose law is that of independent Brownian bridges.
/// Source: Zeileis & Hornik (2007), on generalized M-fluctuation tests.
CheckResult checkRecursive(const CheckInput& in);

}  // namespace rapporto
