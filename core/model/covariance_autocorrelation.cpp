#include "core/model/fit.h"
#include "core/numerics/sparse_factor.h"

#include <cmath>
#include <unordered_map>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// Rows that stand `lag` moments apart: later first. A gap makes no pair.
class MomentPairs {
  public:
    explicit MomentPairs(const std::vector<std::int64_t>& moments) : moments_(moments) {
        for (std::size_t i = 0; i < moments.size(); ++i) {
            repeated_ = !at_.emplace(moments[i], static_cast<Index>(i)).second || repeated_;
        }
    }

    [[nodiscard]] bool repeated() const { return repeated_; }

    template <class Visit>
    void at(int lag, const Visit& visit) const {
        for (std::size_t i = 0; i < moments_.size(); ++i) {
            if (const auto before = at_.find(moments_[i] - lag); before != at_.end()) {
                visit(static_cast<Index>(i), before->second);
            }
        }
    }

  private:
    const std::vector<std::int64_t>& moments_;
    std::unordered_map<std::int64_t, Index> at_;
    bool repeated_ = false;
};

/// The rule of thumb: 4(n/100)^(2/9), rounded down.
int ruleLags(double n) {
    return static_cast<int>(std::floor(4.0 * std::pow(n / 100.0, 2.0 / 9.0)));
}

/// Newey & West (1994), Review of Economic Studies 61: lags from the autocovariances of the summed
/// scores of all terms but the constant.
int automaticLags(const VectorXd& scores, const MomentPairs& pairs) {
    const double n = static_cast<double>(scores.size());
    double s0 = scores.squaredNorm();
    double s1 = 0.0;
    for (int lag = 1; lag <= ruleLags(n); ++lag) {
        double sum = 0.0;
        pairs.at(lag, [&](Index a, Index b) { sum += scores(a) * scores(b); });
        s0 += 2.0 * sum;
        s1 += 2.0 * lag * sum;
    }
    const double gamma = 1.1447 * std::cbrt(s1 * s1 / (s0 * s0));
    return std::isfinite(gamma) ? static_cast<int>(std::floor(gamma * std::cbrt(n))) : 0;
}

}  // namespace

Result<Covariance> autocorrelationCovariance(const CovarianceInput& in, const ErrorSpec& spec) {
    if (in.design.moments.empty()) {
        return refuse(ErrorCode::BadSetting,
                      "errors that allow for autocorrelation need rows in time", "errors",
                      "Say in Data that a row is a moment, or use robust or clustered errors.");
    }
    if (in.design.weightKind == WeightKind::Frequency) {
        return refuse(ErrorCode::BadSetting, "a row that stands for several has no place in time",
                      "errors", "Take the frequency weights out.");
    }
    const MomentPairs pairs(in.design.moments);
    if (pairs.repeated()) {
        return refuse(ErrorCode::BadSetting, "two rows stand at one moment of the series", "errors",
                      "See What a row is in Data.");
    }
    // Scores on orthonormal columns, so that no digits are lost to the terms' scales.
    const auto& kept = in.solution.kept;
    const MatrixXd Q = orthonormalColumns(in.problem.X, in.solution);
    VectorXd we = in.solution.residuals;
    if (in.problem.weights.size() > 0) {
        we = we.cwiseProduct(in.problem.weights);
    }
    const MatrixXd U = we.asDiagonal() * Q;
    int lags = spec.lags.value_or(ruleLags(static_cast<double>(we.size())));
    if (spec.automaticLags && in.problem.X.cols() > 0 && in.design.X.cols() > 0 &&
        in.problem.X.data(0) != in.design.X.data()) {
        return refuse(ErrorCode::BadSetting,
                      "the number of lags is found by the data for least squares alone", "errors",
                      "Name a number of lags.");
    }
    if (spec.automaticLags) {
        VectorXd summed = VectorXd::Zero(we.size());
        for (std::size_t j = 0; j < kept.size(); ++j) {
            if (in.design.columns[static_cast<std::size_t>(kept[j])].term >= 0) {
                summed += we.cwiseProduct(in.design.X.col(kept[j]));
            }
        }
        lags = automaticLags(summed, pairs);
    }
    if (lags < 0 || lags >= static_cast<int>(we.size())) {
        return refuse(ErrorCode::BadSetting,
                      "the number of lags is " + std::to_string(lags) + ", the rows number " +
                          std::to_string(we.size()),
                      "errors", "It lies from 0 to under the number of rows.");
    }
    MatrixXd meat = U.transpose() * U;
    for (int lag = 1; lag <= lags; ++lag) {
        MatrixXd gamma = MatrixXd::Zero(meat.rows(), meat.cols());
        pairs.at(lag, [&](Index a, Index b) { gamma += U.row(a).transpose() * U.row(b); });
        meat += (1.0 - lag / (lags + 1.0)) * (gamma + gamma.transpose());
    }
    const double factor = in.plain ? 1.0 : in.n / in.dfResidual;
    return Covariance{factor * SparseFactor(in.solution.factor).around(meat), in.dfResidual,
                      std::to_string(lags) + (lags == 1 ? " lag" : " lags")};
}

}  // namespace rapporto
