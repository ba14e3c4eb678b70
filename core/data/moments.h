#pragma once

#include "core/base/result.h"
#include "core/data/column.h"

#include <Eigen/Dense>

namespace rapporto {

/// What a printed summary matrix tells about p variables: enough for least squares, correlations
/// and path systems, not for anything that looks at rows.
struct SummaryMatrix {
    double n = 0.0;  ///< Rows behind it, at least 2.
    std::vector<std::string> names;
    Eigen::VectorXd mean;         ///< p; zeros where none was given.
    Eigen::VectorXd sd;           ///< p, n − 1 in the divisor; ones where none was given.
    Eigen::MatrixXd correlation;  ///< p × p, symmetric with ones on the diagonal.
    bool hasMeans = false;
    bool hasScale = false;  ///< Standard deviations or covariances were given.

    friend bool operator==(const SummaryMatrix&, const SummaryMatrix&) = default;
};

/// What is known of the entries before they are put together; empty or NaN: not given.
struct MomentEntries {
    double n = 0.0;
    std::vector<std::string> names;
    std::vector<double> mean;
    std::vector<double> sd;
    std::vector<std::vector<double>> correlation;  ///< Rows; the lower triangle is enough.
    std::vector<std::vector<double>> covariance;
};

/// Checks the entries and completes the triangle.
///
/// @return the moments, or BadSetting: n under 2 or not said, an sd that is not positive, a
///         correlation outside −1 to 1, two halves that disagree, a matrix that no data can have
///         (`subjects` names the variables it hangs on); ShapeMismatch for rows of other lengths.
[[nodiscard]] Result<SummaryMatrix> makeMoments(const MomentEntries& entries);

/// Reads a table of entries: one row each, `statistic, variable, v1, v2, …` with the statistics n,
/// mean, sd, correlation and covariance.
///
/// @return the moments, or Syntax (`where` names the row) and what makeMoments refuses.
[[nodiscard]] Result<SummaryMatrix> momentsOfTable(const Table& table);

/// p + 1 rows, each standing for n / (p + 1) of the rows behind the moments, whose weighted means
/// and covariances are exactly these (to rounding). They serve computations that need no more than
/// moments, and are never shown.
[[nodiscard]] Table rowsWithMoments(const SummaryMatrix& moments);

}  // namespace rapporto
