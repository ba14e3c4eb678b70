#pragma once

#include "core/model/hypothesis.h"
#include "core/model/prediction.h"

#include <span>

namespace rapporto {

/// An estimate and what it is made of in several sets.
struct PooledNumber {
    double value = 0.0;            ///< Mean over the sets.
    double within = 0.0;           ///< Mean of the variances.
    double between = 0.0;          ///< Variance of the estimates.
    double variance = 0.0;         ///< within + (1 + 1/m)·between.
    std::optional<double> df;      ///< Barnard & Rubin’s; absent: the normal law.
    double fractionMissing = 0.0;  ///< Of the information.
};

/// Rubin’s rules for one number. Where nothing varies between the sets the law is that of the
/// complete data.
///
/// fraction = (r + 2/(df + 3))/(r + 1) with r = (1 + 1/m)·between/within.
///
/// Source: Rubin (1987), Multiple Imputation for Nonresponse in Surveys; Barnard & Rubin (1999),
/// Biometrika 86.
/// @param variances  as many as values, m ≥ 2.
/// @param complete   degrees of freedom without gaps; absent: the normal law.
[[nodiscard]] PooledNumber pooled(std::span<const double> values, std::span<const double> variances,
                                  std::optional<double> complete);

/// The same with errors, test and interval. The df of the complete data is the least of the sets’.
/// Where an estimate has no error in some set the pooled one has none.
[[nodiscard]] Estimate pooledEstimate(std::span<const Estimate> all, double alpha);

/// What several sets say of a fit’s coefficients together.
struct PooledFit {
    /// How a variable with gaps was filled in.
    struct Filled {
        std::string name;
        std::string label;  ///< For people.
        std::string way;    ///< matching, normal, logit, ordered or groups.
        std::size_t cells = 0;
        std::optional<double> settled;  ///< See settledOf().

        /// The paths of its sets still lie apart.
        [[nodiscard]] bool isUnsettled() const { return settled && *settled > kSettled; }

        static constexpr double kSettled = 1.1;
    };

    std::size_t sets = 0;
    int rounds = 0;
    std::vector<Filled> filled;       ///< Variables with gaps, as the study lists them.
    std::vector<PooledNumber> terms;  ///< In the order of the coefficients.
    Eigen::MatrixXd within;           ///< Mean covariance …
    Eigen::MatrixXd between;          ///< … and that of the estimates over the sets.
    std::optional<double> complete;  ///< Degrees of freedom without gaps, the least of the sets’.
    std::size_t completeRows = 0;    ///< Rows that lacked nothing.
    std::size_t fewestRows = 0;      ///< Used, of the sets …
    std::size_t mostRows = 0;        ///< … where a rule hangs on what was filled in.
};

/// Several fits of one question on the sets as one: coefficients and covariance by Rubin’s rules,
/// the test of all terms together by pooledF(); what else a fit tells is the mean over the sets
/// where that has a meaning (R², σ, variances, shares), and absent where it has none (likelihood,
/// AIC, BIC, sums of squares of terms). Rows (fitted, residuals) are those of the first set.
///
/// @param fits  two or more.
/// @return BadSetting where the sets do not give the same coefficients.
[[nodiscard]] Result<Fit> pooledFit(const Design& design,
                                    const std::vector<std::shared_ptr<const Fit>>& fits,
                                    double alpha);

/// F of q restrictions at once: d'W⁻¹d/(q(1 + r)) with W their mean covariance and r the mean
/// relative increase by what is missing. Absent where W is singular.
/// Source: Li, Raghunathan & Rubin (1991), Journal of the American Statistical Association 86; the
/// second degrees of freedom of finite samples by Reiter (2007), Biometrika 94.
/// @param d  q mean estimates less their values under the hypothesis.
[[nodiscard]] std::optional<FTest> pooledF(const Eigen::VectorXd& d, const Eigen::MatrixXd& within,
                                           const Eigen::MatrixXd& between, std::size_t sets,
                                           std::optional<double> complete);

/// A statement tested on the pooled fit of several sets: one restriction by Rubin’s rules, several
/// by pooledF().
[[nodiscard]] Result<HypothesisTest> pooledHypothesis(const Design& design, const Fit& fit,
                                                      const std::string& text, double alpha);

/// Predictions and effects of the same requests in every set, as one.
/// @return BadSetting where the sets do not tell of the same things.
[[nodiscard]] Result<std::vector<Prediction>> pooledPredictions(
    const std::vector<std::vector<Prediction>>& sets, double alpha);
[[nodiscard]] Result<std::vector<MarginalEffect>> pooledEffects(
    const std::vector<std::vector<MarginalEffect>>& sets, double alpha);

}  // namespace rapporto
