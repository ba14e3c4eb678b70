#pragma once

#include "core/base/result.h"

#include <Eigen/Dense>

#include <cstdint>
#include <vector>

namespace rapporto {

/// Errors and degrees of freedom of generalised least squares with random effects of nested
/// groupings, adjusted for variances that are estimated themselves.
///
/// Source: Kenward & Roger (1997), Biometrics 53. The variance of the variances is the inverse of
/// their expected information under the restricted likelihood.
class KenwardRoger {
  public:
    /// A grouping: its groups, the columns with an effect in each, and the effects’ covariance.
    struct Level {
        std::vector<std::int32_t> of;  ///< Of each row, from 0.
        std::int32_t count = 0;
        Eigen::MatrixXd columns;     ///< n × q.
        Eigen::MatrixXd covariance;  ///< q × q.
        bool full = true;            ///< Covariances are parameters, too.
    };

    /// @param X         n × p, of full rank; rows divided by the root of their error’s part of
    ///                  `variance`, as the levels’ columns are.
    /// @param levels    innermost first.
    /// @param variance  σ², of the rows.
    /// @return BadSetting where one outermost group holds so many effects that the work would not
    ///         fit.
    [[nodiscard]] static Result<KenwardRoger> make(const Eigen::MatrixXd& X,
                                                   const std::vector<Level>& levels,
                                                   double variance);

    /// Adjusted, p × p.
    [[nodiscard]] const Eigen::MatrixXd& covariance() const { return adjusted_; }

    /// F of several contrasts (the columns of p × q): what Wald’s F is times, and its denominator.
    struct Law {
        double scale = 1.0;
        double df = 0.0;
    };

    [[nodiscard]] Law law(const Eigen::MatrixXd& contrasts) const;

  private:
    Eigen::MatrixXd plain_;               ///< Before adjustment.
    Eigen::MatrixXd adjusted_;            ///< After it.
    Eigen::MatrixXd parameters_;          ///< Covariance of the variances.
    std::vector<Eigen::MatrixXd> pulls_;  ///< X'V⁻¹VᵢV⁻¹X of each parameter, σ² last.
};

}  // namespace rapporto
