#pragma once

#include "core/model/fit.h"

namespace rapporto {

/// A statement about the coefficients and what the fit says of it.
struct HypothesisTest {
    std::string text;      ///< As typed.
    std::string relation;  ///< "=", ">" or "<": what is claimed.
    /// The equations it speaks of, where the fit has several (plain groups, quantiles, zeros): all
    /// of the outcome’s where none is named.
    std::vector<std::string> equations;
    Eigen::MatrixXd R;               ///< q × k over the fit’s coefficients.
    Eigen::VectorXd r;               ///< R b = r where the hypothesis holds.
    std::optional<double> estimate;  ///< R b − r of one restriction.
    std::optional<double> se;
    double statistic = 0.0;  ///< t of one restriction, F of several.
    double df1 = 1.0;
    std::optional<double> df2;  ///< Absent: the normal law.
    double p = 1.0;
    std::optional<double> low;  ///< Interval of R b of one restriction.
    std::optional<double> high;
    std::optional<double> adjusted;  ///< Holm’s p among the statements of the question.
};

/// Tests a typed statement: linear restrictions in the names of the terms, several joined by
/// “and”.
///
///     hives = 0.04                       an effect against a value
///     hives = irrigated                  equality of effects
///     2 * hives + age > 0                one-sided: the claim, against its opposite
///     zone = 0                           all levels of a grouping together
///     zone = 'Ridge' against 0 is written ("zone=Ridge") = 0; a level may also be named as
///     (zone = 'Ridge')
///
/// Of a fit with several equations of the outcome (plain groups, quantiles) a term stands for
/// itself in all of them; "EQUATION: TERM" in double quotes names it in one, as in "to cart: age" =
/// 0.
///
/// @return the test (Wald, t or F by the question’s own errors), or Syntax, UnknownName (with the
///         nearest term), BadSetting (a product of effects, restrictions that contradict or repeat
///         each other, one-sided ones among several).
[[nodiscard]] Result<HypothesisTest> testHypothesis(const Design& design, const Fit& fit,
                                                    const std::string& text, double alpha);

/// What a test says of the statement at this level: "for" it, "against" it, or "open". A small p of
/// an equation speaks against it, that of a claim for it; a large one for neither.
[[nodiscard]] std::string verdictOn(const HypothesisTest& test, double alpha);

/// p adjusted for several tests so that the expected share of false findings is held.
/// Source: Benjamini & Hochberg (1995), Journal of the Royal Statistical Society B 57.
[[nodiscard]] std::vector<double> falseDiscoveryAdjusted(const std::vector<double>& p);

}  // namespace rapporto
