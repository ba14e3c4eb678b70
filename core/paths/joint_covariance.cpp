#include "core/describe/survey_mean.h"
#include "core/model/likelihood.h"
#include "core/paths/system.h"

#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// Derivative of a row’s log-likelihood (least squares: of −e²/2) by the index of its equation.
VectorXd slopesOf(const TraceEquation& equation) {
    const Fit& fit = *equation.fit;
    if (equation.isLinear()) {
        return fit.residuals;
    }
    const auto model = plainModel(familyOf(equation.question.method), equation.design->y);
    VectorXd out(fit.residuals.size());
    for (Index i = 0; i < out.size(); ++i) {
        double g = 0.0;
        double H = 0.0;
        const double at = fit.likelihood->index(i, 0);
        model->row(i, &at, &g, &H);
        out(i) = g;
    }
    return out;
}

/// F with F F' = (X'WX)⁻¹ or the inverse of the negative Hessian, of the kept columns.
MatrixXd factorOf(const TraceEquation& equation) { return equation.fit->solution.factor; }

/// X F of an equation; W½ times it has orthonormal columns where it is linear.
MatrixXd turnedColumns(const TraceEquation& equation) {
    if (equation.isLinear()) {
        return orthonormalColumns(equation.design->X, equation.fit->solution);
    }
    return equation.design->X(Eigen::all, equation.fit->solution.kept) * factorOf(equation);
}

/// What HC2 to HC4 divide a row’s residual by, to the power that the type has; ones for others.
VectorXd leverageFactor(const TraceEquation& equation, const ErrorSpec& errors, bool frequency) {
    const Fit& fit = *equation.fit;
    VectorXd out = VectorXd::Ones(fit.residuals.size());
    if (errors.kind != "robust" || errors.type == "HC0" || errors.type == "HC1") {
        return out;
    }
    const auto k = static_cast<double>(fit.solution.kept.size());
    for (Index i = 0; i < out.size(); ++i) {
        const double h = fit.leverage(i) / (frequency ? equation.design->weights(i) : 1.0);
        const double left = 1.0 - h;
        const double power = errors.type == "HC2"   ? 1.0
                             : errors.type == "HC3" ? 2.0
                                                    : std::min(4.0, h * fit.n / k);
        out(i) = left < 1e-12 ? 0.0 : std::pow(left, -power / 2.0);
    }
    return out;
}

/// e_g'We_h / √((n − k_g)(n − k_h)) · A_g X_g'WX_h A_h between linear equations, the inverse of the
/// information within others, and the products of scores between those.
MatrixXd classical(const PathSystem& system) {
    const auto& all = system.equations;
    const Index K = system.first.back();
    MatrixXd out = MatrixXd::Zero(K, K);
    std::vector<MatrixXd> turned;
    std::vector<VectorXd> slopes;
    for (const TraceEquation& equation : all) {
        turned.push_back(turnedColumns(equation));
        slopes.push_back(slopesOf(equation));
    }
    const VectorXd w =
        system.weights.size() > 0 ? system.weights : VectorXd(VectorXd::Ones(turned[0].rows()));
    for (std::size_t g = 0; g < all.size(); ++g) {
        for (std::size_t h = 0; h <= g; ++h) {
            MatrixXd middle;
            if (g == h) {
                middle = MatrixXd::Identity(turned[g].cols(), turned[g].cols());
                if (all[g].isLinear()) {
                    middle *= slopes[g].cwiseAbs2().dot(w) / all[g].fit->dfResidual;
                }
            } else if (all[g].isLinear() && all[h].isLinear()) {
                const double shared = slopes[g].cwiseProduct(slopes[h]).dot(w) /
                                      std::sqrt(all[g].fit->dfResidual * all[h].fit->dfResidual);
                middle = shared * (turned[g].transpose() * w.asDiagonal() * turned[h]);
            } else {
                const bool counted = all[g].design->weightKind == WeightKind::Frequency;
                const VectorXd both = slopes[g].cwiseProduct(slopes[h]).cwiseProduct(
                    counted ? w : VectorXd(w.cwiseAbs2()));
                middle = turned[g].transpose() * both.asDiagonal() * turned[h];
            }
            const MatrixXd block = factorOf(all[g]) * middle * factorOf(all[h]).transpose();
            out.block(system.first[g], system.first[h], block.rows(), block.cols()) = block;
            out.block(system.first[h], system.first[g], block.cols(), block.rows()) =
                block.transpose();
        }
    }
    return out;
}

}  // namespace

Result<MatrixXd> jointCovariance(const PathSystem& system, const ErrorSpec& errors, double alpha,
                                 const Job& job) {
    if (errors.kind == "classical") {
        return classical(system);
    }
    const Design& design = *system.equations.front().design;
    if (design.survey != nullptr && !design.survey->replicates.empty()) {
        return refuse(ErrorCode::BadSetting,
                      "errors by replicate weights are not made for several equations together",
                      "errors", "Cluster by the survey’s clusters instead.");
    }
    const bool frequency = design.weightKind == WeightKind::Frequency;
    const bool designed = errors.kind == "survey";
    // Each equation brings the factor of its own degrees of freedom; the first one’s is applied
    // to all.
    const double left = system.equations.front().fit->dfResidual;
    const bool hasFactor = !designed && !(errors.kind == "robust" && errors.type != "HC1");
    const Index K = system.first.back();
    MatrixXd scores(design.X.rows(), K);
    MatrixXd factor = MatrixXd::Zero(K, K);
    for (std::size_t g = 0; g < system.equations.size(); ++g) {
        const TraceEquation& equation = system.equations[g];
        const MatrixXd turned = turnedColumns(equation);
        const VectorXd slopes =
            slopesOf(equation).cwiseProduct(leverageFactor(equation, errors, frequency));
        const double own = hasFactor ? std::sqrt(left / equation.fit->dfResidual) : 1.0;
        scores.middleCols(system.first[g], turned.cols()) = (own * slopes).asDiagonal() * turned;
        factor.block(system.first[g], system.first[g], turned.cols(), turned.cols()) =
            factorOf(equation);
    }
    // The scores are turned already: what is left to turn is the identity.
    ErrorSpec plain = errors;
    if (errors.kind == "robust" && errors.type != "HC1") {
        plain.type = "HC0";
    }
    auto found = covarianceOfScores(design, scores, MatrixXd::Identity(K, K), VectorXd(), system.n,
                                    left, plain, alpha, job);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    return MatrixXd(factor * found->matrix * factor.transpose());
}

}  // namespace rapporto
