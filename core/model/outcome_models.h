#pragma once

#include "core/model/fit.h"

namespace rapporto {

/// ln f(y) of a count with its derivatives by the index η = ln μ and, of negative binomial, by
/// τ = ln α.
struct CountTerms {
    double value = 0.0;
    double g[2] = {0.0, 0.0};
    double h[3] = {0.0, 0.0, 0.0};  ///< ηη, ητ, ττ.
};

/// Laws of counts. Quadratic: variance μ + αμ² (NB2); linear: μ + αμ (NB1).
enum class CountLaw : std::uint8_t { Poisson, Quadratic, Linear };

/// @param logFactorial  ln y!, worked out once a row.
/// Log-gamma differences are sums of logarithms below 200, and series where y is small against
/// 1/α, so that nothing is lost when α goes to zero.
/// Source: Cameron & Trivedi (2013), Regression Analysis of Count Data, sections 3.3, 3.4.
[[nodiscard]] CountTerms countTerms(CountLaw law, double y, double logFactorial, double eta,
                                    double tau);

/// P(Y = y) at mean μ; `dispersion` is α.
[[nodiscard]] double countProbability(CountLaw law, double y, double mean, double dispersion);

/// The law that a question’s settings name (of the count part, where there are two).
[[nodiscard]] CountLaw countLawOf(const Family& family, const EstimatorSettings& settings);

/// Poisson by (pseudo-)likelihood; with effects held fixed by weighted least squares of swept
/// columns. Rows that a term tells to be zero for certain leave and are counted.
/// Source: Gourieroux, Monfort & Trognon (1984), Econometrica 52; Correia, Guimarães & Zylkin
/// (2020).
/// @return the fit, or BadSetting (a negative outcome, an offset that is not defined), NoVariation
///         (all zeros), NotConverged, RankDeficient, TooFewRows, Stopped.
[[nodiscard]] Result<Fit> fitPoisson(const Design& design, const EstimatorSettings& settings,
                                     const ErrorSpec& errors, double alpha, const Job& job);

/// Negative binomial with variance μ + αμ^form. Without more spread than Poisson the dispersion is
/// at its boundary of zero, said so, and the fit is that of Poisson.
[[nodiscard]] Result<Fit> fitNegativeBinomial(const Design& design,
                                              const EstimatorSettings& settings,
                                              const ErrorSpec& errors, double alpha,
                                              const Job& job);

/// Zero-inflated (Lambert 1992, Technometrics 34), hurdle (Mullahy 1986, J. Econometrics 33) and
/// zero-truncated counts.
[[nodiscard]] Result<Fit> fitZeroInflated(const Design& design, const EstimatorSettings& settings,
                                          const ErrorSpec& errors, double alpha, const Job& job);
[[nodiscard]] Result<Fit> fitHurdle(const Design& design, const EstimatorSettings& settings,
                                    const ErrorSpec& errors, double alpha, const Job& job);
[[nodiscard]] Result<Fit> fitTruncated(const Design& design, const EstimatorSettings& settings,
                                       const ErrorSpec& errors, double alpha, const Job& job);

/// Yes–no outcomes by logit, probit and complementary log-log. Where a term tells the outcome for
/// certain no finite estimate exists: refused, the term named. Logit with `penalised`: Firth
/// (1993), Biometrika 80. Logit also takes shares between 0 and 1 (Papke & Wooldridge 1996, J.
/// Applied Econometrics 11) as `fractional-logit`.
[[nodiscard]] Result<Fit> fitLogit(const Design& design, const EstimatorSettings& settings,
                                   const ErrorSpec& errors, double alpha, const Job& job);
[[nodiscard]] Result<Fit> fitProbit(const Design& design, const EstimatorSettings& settings,
                                    const ErrorSpec& errors, double alpha, const Job& job);
[[nodiscard]] Result<Fit> fitCloglog(const Design& design, const EstimatorSettings& settings,
                                     const ErrorSpec& errors, double alpha, const Job& job);
[[nodiscard]] Result<Fit> fitFractionalLogit(const Design& design,
                                             const EstimatorSettings& settings,
                                             const ErrorSpec& errors, double alpha, const Job& job);

/// Yes–no outcomes within one grouping held fixed, given how many rows of each group say yes;
/// groups that all say the same leave, and are counted. Robust errors take a group as one. Source:
/// Chamberlain (1980), Review of Economic Studies 47.
[[nodiscard]] Result<Fit> fitConditionalLogit(const Design& design,
                                              const EstimatorSettings& settings,
                                              const ErrorSpec& errors, double alpha,
                                              const Job& job);

/// Ordered outcomes: P(y ≤ k) = F(cut k − xb); no constant, `cut 1`, … in the equation `cut`.
/// Source: McKelvey & Zavoina (1975), J. Mathematical Sociology 4; McCullagh (1980), JRSS B 42.
[[nodiscard]] Result<Fit> fitOrderedLogit(const Design& design, const EstimatorSettings& settings,
                                          const ErrorSpec& errors, double alpha, const Job& job);
[[nodiscard]] Result<Fit> fitOrderedProbit(const Design& design, const EstimatorSettings& settings,
                                           const ErrorSpec& errors, double alpha, const Job& job);

/// Plain groups: an equation `to LEVEL` for each level but the first, against the first.
/// Source: Theil (1969), International Economic Review 10.
[[nodiscard]] Result<Fit> fitMultinomialLogit(const Design& design,
                                              const EstimatorSettings& settings,
                                              const ErrorSpec& errors, double alpha,
                                              const Job& job);

/// A normal outcome seen only above `low` and below `high`; the spread is in the equation `spread`.
/// Source: Tobin (1958), Econometrica 26; Olsen (1978), Econometrica 46.
[[nodiscard]] Result<Fit> fitTobit(const Design& design, const EstimatorSettings& settings,
                                   const ErrorSpec& errors, double alpha, const Job& job);

/// An outcome known to lie between two ends (design.lower, design.upper; equal: known exactly), a
/// normal law behind it; the spread is in the equation `spread`.
/// Source: Stewart (1983), Review of Economic Studies 50.
[[nodiscard]] Result<Fit> fitInterval(const Design& design, const EstimatorSettings& settings,
                                      const ErrorSpec& errors, double alpha, const Job& job);

/// An outcome seen only where a normal index of its own is above zero, the two joined by a
/// correlation. By likelihood: equations `main`, `seen`, `spread` (sigma) and `correlation` (rho).
/// In two steps: least squares with the inverse Mills ratio of a probit; classical errors are
/// Heckman’s own, others take both steps’ scores together. The design of the answer holds the rows
/// that are seen.
///
/// @return the fit, or BadSetting (every row is seen, or none; effects held fixed, instruments),
///         NotConverged (also: the correlation runs to one), RankDeficient, TooFewRows, Stopped.
/// Source: Heckman (1979), Econometrica 47; Greene (1981), Econometrica 49.
[[nodiscard]] Result<Fit> fitHeckman(const Design& design, const EstimatorSettings& settings,
                                     const ErrorSpec& errors, double alpha, const Job& job);
[[nodiscard]] Result<Fit> fitHeckmanTwoStep(const Design& design, const EstimatorSettings& settings,
                                            const ErrorSpec& errors, double alpha, const Job& job);

/// A yes–no outcome whose one endogenous term is normal given the instruments, the two errors
/// joined by a correlation; equations `main`, `first` (of the endogenous term), `spread`,
/// `correlation`. The index has errors of variance one, so that Φ(xb) is the chance of yes where
/// the term is set. Source: Rivers & Vuong (1988), J. Econometrics 39 (the model; here by full
/// likelihood).
[[nodiscard]] Result<Fit> fitProbitInstruments(const Design& design,
                                               const EstimatorSettings& settings,
                                               const ErrorSpec& errors, double alpha,
                                               const Job& job);

/// A Poisson count with what the first stages leave of the endogenous terms among its terms
/// (`left of …`, whose test is one of exogeneity). Errors take both stages’ scores together, so
/// that classical ones are robust. Source: Wooldridge (2015), J. Human Resources 50; Newey (1984),
/// Economics Letters 14.
[[nodiscard]] Result<Fit> fitPoissonControl(const Design& design, const EstimatorSettings& settings,
                                            const ErrorSpec& errors, double alpha, const Job& job);

/// Two joined equations against the same with unrelated errors: likelihood ratio, chi-square(1).
struct ApartTest {
    double statistic = 0.0;
    double p = 1.0;
};

/// @return nothing where the fit has no second likelihood, errors are not those of the likelihood,
///         or weights leave none. Source: Wilks (1938), Annals of Mathematical Statistics 9.
[[nodiscard]] std::optional<ApartTest> apartTest(const Fit& fit, const Design& design,
                                                 const ErrorSpec& errors);

}  // namespace rapporto
