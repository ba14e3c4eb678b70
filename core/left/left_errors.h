#pragma once

#include "core/left/left_rows.h"
#include "core/model/fit.h"

#include <functional>

namespace rapporto {

/// What scores are made of: the terms, or the instruments in their place. In the order constant,
/// then columns.
struct LeftBasis {
    std::vector<std::string> columns;  ///< b expressions of a row.
    /// b × k: rows the basis, columns the kept columns as the solution has them.
    Eigen::MatrixXd toKept;
    std::string from;  ///< Rows with what is left of each as “e”.
    /// Rows without it, and its square as an expression of theirs: one layer less to work out.
    std::string plainFrom;
    std::string square;
    /// The bread around their meat, k × k.
    std::function<Eigen::MatrixXd(const Eigen::MatrixXd&)> between;
};

/// The rows of an answer whose errors are asked for.
struct LeftScores {
    std::string rows;  ///< “(select …) name” with weights w and clusterings c0 …
    WeightKind weights = WeightKind::None;
    double scale = 1.0;           ///< Of the weights: what makes their mean one.
    std::size_t clusterings = 0;  ///< How many.
    std::optional<double> held;   ///< Groups held fixed.
};

/// One clustering among the rows.
struct LeftClusters {
    std::int32_t count = 0;
    bool heldWithin = false;  ///< Each group held fixed lies within one cluster.
};

struct LeftCovariance {
    Covariance covariance;
    std::vector<LeftClusters> clusters;  ///< Told where a grouping is held fixed.
};

/// Between the bread of least squares: meat in the centred columns.
[[nodiscard]] Eigen::MatrixXd sandwichOf(const Fit& fit, const Eigen::MatrixXd& meat);

/// Robust (HC0, HC1; White 1980) or clustered (Liang & Zeger 1986; two-way by inclusion and
/// exclusion) covariance of the kept coefficients by sums of products of scores, which the engine
/// adds up.
///
/// @return it, or what the engine refuses, TooFewRows under two clusters, Stopped.
[[nodiscard]] Result<LeftCovariance> leftCovariance(LeftRows& rows, const ErrorSpec& errors,
                                                    const LeftScores& scores, const Fit& fit,
                                                    const LeftBasis& basis);

}  // namespace rapporto
