#pragma once

#include "core/left/left_rows.h"

namespace rapporto {

/// One index whose likelihood is asked for step by step.
struct LeftIndex {
    const Family* family;              ///< A Poisson count, or yes or no by logit or probit.
    std::vector<std::string> columns;  ///< k expressions of a row of `from`; “1” for a constant.
    std::string outcome;
    std::string weight;  ///< “1” for none.
    std::string from;    ///< “(select …) name”.
    double mean = 0.0;   ///< Of the outcome, weighted.
    double total = 0.0;  ///< Sum of the weights.
};

struct LeftMaximum {
    Eigen::VectorXd theta;    ///< k.
    Eigen::MatrixXd inverse;  ///< Of the negative Hessian, k × k.
    double logLikelihood = 0.0;
    double nullLogLikelihood = 0.0;  ///< Of a constant alone.
    double deviance = 0.0;
    double pearson = 0.0;
    int iterations = 0;
    double gradient = 0.0;  ///< Newton’s decrement at the end.
    /// The rows with “eta”, their mean “mu” and “e”, the score of each by its index.
    std::string from;
};

/// Newton’s method, one statement a step: likelihood, gradient and Hessian at once. Columns should
/// be about zero and of like size. Source: Cody (1969), Mathematics of Computation 23, for the
/// normal law.
///
/// @return the maximum, or NotConverged (a term may tell the outcome for certain), RankDeficient,
///         Stopped, what the engine refuses.
[[nodiscard]] Result<LeftMaximum> maximiseLeft(LeftRows& rows, const LeftIndex& index);

}  // namespace rapporto
