#pragma once

#include "core/base/job.h"

#include <Eigen/Dense>

#include <functional>

namespace rapporto {

/// A smooth function of a few numbers, with its slope.
struct SlopedValue {
    double value = 0.0;
    Eigen::VectorXd slope;
};

using SmoothFunction = std::function<SlopedValue(const Eigen::VectorXd&)>;

/// Where a descent came to rest.
struct Descent {
    Eigen::VectorXd at;
    double value = 0.0;
    Eigen::VectorXd slope;
    Eigen::MatrixXd inverse;  ///< Of the curvature, as the steps showed it.
    bool settled = false;     ///< Nothing goes further down.
};

/// Goes down by quasi-Newton steps (Broyden, Fletcher, Goldfarb and Shanno 1970) until another one
/// would gain less than `gain`, or rounding.
///
/// @param inverse  of the curvature to begin with, or empty.
/// @return where it rests; not settled where it was stopped or the function is no number there.
[[nodiscard]] Descent descend(const SmoothFunction& function, const Eigen::VectorXd& from,
                              const Eigen::MatrixXd& inverse, double gain, const Job& job);

/// Second derivatives by central differences of the slope.
///
/// @param step  of each number.
[[nodiscard]] Eigen::MatrixXd curvature(const SmoothFunction& function, const Eigen::VectorXd& at,
                                        double step);

/// Newton steps on the slope, from a place that is near: to its last digits.
[[nodiscard]] Descent polished(const SmoothFunction& function, const Descent& near);

/// Inverse of a symmetric matrix over the directions that have a curvature above nothing.
[[nodiscard]] Eigen::MatrixXd inverseWhereCurved(const Eigen::MatrixXd& symmetric);

}  // namespace rapporto
