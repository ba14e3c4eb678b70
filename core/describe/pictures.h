#pragma once

#include "core/describe/exhibit.h"
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

/// The density at 201 places from three bandwidths below the least value to three above the most.
[[nodiscard]] Density densityOf(std::span<const double> cells, double bandwidth);

/// Ordered values against the quantiles of a normal law at (i − 3/8)/(n + 1/4) (Blom 1958), the
/// line through the quartiles, and the band in which each point lies with probability 1 − alpha
/// if the law is that line’s (normal order statistics, delta method).
[[nodiscard]] Exhibit quantilePlot(const Frame& frame, const std::string& name, double alpha);

/// The share of rows at or below each value, with the band that holds the whole true curve with
/// probability 1 − alpha (Massart 1990).
[[nodiscard]] Exhibit empiricalDistribution(const Frame& frame, const std::string& name,
                                            double alpha);

/// A quantity by groups: every row as a point, spread within its group by a fixed pattern, the box
/// from quartile to quartile with the median, and the mean with its t interval beside it.
[[nodiscard]] Exhibit byGroups(const Frame& frame, const std::string& quantity,
                               const std::string& groups, double alpha);

}  // namespace rapporto
