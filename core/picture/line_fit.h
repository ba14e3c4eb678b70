#pragma once

#include "core/data/row_set.h"
#include "core/describe/survey_mean.h"
#include "core/picture/picture.h"

#include <optional>
#include <span>
#include <vector>

namespace rapporto {

/// A straight line or a parabola through points, for a picture.
struct Curve {
    double centre = 0.0;  ///< z = (x − centre)/scale.
    double scale = 1.0;
    std::vector<double> coefficients;             ///< Of 1, z, z².
    std::vector<std::vector<double>> covariance;  ///< Of them.
    double sigma = 0.0;                           ///< Spread of one row about the curve.
    double df = 0.0;  ///< Under 1: the design cannot tell how sure the curve is.

    [[nodiscard]] double at(double x) const;
    [[nodiscard]] double se(double x) const;  ///< Of the mean at x.

    /// Of a line.
    [[nodiscard]] double slope() const { return coefficients[1] / scale; }
};

/// Least squares of a polynomial of degree 1 or 2 with classical errors; with weights by the design
/// (`design` holds every row, `rows` says which row a point is), by linearisation.
/// Nothing: too few points, or too few different x.
[[nodiscard]] std::optional<Curve> fitCurve(std::span<const double> x, std::span<const double> y,
                                            std::span<const std::size_t> rows, int degree,
                                            const SurveyRows* design);

/// Slope of the line through a scatter’s points without some of its rows, by the same weights.
[[nodiscard]] std::optional<double> slopeWithout(const DrawnPicture& scatter, const Frame& frame,
                                                 const Survey& survey, const RowSet& rows);

}  // namespace rapporto
