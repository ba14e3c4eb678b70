#pragma once

#include "core/model/fit.h"

#include <cstdint>
#include <limits>

namespace rapporto {

/// What a choice of terms is ranked by.
enum class Criterion : std::uint8_t { Bic, Aic, Aicc, MallowsCp, AdjustedRSquared, LeaveOneOut };

struct CriterionName {
    Criterion criterion;
    const char* id;     ///< As the study file has it: "bic".
    const char* shown;  ///< “BIC”.
};

[[nodiscard]] const std::vector<CriterionName>& allCriteria();

/// Some of the terms of a question, fitted on the rows of all of them.
struct TermSubset {
    std::vector<std::size_t> terms;  ///< Of Design::terms, ascending.
    double coefficients = 0.0;       ///< With the constant.
    double rss = 0.0;
    double adjustedRSquared = 0.0;
    std::optional<double> aic;  ///< Absent without a likelihood: sampling weights, a perfect fit.
    std::optional<double> aicc;
    std::optional<double> bic;
    std::optional<double> mallowsCp;
    std::optional<double> leaveOneOut;  ///< Root mean square of rows predicted by all others.

    /// The criterion, smaller is better: adjusted R² counts negative. Infinite when absent.
    [[nodiscard]] double value(Criterion by) const;
};

struct SubsetSearch {
    std::vector<TermSubset> subsets;  ///< By coefficients, then residual sum.
    std::size_t tried = 0;            ///< Subsets that were looked at.
    double possible = 0.0;            ///< Subsets that there are.
    std::vector<std::string> notes;

    /// The best by the criterion; null when none has it.
    [[nodiscard]] const TermSubset* best(Criterion by) const;
};

/// The best subsets of every size, by branch and bound: a subset leaves no less than what it is
/// part of. Groupings stay whole; a product or a power stays only where its parts do. Criteria but
/// the leave-one-out error grow with what is left at one size, so their best is among these for
/// certain; that error is worked out for the subsets that are kept.
/// Source: Furnival & Wilson (1974), Technometrics 16; Hurvich & Tsai (1989), Biometrika 76 (AICc);
/// Mallows (1973), Technometrics 15; Allen (1974), Technometrics 16.
///
/// @param held     terms that are in every subset, one flag a term of the design.
/// @param perSize  how many of each size are kept.
/// @return the subsets, or BadSetting (more than 30 free terms, none), TooFewRows, Stopped.
[[nodiscard]] Result<SubsetSearch> searchSubsets(const Design& design,
                                                 const std::vector<bool>& held, std::size_t perSize,
                                                 const Job& job);

/// Coefficients along the penalty λ of Σwe²/(2n) + λ Σ sd(x)|b|, with what each λ errs in rows
/// that it has not seen.
struct LassoPath {
    std::vector<Eigen::Index> columns;  ///< Of X: those that are penalised.
    std::vector<double> lambda;         ///< From the largest, where all are zero, down.
    Eigen::MatrixXd coefficients;       ///< columns × λ, in the units of X.
    std::vector<double> error;          ///< Mean square of the rows left out.
    std::vector<double> errorSe;        ///< Over the parts.
    std::size_t best = 0;               ///< λ with the least error.
    std::size_t oneSe = 0;              ///< The largest λ within one standard error of it.
    int parts = 10;
    bool partsOfClusters = false;  ///< Clusters stayed together.

    /// Terms of the design with a coefficient at a λ, the held ones included.
    [[nodiscard]] std::vector<std::size_t> termsAt(const Design& design,
                                                   const std::vector<bool>& held,
                                                   std::size_t at) const;
};

/// 100 penalties to a thousandth of the first, by coordinate descent on the cross products and an
/// exact solution on the columns that are left; parts of the rows by `seed`, whole clusters where
/// the design has them.
/// Source: Tibshirani (1996), JRSS B 58; Friedman, Hastie & Tibshirani (2010), Journal of
/// Statistical Software 33.
///
/// @return the path, or BadSetting (nothing to choose), TooFewRows, Stopped.
[[nodiscard]] Result<LassoPath> lassoPath(const Design& design, const std::vector<bool>& held,
                                          std::uint64_t seed, const Job& job);

/// Controls that foretell the outcome, and those that foretell the term whose effect is asked for.
struct DoubleSelection {
    std::size_t of = 0;  ///< Of Design::terms.
    std::vector<std::size_t> forOutcome;
    std::vector<std::size_t> forTerm;
    std::vector<std::size_t> together;  ///< Either, and the term itself.
};

/// A lasso of the outcome on the controls and one of the term on the controls, each with the
/// penalty 2·1.1·√n·Φ⁻¹(1 − γ/2p), γ = .1/ln n, and loadings from the residuals of the choice
/// before (by clusters where the design has one set of them); then both choices together.
/// Source: Belloni, Chernozhukov & Hansen (2014), Review of Economic Studies 81; (2016, with
/// Kozbur), Journal of Business & Economic Statistics 34 (clusters).
///
/// @return the choices, or BadSetting (no control), TooFewRows, Stopped.
[[nodiscard]] Result<DoubleSelection> doubleSelection(const Design& design, std::size_t of,
                                                      const Job& job);

/// The question with only some of its terms, as a variant; sets are opened. `chosen` is how they
/// came about; absent: not by these data.
[[nodiscard]] Question withTerms(const Question& question, const std::vector<TermSet>& sets,
                                 const std::vector<std::size_t>& terms,
                                 const std::optional<TermChoice>& chosen, std::string title);

/// The names of all terms of the question, sets opened: what a choice is among.
[[nodiscard]] std::vector<std::string> openedTerms(const Question& question,
                                                   const std::vector<TermSet>& sets);

/// A term that says nearly the same as the others, and what taking it out would leave.
struct OverlapStep {
    std::size_t term = 0;    ///< To take out.
    double inflation = 0.0;  ///< Of its variance per column, before.
    double left = 0.0;       ///< The largest inflation afterwards.
};

/// Terms to take out, one at a time, each time the one with the largest inflation from `bound` on.
/// Powers and products with their parts overlap by construction and are left alone. The outcome is
/// not looked at. Source: Fox & Monette (1992), JASA 87.
[[nodiscard]] std::vector<OverlapStep> overlapSteps(const Design& design, const Fit& fit,
                                                    double bound = 10.0);

/// For each term the terms that must stay while it does: the parts of a product, x of x².
[[nodiscard]] std::vector<std::vector<std::size_t>> termParts(const Design& design);

}  // namespace rapporto
