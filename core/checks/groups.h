#pragma once

#include "core/checks/check.h"

namespace rapporto {

/// The same groups held fixed, and by errors that only allow for them.
void offerOtherViews(const CheckInput& in, CheckResult& result);

/// The fit with columns more; `named` gives each its term.
/// @return what the estimator refuses.
[[nodiscard]] Result<Fit> fitWithMore(const CheckInput& in, const Eigen::MatrixXd& columns,
                                      const std::vector<std::string>& named);

/// Whether the columns that fitWithMore() added are nothing together: F, or χ² of the normal law.
/// Nothing where the other terms tell them.
struct MoreTest {
    double statistic = 0.0;
    double p = 1.0;
    std::vector<double> df;
    bool chiSquare = false;
    std::vector<Eigen::Index> of;  ///< Places among the coefficients.
};

/// @param joint  one law for all of them; else that of the one with fewest degrees of freedom.
[[nodiscard]] std::optional<MoreTest> testOfMore(const CheckInput& in, const Fit& fit, bool joint);

/// The statistic, its law and its p as a check has them.
[[nodiscard]] CheckResult resultOf(const MoreTest& test);

}  // namespace rapporto
