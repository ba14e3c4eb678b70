#pragma once

#include "core/model/fit.h"

namespace rapporto {

/// Any estimator under other weights of the rows: what replicate weights and draws of rows or
/// clusters ask for.
class Reweighted {
  public:
    /// @param design  as the estimator was given it; swept effects are swept anew each time.
    /// @param fit     its estimate on the rows as they are: whose coefficients are followed.
    Reweighted(const Estimator& estimator, const Design& design, const EstimatorSettings& settings,
               const Fit& fit);

    /// Coefficients in the order of the fit’s with `factors` (n, from 0) times the design’s own
    /// weights; a coefficient that has no estimate there is NaN. Rows of factor zero leave.
    [[nodiscard]] Eigen::VectorXd under(const Eigen::VectorXd& factors, const Job& job) const;

    [[nodiscard]] const Design& plain() const { return plain_; }

  private:
    const Estimator& estimator_;
    bool swept_;           ///< The estimator is given a swept design.
    const Design& plain_;  ///< Before sweeping.
    const EstimatorSettings& settings_;
    const Fit& fit_;
};

/// Covariance by weights made anew by those who drew the sample: the spread of the estimates about
/// the estimate, by the kind: jackknife (R − 1)/R, balanced 1/(R(1 − fay)²), bootstrap 1/R, or the
/// scale given. Law t(R − 1). @return TooFewRows where a replicate has no solution, Stopped.
/// Source: Wolter (2007), Introduction to Variance Estimation; Judkins (1990), J. Official
/// Statistics 6.
[[nodiscard]] Result<Covariance> replicateCovariance(const Reweighted& estimates, const Fit& fit,
                                                     const SurveyRows& survey, const Job& job);

/// Draws of rows or clusters with percentile or bias-corrected intervals, for estimators that have
/// no shorter way. Same numbers for any number of threads.
/// @return BadSetting (other schemes, BCa, no clusters, rows drawn apart with effects held fixed),
///         TooFewRows (most draws have no solution), Stopped. Source: Efron (1987), JASA 82.
[[nodiscard]] Result<Covariance> redrawnCovariance(const Reweighted& estimates, const Fit& fit,
                                                   const ErrorSpec& spec, double alpha,
                                                   const Job& job);

/// The same estimates with other errors: intervals, p and the joint test follow.
///
/// @param design  the one the coefficients are of.
void replaceCovariance(Fit& fit, const Design& design, Covariance covariance, double alpha);

/// Intervals and p of each coefficient from draws (k × B, without NaN) by spec.interval.
[[nodiscard]] Resampling intervalsOf(const Eigen::VectorXd& estimate, const Eigen::MatrixXd& draws,
                                     const ErrorSpec& spec, double alpha);

/// The same with what each unit adds to each estimate (units × k), which BCa intervals hang on.
[[nodiscard]] Resampling intervalsOf(const Eigen::VectorXd& estimate, const Eigen::MatrixXd& draws,
                                     const Eigen::MatrixXd& influence, const ErrorSpec& spec,
                                     double alpha);

}  // namespace rapporto
