#pragma once

#include "core/describe/summary.h"

namespace rapporto {

/// Kernel density with a normal kernel.
struct Density {
    double bandwidth = 0.0;
    std::vector<double> x;
    std::vector<double> y;
};

/// Bandwidth by solving the equation of Sheather & Jones (1991), J. R. Statist. Soc. B 53, with
/// the smaller of the interquartile range and 1.349 standard deviations as the first scale; above
/// 400 values they are counted into 512 bins; Silverman’s rule (1986) where it has no solution.
/// Missing values are passed over. No values: under two different ones.
[[nodiscard]] double sheatherJones(std::span<const double> cells);

/// The density at 201 places from three bandwidths below the least value to three above the most;
/// each value counts by its weight, all alike where there are none.
[[nodiscard]] Density densityOf(std::span<const double> cells, double bandwidth,
                                std::span<const double> weights = {});

}  // namespace rapporto
