#include "core/base/format.h"
#include "core/model/fit.h"
#include "core/numerics/sparse_factor.h"

#include <fmt/format.h>

#include <cmath>
#include <map>

namespace rapporto {

Result<Covariance> panelAutocorrelationCovariance(const CovarianceInput& in,
                                                  const ErrorSpec& spec) {
    using Eigen::MatrixXd;
    using Eigen::VectorXd;
    if (in.design.unitMoments.empty()) {
        return refuse(ErrorCode::BadSetting,
                      "errors that units share at a moment need a panel with a time", "errors",
                      "Say in Data that a row is a unit at a moment.");
    }
    if (in.design.weightKind == WeightKind::Frequency) {
        return refuse(ErrorCode::BadSetting, "a row that stands for several has no place in time",
                      "errors", "Take the frequency weights out.");
    }
    const MatrixXd Q = orthonormalColumns(in.problem.X, in.solution);
    std::map<std::int64_t, VectorXd> sums;
    for (Eigen::Index i = 0; i < Q.rows(); ++i) {
        const double w = in.problem.weights.size() > 0 ? in.problem.weights(i) : 1.0;
        auto& sum = sums.try_emplace(in.design.unitMoments[static_cast<std::size_t>(i)],
                                     VectorXd::Zero(Q.cols()))
                        .first->second;
        sum += w * in.solution.residuals(i) * Q.row(i).transpose();
    }
    const auto moments = static_cast<double>(sums.size());
    const int lags = spec.lags.value_or(
        static_cast<int>(std::floor(4.0 * std::pow(moments / 100.0, 2.0 / 9.0))));
    if (lags < 0 || lags >= static_cast<int>(sums.size())) {
        return refuse(
            ErrorCode::BadSetting,
            fmt::format("the number of lags is {}, the moments number {}", lags, sums.size()),
            "errors", "It lies from 0 to under the number of moments.");
    }
    MatrixXd meat = MatrixXd::Zero(Q.cols(), Q.cols());
    for (const auto& [moment, sum] : sums) {
        meat += sum * sum.transpose();
        for (int lag = 1; lag <= lags; ++lag) {
            if (const auto before = sums.find(moment - lag); before != sums.end()) {
                const MatrixXd cross = sum * before->second.transpose();
                meat += (1.0 - lag / (lags + 1.0)) * (cross + cross.transpose());
            }
        }
    }
    const double factor = in.plain ? 1.0 : in.n / in.dfResidual;
    std::string note = plural(sums.size(), "moment", "moments") + ", " +
                       plural(static_cast<std::size_t>(lags), "lag", "lags");
    if (sums.size() < 20) {
        note += "; with so few moments, intervals tend to be too narrow";
    }
    return Covariance{factor * SparseFactor(in.solution.factor).around(meat), in.dfResidual, note};
}

}  // namespace rapporto
