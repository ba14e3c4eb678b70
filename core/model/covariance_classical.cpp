#include "core/model/fit.h"
#include "core/numerics/sparse_factor.h"

namespace rapporto {

Result<Covariance> classicalCovariance(const CovarianceInput& in, const ErrorSpec& /*spec*/) {
    const double variance = in.solution.residualSquares / in.dfResidual;
    return Covariance{variance * SparseFactor(in.solution.factor).square(), in.dfResidual, ""};
}

}  // namespace rapporto
