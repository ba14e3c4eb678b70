#include "core/base/format.h"
#include "core/describe/survey_mean.h"
#include "core/model/fit.h"

namespace rapporto {

Result<Covariance> surveyCovariance(const CovarianceInput& in, const ErrorSpec& /*spec*/) {
    if (in.design.survey == nullptr) {
        return refuse(ErrorCode::BadSetting, "no survey design is declared", "errors",
                      "Name its weight, strata or clusters in Data, under what a row is.");
    }
    const SurveyRows& rows = *in.design.survey;
    // Scores on orthonormal columns, so that no digits are lost to the terms' scales.
    const Eigen::MatrixXd Q = in.problem.X(Eigen::all, in.solution.kept) * in.solution.factor;
    Eigen::MatrixXd scores =
        Eigen::MatrixXd::Zero(static_cast<Eigen::Index>(rows.strata.size()), Q.cols());
    for (std::size_t i = 0; i < in.design.rows.size(); ++i) {
        const auto row = static_cast<Eigen::Index>(i);
        const double w = in.problem.weights.size() > 0 ? in.problem.weights(row) : 1.0;
        scores.row(static_cast<Eigen::Index>(in.design.rows[i])) =
            w * in.solution.residuals(row) * Q.row(row);
    }
    const DesignCovariance found = designCovariance(rows, scores);
    if (found.df < 1.0) {
        return refuse(ErrorCode::BadSetting, "the design has as many strata as clusters", "errors",
                      "Errors by the design need strata with several clusters.");
    }
    return Covariance{in.solution.factor * found.matrix * in.solution.factor.transpose(), found.df,
                      plural(static_cast<std::size_t>(rows.clusterCount), "cluster", "clusters") +
                          " in " +
                          plural(static_cast<std::size_t>(rows.strataCount), "stratum", "strata")};
}

}  // namespace rapporto
