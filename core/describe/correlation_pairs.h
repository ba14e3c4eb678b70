#pragma once

#include "core/describe/correlation.h"

namespace rapporto {

/// Two variables and what is held, over rows that have all of them.
struct RelatedPair {
    double n = 0.0;
    /// Product-moment correlations, 2 + h a side, the pair first; NaN beside a variable that does
    /// not vary there.
    Eigen::MatrixXd r;
};

/// Pearson correlations from those of each pair, as sums that somebody else made tell them.
///
/// @param own    rows with each variable.
/// @param pairs  (1, 0), (2, 0), (2, 1), …
/// @return the table, or NoTerms (under two variables).
[[nodiscard]] Result<CorrelationTable> correlatePairs(const std::vector<std::string>& variables,
                                                      const std::vector<std::string>& holding,
                                                      const Eigen::VectorXd& own,
                                                      const std::vector<RelatedPair>& pairs,
                                                      const CorrelationSettings& settings);

}  // namespace rapporto
