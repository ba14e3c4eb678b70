#pragma once

#include "core/model/fit.h"

namespace rapporto {

/// All coefficients of one term together against zero.
struct TermTest {
    double f = 0.0;
    double df1 = 0.0;
    std::optional<double> df2;  ///< Nothing: the normal law, F as chi-square over df1.
    double p = 1.0;
};

/// Wald test of every kept coefficient of a term in the fit's own covariance; nothing when the
/// term has none or they cannot be told apart.
[[nodiscard]] std::optional<TermTest> testTerm(const Fit& fit, int designTerm);

}  // namespace rapporto
