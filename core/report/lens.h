#pragma once

#include "core/model/fit.h"

#include <vector>

namespace rapporto {

/// The outline of an effect's lens: at each value v the half-height is the two-sided p of v
/// (confidence curve; Birnbaum 1961, Journal of the American Statistical Association 56).
struct LensPoint {
    double value;
    double p;
};

/// `steps` + 1 points from p = .001 on one side to p = .001 on the other; empty when the standard
/// error is zero or unknown.
[[nodiscard]] std::vector<LensPoint> lensOutline(const Coefficient& effect, int steps = 60);

}  // namespace rapporto
