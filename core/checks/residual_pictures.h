#pragma once

#include "core/checks/check.h"

#include <vector>

namespace rapporto {

/// What is left, looked at from every side. Least squares: its spread against the level of the fit,
/// sizes against the half-normal law, its histogram beside the normal curve, and along every term
/// that is a quantity with a smooth. Robust fits and quantiles: along the fit, the histogram, the
/// terms. Likelihoods: quantileResidualPictures(), empty where there are none.
[[nodiscard]] std::vector<Exhibit> residualPictures(const Design& design, const Fit& fit,
                                                    const EstimatorSettings& settings,
                                                    double alpha);

/// The checks whose pictures show what is left at a glance: echo along time or else curvature,
/// spread, influence, normality; null where there is no such picture.
[[nodiscard]] std::vector<const CheckResult*> keyPictures(const std::vector<CheckResult>& checks);

}  // namespace rapporto
