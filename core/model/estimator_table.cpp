#include "core/model/fit.h"

namespace rapporto {

const std::vector<Estimator>& allEstimators() {
    static const std::vector<Estimator> kEstimators = {
        {"least-squares", "least squares",
         [](const Design& design, const EstimatorSettings& /*settings*/, const ErrorSpec& errors,
            double alpha, const Job& job) { return fitLeastSquares(design, errors, alpha, job); }},
        {"bent-line", "a bent line", &fitBentLine},
    };
    return kEstimators;
}

const std::vector<CovarianceKind>& allCovariances() {
    static const std::vector<CovarianceKind> kKinds = {
        {"classical", &classicalCovariance}, {"robust", &robustCovariance},
        {"clustered", &clusteredCovariance}, {"autocorrelation", &autocorrelationCovariance},
        {"bootstrap", &bootstrapCovariance},
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
