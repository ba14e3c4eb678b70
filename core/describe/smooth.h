#pragma once

#include "core/describe/exhibit.h"

namespace rapporto {

/// Local linear regression with tricube weights over the nearest `span` share of the points,
/// evaluated at up to 60 places across the range of x and joined by straight lines; beyond 20,000
/// points over an even selection of them.
///
/// Source: Cleveland (1979), Journal of the American Statistical Association 74, 829–836
/// (without robustness iterations).
[[nodiscard]] Exhibit::Line localLine(const std::vector<double>& x, const std::vector<double>& y,
                                      double span, const std::string& name);

}  // namespace rapporto
