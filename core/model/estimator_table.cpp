#include "core/model/dynamic_panel.h"
#include "core/model/event_study.h"
#include "core/model/feasible_ar.h"
#include "core/model/fit.h"
#include "core/model/instruments.h"
#include "core/model/multilevel.h"
#include "core/model/outcome_models.h"
#include "core/model/panel.h"
#include "core/model/quantile.h"
#include "core/model/robust.h"

namespace rapporto {

const std::vector<Estimator>& allEstimators() {
    using namespace takes;
    static const std::vector<Estimator> kEstimators = {
        {"least-squares", "least squares",
         [](const Design& design, const EstimatorSettings& /*settings*/, const ErrorSpec& errors,
            double alpha, const Job& job) { return fitLeastSquares(design, errors, alpha, job); },
         kLinear | kInstruments},  // With instruments: what they are held against, said so.
        {"bent-line",
         "a bent line",
         &fitBentLine,
         kPrecision | kLeverageTypes,
         {"variable", "bends", "start", "fixed"}},
        {"two-stage", "two-stage least squares", &fitTwoStage, kLinear | kInstruments},
        {"liml", "limited information likelihood", &fitLiml, kLinear | kInstruments},
        {"fuller", "Fuller’s estimator", &fitFuller, kLinear | kInstruments, {"a"}},
        {"gmm", "generalised moments", &fitGmm, kLinear | kInstruments, {"steps"}},
        {"within", "comparison within units", &fitWithin, kLinear},
        {"random", "random effects", &fitRandom, kPrecision | kLeverageTypes},
        {"between", "comparison of units’ means", &fitBetween, kPrecision | kLeverageTypes},
        {"first-difference", "first differences", &fitFirstDifference, kPrecision | kLeverageTypes},
        {"feasible-ar",
         "least squares with an echo taken out",
         &fitFeasibleAr,
         kLeverageTypes | kRowsInOrder,
         {"order", "first_row"}},
        {"difference-gmm",
         "differences by earlier moments",
         &fitDifferenceGmm,
         kInstruments | kRowsInOrder,
         {"steps", "depth", "collapsed"}},
        {"system-gmm",
         "differences and levels by earlier moments",
         &fitSystemGmm,
         kInstruments | kRowsInOrder,
         {"steps", "depth", "collapsed"}},
        {"event-study",
         "effects before and after a change",
         &fitEventStudy,
         kLinear,
         {"variable", "before", "after", "weighting", "against"}},
        {"poisson",
         "a Poisson count",
         &fitPoisson,
         kLeverageTypes,
         {},
         SuitedOutcome{Measure::Count, "by a Poisson count",
                       " is a count: effects are in ratios then, and no mean falls below zero"}},
        {"negative-binomial",
         "a negative binomial count",
         &fitNegativeBinomial,
         kLeverageTypes,
         {"form"}},
        {"zero-inflated",
         "a count with two kinds of zeros",
         &fitZeroInflated,
         0,
         {"count", "form", "zero_terms"}},
        {"hurdle", "a count behind a hurdle", &fitHurdle, 0, {"count", "form", "zero_terms"}},
        {"truncated", "a count without zeros", &fitTruncated, 0, {"count", "form"}},
        {"logit",
         "logit",
         &fitLogit,
         kLeverageTypes,
         {"penalised"},
         SuitedOutcome{Measure::YesNo, "by logit",
                       " is yes or no: its chances stay between 0 and 1 then; least squares tells "
                       "a difference in chance"}},
        {"probit", "probit", &fitProbit, kLeverageTypes},
        {"cloglog", "complementary log-log", &fitCloglog, kLeverageTypes},
        {"conditional-logit", "conditional logit", &fitConditionalLogit},
        {"fractional-logit", "logit of shares", &fitFractionalLogit, kLeverageTypes},
        {"ordered-logit",
         "ordered logit",
         &fitOrderedLogit,
         0,
         {},
         SuitedOutcome{Measure::OrderedGroups, "by ordered logit",
                       " is ordered groups: how far apart they are is left open then"}},
        {"ordered-probit", "ordered probit", &fitOrderedProbit},
        {"multinomial-logit",
         "logit of several groups",
         &fitMultinomialLogit,
         0,
         {},
         SuitedOutcome{Measure::Groups, "by a logit of several groups",
                       " is groups without an order: each has a chance of its own then"}},
        {"tobit", "tobit", &fitTobit, 0, {"low", "high"}},
        {"interval", "an outcome between two ends", &fitInterval, 0, {"upper"}},
        {"heckman", "an outcome that some rows lack", &fitHeckman, 0, {"seen_terms"}},
        {"heckman-two-step",
         "an outcome that some rows lack, in two steps",
         &fitHeckmanTwoStep,
         0,
         {"seen_terms"}},
        {"poisson-control", "a Poisson count with instruments", &fitPoissonControl, kInstruments},
        {"probit-instruments", "probit with instruments", &fitProbitInstruments, kInstruments},
        {"multilevel",
         "random effects of groups",
         &fitMultilevel,
         kPrecision | kGroupsWhole,
         {"levels", "likelihood", "outcome", "points", "df"}},
        {"quantile", "quantiles", &fitQuantile, kPrecision, {"at"}},
        {"huber", "Huber’s curve", &fitHuber, kPrecision, {"k"}},
        {"bisquare", "the bisquare", &fitBisquare, kPrecision, {"c"}},
        {"mm", "an MM-estimate", &fitMm, kPrecision, {"efficiency"}},
    };
    return kEstimators;
}

const std::vector<CovarianceKind>& allCovariances() {
    static const std::vector<CovarianceKind> kKinds = {
        {"classical", &classicalCovariance},
        {"robust", &robustCovariance},
        {"clustered", &clusteredCovariance},
        {"autocorrelation", &autocorrelationCovariance},
        {"bootstrap", &bootstrapCovariance},
        {"survey", &surveyCovariance},
        {"panel-autocorrelation", &panelAutocorrelationCovariance},
    };
    return kKinds;
}

const Estimator* findEstimator(const std::string& method) {
    for (const Estimator& estimator : allEstimators()) {
        if (method == estimator.method) {
            return &estimator;
        }
    }
    return nullptr;
}

}  // namespace rapporto
