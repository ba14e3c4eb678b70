#pragma once

#include "core/checks/check.h"

#include <optional>
#include <vector>

namespace rapporto {

/// Where each row’s outcome stands in the law that a fit by likelihood gives it, as a number that
/// is standard normal when the law is right: Φ⁻¹(F(y)). Where the law has steps (counts, yes and
/// no, ordered groups, outcomes behind an end) a place within the step is drawn, the same one for a
/// row every time. n numbers; nothing where a law has no order or none is meant: groups without an
/// order, shares, choices within units, two equations, counts that are not whole.
/// Source: Dunn & Smyth (1996), J. Computational and Graphical Statistics 5.
[[nodiscard]] std::optional<Eigen::VectorXd> quantileResiduals(const Design& design, const Fit& fit,
                                                               const EstimatorSettings& settings);

/// Quantile residuals along the level of the fit and along every term that is a quantity, in their
/// order against the normal law, and as a histogram. Empty where there are none.
[[nodiscard]] std::vector<Exhibit> quantileResidualPictures(const Design& design, const Fit& fit,
                                                            const EstimatorSettings& settings,
                                                            double alpha);

}  // namespace rapporto
