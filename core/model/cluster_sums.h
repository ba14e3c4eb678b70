#pragma once

#include "core/model/fit.h"

namespace rapporto {

/// The covariance by one clustering, or by two and what they have in common, of parts that are each
/// sandwiched and scaled already.
///
/// @param parts   one; or three: of the first, of the second, of both together.
/// @param counts  clusters of the first and second.
[[nodiscard]] Covariance clusteredTogether(const std::vector<Eigen::MatrixXd>& parts,
                                           const std::vector<std::int32_t>& counts);

/// Refuses a clustering of one cluster.
[[nodiscard]] Result<void> enoughClusters(const std::vector<std::int32_t>& counts,
                                          const std::vector<std::string>& by);

}  // namespace rapporto
