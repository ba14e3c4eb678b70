#pragma once

#include "core/model/fit.h"

namespace rapporto {

/// What a fit that holds odd rows down tells beside its coefficients.
struct RobustFit {
    double scale = 0.0;
    double tuning = 0.0;      ///< k of Huber, c of the bisquare.
    Eigen::VectorXd weights;  ///< n, from 0 (left out) to 1 (counts in full).
    int iterations = 0;
    std::size_t halved = 0;                 ///< Rows that count for less than a half …
    std::size_t out = 0;                    ///< … and for less than a tenth.
    std::vector<Coefficient> leastSquares;  ///< In the order of the coefficients.
};

/// M-estimates by iterated weights with the scale median |e|/0.6745 about zero: Huber’s ψ (k 1.345)
/// from least squares; the bisquare (c 4.685) from an S-estimate, which half of the rows cannot
/// carry away; MM: the bisquare at the S-estimate’s own scale, its constant by the efficiency asked
/// for (.95). Errors: classical by Huber (1981) in the small-sample form, others by the sandwich of
/// ψ and ψ'. Law t(n − k).
///
/// @return the fit, or BadSetting (effects held fixed, a constant that is not above zero),
///         NotConverged, TooFewRows, RankDeficient (half of the rows lie on one plane), Stopped.
/// Source: Huber (1981), Robust Statistics; Beaton & Tukey (1974), Technometrics 16; Yohai (1987),
/// Annals of Statistics 15; Salibian-Barrera & Yohai (2006), JCGS 15.
[[nodiscard]] Result<Fit> fitHuber(const Design& design, const EstimatorSettings& settings,
                                   const ErrorSpec& errors, double alpha, const Job& job);
[[nodiscard]] Result<Fit> fitBisquare(const Design& design, const EstimatorSettings& settings,
                                      const ErrorSpec& errors, double alpha, const Job& job);
[[nodiscard]] Result<Fit> fitMm(const Design& design, const EstimatorSettings& settings,
                                const ErrorSpec& errors, double alpha, const Job& job);

/// An S-estimate: the coefficients with the smallest M-scale of the residuals (bisquare c 1.5476,
/// mean ρ one half), from 500 drawn starts, the best refined until nothing changes.
struct SEstimate {
    Eigen::VectorXd coefficients;
    double scale = 0.0;
};

[[nodiscard]] Result<SEstimate> sEstimate(const Eigen::MatrixXd& X, const Eigen::VectorXd& y,
                                          const Eigen::VectorXd& weights, std::uint64_t seed,
                                          const Job& job);

/// c at which the bisquare has that efficiency under normal errors.
[[nodiscard]] double bisquareConstant(double efficiency);

/// The rows by their outcome and then their columns: an order that where they stand does not
/// change.
[[nodiscard]] std::vector<Eigen::Index> rowsInOrder(const Eigen::MatrixXd& X,
                                                    const Eigen::VectorXd& y);

}  // namespace rapporto
