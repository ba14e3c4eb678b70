#pragma once

#include "core/data/frame.h"

#include <vector>

namespace rapporto {

/// Numbers of one variable over the rows given. Quartiles are linear between order statistics
/// (Hyndman & Fan 1996, type 7); skewness is the moment one, m₃/m₂^1.5,
/// and so is the kurtosis.
struct Summary {
    std::size_t n = 0;
    std::size_t missing = 0;
    double mean = 0.0;
    double sd = 0.0;
    double low = 0.0;
    double lowerQuartile = 0.0;
    double median = 0.0;
    double upperQuartile = 0.0;
    double high = 0.0;
    double skewness = 0.0;
    double kurtosis = 0.0;  ///< m₄/m₂² − 3.
};

/// Sets sd, skewness and kurtosis from n and the sums of powers of what is left of the mean.
void setShape(Summary& summary, double squares, double cubes, double fourths);

/// Which rows of a frame are in the sample, for `use`.
[[nodiscard]] std::vector<bool> rowsInSample(const Frame& frame);

/// Summary of the numbers in rows where `use` is true (all rows when empty).
[[nodiscard]] Summary summarise(std::span<const double> cells, const std::vector<bool>& use = {});

/// The same with weights: mean and moments are weighted, the sd is √(Σw(x − x̄)²/Σw · n/(n − 1)),
/// and a quantile is linear between the middles of the rows’ shares of the weight, the first at 0
/// and the last at 1; equal weights give `summarise`. Rows without a weight above zero do not
/// count.
[[nodiscard]] Summary summariseWeighted(std::span<const double> cells,
                                        std::span<const double> weights);

struct Histogram {
    double from = 0.0;
    double width = 1.0;
    std::vector<std::size_t> counts;

    /// The bin of a value within the range.
    [[nodiscard]] std::size_t binOf(double x) const;
};

/// What the bins of a histogram are chosen by.
struct BinFacts {
    std::size_t n = 0;
    double low = 0.0;
    double high = 0.0;
    bool whole = false;  ///< All values are whole numbers.
    double quartileRange =
        0.0;            ///< Looked at unless each value has a bin of its own, as `step` is.
    double step = 0.0;  ///< The first of commonSteps() that all are multiples of; 0: none.

    /// Few whole numbers: a bin for each.
    [[nodiscard]] bool eachItsOwn() const { return whole && high - low < 30.0; }
};

/// Steps that values are looked at for being multiples of, the coarsest first.
[[nodiscard]] std::span<const double> commonSteps();

/// Bins without counts, as `histogram` chooses them.
[[nodiscard]] Histogram binsFor(const BinFacts& facts, std::size_t bins = 0);

/// Equal bins over the range; `bins` 0 takes Freedman & Diaconis's width, 5 to 40 bins, and one
/// bin a value for few whole numbers. Where all values are multiples of 1, 0.5, 0.25, 0.1 or 0.05
/// the width is the next multiple of it, with the edges half a step from values.
[[nodiscard]] Histogram histogram(std::span<const double> cells, std::size_t bins = 0);

/// Quantile of sorted values, 0 ≤ p ≤ 1, linear between order statistics.
[[nodiscard]] double sortedQuantile(const std::vector<double>& sorted, double p);

}  // namespace rapporto
