#include "core/model/dynamic_panel.h"
#include "core/model/event_study.h"
#include "core/model/fit.h"
#include "core/model/instruments.h"
#include "core/model/outcome_models.h"
#include "core/model/panel.h"
#include "core/model/quantile.h"
#include "core/model/robust.h"

namespace rapporto {

const std::vector<Estimator>& allEstimators() {
    static const std::vector<Estimator> kEstimators = {
        {"least-squares", "least squares",
         [](const Design& design, const EstimatorSettings& /*settings*/, const ErrorSpec& errors,
            double alpha, const Job& job) { return fitLeastSquares(design, errors, alpha, job); }},
        {"bent-line", "a bent line", &fitBentLine},
        {"two-stage", "two-stage least squares", &fitTwoStage},
        {"liml", "limited information likelihood", &fitLiml},
        {"fuller", "Fuller’s estimator", &fitFuller},
        {"gmm", "generalised moments", &fitGmm},
        {"within", "comparison within units", &fitWithin},
        {"random", "random effects", &fitRandom},
        {"between", "comparison of units’ means", &fitBetween},
        {"first-difference", "first differences", &fitFirstDifference},
        {"difference-gmm", "differences by earlier moments", &fitDifferenceGmm},
        {"system-gmm", "differences and levels by earlier moments", &fitSystemGmm},
        {"event-study", "effects before and after a change", &fitEventStudy},
        {"poisson", "a Poisson count", &fitPoisson},
        {"negative-binomial", "a negative binomial count", &fitNegativeBinomial},
        {"zero-inflated", "a count with two kinds of zeros", &fitZeroInflated},
        {"hurdle", "a count behind a hurdle", &fitHurdle},
        {"truncated", "a count without zeros", &fitTruncated},
        {"logit", "logit", &fitLogit},
        {"probit", "probit", &fitProbit},
        {"cloglog", "complementary log-log", &fitCloglog},
        {"conditional-logit", "conditional logit", &fitConditionalLogit},
        {"fractional-logit", "logit of shares", &fitFractionalLogit},
        {"ordered-logit", "ordered logit", &fitOrderedLogit},
        {"ordered-probit", "ordered probit", &fitOrderedProbit},
        {"multinomial-logit", "logit of several groups", &fitMultinomialLogit},
        {"tobit", "tobit", &fitTobit},
        {"interval", "an outcome between two ends", &fitInterval},
        {"heckman", "an outcome that some rows lack", &fitHeckman},
        {"heckman-two-step", "an outcome that some rows lack, in two steps", &fitHeckmanTwoStep},
        {"poisson-control", "a Poisson count with instruments", &fitPoissonControl},
        {"probit-instruments", "probit with instruments", &fitProbitInstruments},
        {"quantile", "quantiles", &fitQuantile},
        {"huber", "Huber’s curve", &fitHuber},
        {"bisquare", "the bisquare", &fitBisquare},
        {"mm", "an MM-estimate", &fitMm},
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
