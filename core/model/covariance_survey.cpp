#include "core/base/format.h"
#include "core/describe/calibration_facts.h"
#include "core/model/fit.h"
#include "core/numerics/sparse_factor.h"

namespace rapporto {

Result<Covariance> surveyCovariance(const CovarianceInput& in, const ErrorSpec& /*spec*/) {
    if (in.design.survey == nullptr) {
        return refuse(ErrorCode::BadSetting, "no survey design is declared", "errors",
                      "Name its weight, strata or clusters in Data, under what a row is.");
    }
    const SurveyRows& rows = *in.design.survey;
    // Scores on orthonormal columns, so that no digits are lost to the terms' scales.
    const Eigen::MatrixXd Q = orthonormalColumns(in.problem.X, in.solution);
    // The same as a simple random sample of as many rows: N/(n − 1) Σ w u u'.
    Eigen::MatrixXd simple = Eigen::MatrixXd::Zero(Q.cols(), Q.cols());
    double total = 0.0;
    Eigen::MatrixXd scores =
        Eigen::MatrixXd::Zero(static_cast<Eigen::Index>(rows.strata.size()), Q.cols());
    for (std::size_t i = 0; i < in.design.rows.size(); ++i) {
        const auto row = static_cast<Eigen::Index>(i);
        const double w = in.problem.weights.size() > 0 ? in.problem.weights(row) : 1.0;
        const Eigen::RowVectorXd u = in.solution.residuals(row) * Q.row(row);
        scores.row(static_cast<Eigen::Index>(in.design.rows[i])) = w * u;
        simple.noalias() += w * u.transpose() * u;
        total += w;
    }
    const DesignCovariance found = designCovariance(rows, scores);
    if (found.df < 1.0) {
        return refuse(ErrorCode::BadSetting, "the design has as many strata as clusters", "errors",
                      "Errors by the design need strata with several clusters.");
    }
    Covariance out;
    out.matrix = SparseFactor(in.solution.factor).around(found.matrix);
    out.df = found.df;
    out.note = plural(static_cast<std::size_t>(rows.clusterCount), "cluster", "clusters") + " in " +
               plural(static_cast<std::size_t>(rows.strataCount), "stratum", "strata");
    if (const std::string words = calibrationWords(rows); !words.empty()) {
        out.note += "; weights " + words;
    }
    if (!rows.lonelyNames.empty()) {
        out.note +=
            "; " + joinedNames(rows.lonelyNames) +
            (rows.lonelyNames.size() == 1 ? " has one cluster, " : " have one cluster each, ") +
            (rows.lonely == "skipped" ? "taken as certain" : "held against the grand mean");
    }
    const auto n = static_cast<double>(in.design.rows.size());
    if (n > 1.0) {
        simple *= total / (n - 1.0);
        const Eigen::VectorXd plain =
            (in.solution.factor * simple * in.solution.factor.transpose()).diagonal();
        out.designEffects = out.matrix.diagonal().cwiseQuotient(plain);
    }
    return out;
}

}  // namespace rapporto
