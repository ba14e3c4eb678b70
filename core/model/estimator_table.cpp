#include "core/model/fit.h"
#include "core/model/instruments.h"
#include "core/model/panel.h"

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
