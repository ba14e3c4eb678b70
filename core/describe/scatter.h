#pragma once

#include "core/describe/exhibit.h"
#include "core/describe/summary.h"

#include <set>

namespace rapporto {

/// One variable over the rows in the sample, as bins or as shares of levels.
struct Distribution {
    Histogram bins;
    Histogram selected;                   ///< The same bins, of the selected rows.
    Summary summary;                      ///< Of numbers.
    std::vector<std::string> levelNames;  ///< Of groups, in their order; then `bins` counts levels.
    std::size_t n = 0;
};

[[nodiscard]] Distribution distributionOf(const Frame& frame, const std::string& name,
                                          const std::set<std::size_t>& selected);

/// Points of two variables over the rows in the sample that have both, with the least squares line
/// and a local smooth; groups lie at 1, 2, … in the order of their levels.
struct Scatter {
    Exhibit exhibit;
    double slope = 0.0;
    double slopeWithout = 0.0;  ///< Of the line without the selected rows.
};

[[nodiscard]] Scatter scatterOf(const Frame& frame, const std::string& x, const std::string& y,
                                const std::set<std::size_t>& selected);

}  // namespace rapporto
