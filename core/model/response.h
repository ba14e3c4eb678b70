#pragma once

#include "core/model/prediction.h"

namespace rapporto {

/// What a fit by likelihood says of the outcome, as a function of its indices and of parameters
/// that all rows share: a mean, or the probability of each level.
class Response {
  public:
    virtual ~Response() = default;

    /// Names of what is predicted: one empty name for a mean, the levels of an outcome of groups.
    [[nodiscard]] virtual std::vector<std::string> outcomes() const { return {""}; }

    [[nodiscard]] virtual int indices() const { return 1; }

    [[nodiscard]] virtual int extras() const { return 0; }

    /// Value with gradient g and Hessian H (row-major) over indices, then extras as they are shown.
    virtual double at(std::size_t outcome, const double* place, double* g, double* H) const = 0;
};

/// Null where the fit is not by likelihood.
[[nodiscard]] std::shared_ptr<const Response> responseOf(const Design& design, const Fit& fit);

/// marginalEffects() on the outcome’s own scale in the rows as `weights` count them (empty: alike):
/// slopes and differences of the mean, or of each level’s probability, averaged over the rows used
/// or at given values (an offset of zero there). Errors by the delta method with second derivatives
/// worked out.
/// @return one effect for an outcome and a level of groups; what marginalEffects() refuses, and
///         BadSetting with effects held fixed: a mean then hangs on each group’s own level.
[[nodiscard]] Result<std::vector<MarginalEffect>> outcomeEffects(
    const Design& design, const Fit& fit, const ScenarioMap& map, const EffectRequest& request,
    double alpha, const Eigen::VectorXd& weights);

/// predictAt() on the outcome’s own scale. Of one index the interval is that of the index, carried
/// through; a row’s interval is given for plain counts only (else NaN).
[[nodiscard]] Result<std::vector<Prediction>> predictOutcome(
    const Design& design, const Fit& fit, const ScenarioMap& map,
    const std::vector<PredictRequest>& requests, double alpha);

/// Mean effect of every column of X on the outcome’s own scale, in the fit’s order of coefficients
/// of the first index: a step from 0 to 1 of an indicator, the slope of any other column, the other
/// columns as they are. What effect rows show; a variable that enters through several columns is
/// asked for with outcomeEffects().
///
/// @param outcome  which level’s probability, of an outcome of groups; see outcomesOf().
[[nodiscard]] std::vector<Coefficient> columnEffects(const Design& design, const Fit& fit,
                                                     double alpha, std::size_t outcome = 0);

/// Names of what an effect can be told of: the mean alone (""), or the levels of groups.
[[nodiscard]] std::vector<std::string> outcomesOf(const Design& design, const Fit& fit);

}  // namespace rapporto
