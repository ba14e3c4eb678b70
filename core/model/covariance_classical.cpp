#include "core/model/fit.h"

namespace rapporto {

Result<Covariance> classicalCovariance(const CovarianceInput& in, const ErrorSpec& /*spec*/) {
    const double variance = in.solution.residualSquares / in.dfResidual;
    return Covariance{variance * (in.solution.factor * in.solution.factor.transpose()),
                      in.dfResidual, ""};
}

}  // namespace rapporto
