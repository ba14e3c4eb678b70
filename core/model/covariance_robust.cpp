#include "core/model/fit.h"
#include "core/numerics/sparse_factor.h"

#include <cmath>

namespace rapporto {
namespace {

/// Σ f² q q' over orthonormal columns.
Eigen::MatrixXd turnedMeat(const CovarianceInput& in, const Eigen::VectorXd& byRow) {
    const Eigen::MatrixXd U = byRow.asDiagonal() * orthonormalColumns(in.problem.X, in.solution);
    return U.transpose() * U;
}

}  // namespace

Result<Covariance> robustCovariance(const CovarianceInput& in, const ErrorSpec& spec) {
    using Eigen::Index;
    // Effects held fixed count: the leverages sum to that.
    const double k = static_cast<double>(in.solution.kept.size()) + in.design.effectsRank;
    const bool frequency = in.design.weightKind == WeightKind::Frequency;
    const bool weighted = in.problem.weights.size() > 0;
    const Eigen::VectorXd& e = in.solution.residuals;
    Eigen::MatrixXd meat;
    double factor = 1.0;
    const bool plain = spec.type == "HC0" || spec.type == "HC1";
    bool turned = false;
    // Columns that nearly tell each other are turned first: products of them as they are lose the
    // square of what their solution loses.
    const bool lean = !in.solution.wide && in.problem.hasConstant;
    if (plain && !frequency && in.solution.meat.size() > 0 && lean) {
        meat = in.solution.meat;
    } else {
        Eigen::VectorXd byRow(e.size());
        for (Index i = 0; i < e.size(); ++i) {
            const double w = weighted ? in.problem.weights(i) : 1.0;
            // A frequency row stands for w equal rows, each with the leverage h/w.
            byRow(i) = frequency ? std::sqrt(w) * e(i) : w * e(i);
            if (plain) {
                continue;
            }
            const double h = in.leverage(i) / (frequency ? w : 1.0);
            const double left = 1.0 - h;
            if (left < 1e-12) {
                // The row fits itself: its residual is zero and says nothing about the spread.
                byRow(i) = 0.0;
                continue;
            }
            const double power = spec.type == "HC2"   ? 1.0
                                 : spec.type == "HC3" ? 2.0
                                                      : std::min(4.0, h * in.n / k);
            byRow(i) /= std::pow(left, power / 2.0);
        }
        // Nor is anything centred without a constant: far from zero products lose what the factor
        // cancels.
        turned = !lean;
        meat = turned ? turnedMeat(in, byRow) : scaledMeat(in.problem, in.solution, byRow);
    }
    if (spec.type == "HC1" && in.plain) {
        factor = 1.0;
    } else if (spec.type == "HC1") {
        factor = in.n / in.dfResidual;
    } else if (!plain && spec.type != "HC2" && spec.type != "HC3" && spec.type != "HC4") {
        return refuse(ErrorCode::BadSetting,
                      "there are no robust errors of type ‘" + spec.type + "’", "errors",
                      "Types are HC0, HC1, HC2, HC3 and HC4.");
    }
    const SparseFactor C(in.solution.centredFactor);
    const Eigen::MatrixXd core = turned ? meat : C.within(meat);
    return Covariance{factor * SparseFactor(in.solution.factor).around(core), in.dfResidual, ""};
}

}  // namespace rapporto
