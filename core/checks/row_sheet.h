#pragma once

#include "core/describe/exhibit.h"
#include "core/model/fit.h"

namespace rapporto {

/// What a fit says of each of its rows; columns of one length, in the order of the design.
struct RowSheet {
    std::vector<std::size_t> rows;  ///< Of the source, from 0.
    Eigen::VectorXd observed;
    Eigen::VectorXd predicted;
    Eigen::VectorXd left;         ///< Observed less predicted.
    Eigen::VectorXd studentised;  ///< Externally: how unusual.
    Eigen::VectorXd leverage;
    Eigen::VectorXd cook;
};

/// Leave-one-out has its short formulas: fits that are linear in the outcome.
[[nodiscard]] bool hasInfluence(const Fit& fit);

/// Without influence what is told by it alone is NaN.
[[nodiscard]] RowSheet rowSheet(const Design& design, const Fit& fit);

/// The estimate of one coefficient without each row in turn, n; without refitting.
/// Source: Belsley, Kuh & Welsch (1980), Regression Diagnostics, section 2.1.
[[nodiscard]] Eigen::VectorXd estimatesWithout(const Design& design, const Fit& fit,
                                               std::size_t coefficient);

/// The row whose absence moves an effect most.
struct DropOne {
    std::size_t coefficient = 0;
    std::size_t row = 0;  ///< Of the source, from 0.
    double estimate = 0.0;
    double change = 0.0;  ///< In standard errors of the question.
};

/// One entry a slope.
[[nodiscard]] std::vector<DropOne> dropOne(const Design& design, const Fit& fit);

/// What is left of the outcome against what is left of one column when all others are taken out of
/// both; the line through the points has the column’s estimate as its slope.
/// Source: Mosteller & Tukey (1977), Data Analysis and Regression, chapter 12.
[[nodiscard]] Result<Exhibit> addedVariable(const Design& design, const Fit& fit,
                                            std::size_t coefficient, const Job& job);

/// Ordered absolute values of studentised residuals against half-normal quantiles, with the band
/// that `draws` samples of the model with normal errors lie in (each point at 1 − alpha); from
/// 5,000 cells of X on the law of order statistics in place of draws.
/// Source: Atkinson (1985), Plots, Transformations and Regression, chapter 4.
[[nodiscard]] Exhibit halfNormal(const Design& design, const Fit& fit, double alpha);

/// The band in which each of n ordered normal numbers lies at 1 − alpha (the i-th of n uniform
/// numbers has the law Beta(i, n − i + 1)), at places of `x`; half-normal with `absolute`.
[[nodiscard]] Exhibit::Band orderStatisticBand(const std::vector<double>& x, double alpha,
                                               bool absolute);

/// Bars of residuals with the normal curve of that spread.
[[nodiscard]] Exhibit residualHistogram(const std::vector<double>& residuals, double sd,
                                        const std::string& title, const std::string& subtitle,
                                        const std::string& axis);

/// The band of the ordered studentised residuals (signed) of samples of the model with normal
/// errors: low and high for each order, at 1 − alpha. Empty beyond 5,000 cells of X.
struct OrderBand {
    std::vector<double> low;
    std::vector<double> high;
};

[[nodiscard]] OrderBand simulatedBand(const Design& design, const Fit& fit, double alpha,
                                      bool absolute);

/// Externally studentised residuals e_i / (s_(i) √(1 − h_i)); zero for a row that fits itself.
/// Source: Belsley, Kuh & Welsch (1980), Regression Diagnostics, section 2.1.
[[nodiscard]] Eigen::VectorXd studentisedResiduals(const Design& design, const Fit& fit);

/// Cook's distances e²h / (k s² (1 − h)²). Source: Cook (1977), Technometrics 19.
[[nodiscard]] Eigen::VectorXd cooksDistances(const Design& design, const Fit& fit);

}  // namespace rapporto
