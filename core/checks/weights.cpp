// Do the sampling weights change what is found?
#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/numerics/distributions.h"

#include <cmath>

namespace rapporto {

// DuMouchel & Duncan (1983), JASA 78.
CheckResult checkWeightsMatter(const CheckInput& in) {
    const Design& design = in.design;
    if (design.weightKind != WeightKind::Sampling || design.weights.size() == 0) {
        return notApplicable("No sampling weights are used.");
    }
    if (design.weights.maxCoeff() == design.weights.minCoeff()) {
        return notApplicable("All rows have the same weight.");
    }
    Design both = design;
    both.weights.resize(0);
    both.weightKind = WeightKind::None;
    both.survey = nullptr;
    both.columns.clear();
    both.terms.clear();
    const auto& kept = in.fit.solution.kept;
    const auto k = static_cast<Eigen::Index>(kept.size());
    both.X.resize(design.y.size(), 2 * k);
    both.X.leftCols(k) = design.X(Eigen::all, kept);
    // Centred weights keep the new columns apart from the old ones.
    const Eigen::VectorXd w = design.weights.array() - design.weights.mean();
    both.X.rightCols(k) = w.asDiagonal() * design.X(Eigen::all, kept);
    for (Eigen::Index j = 0; j < 2 * k; ++j) {
        both.columns.push_back({"c" + std::to_string(j), "", -1, false});
    }
    const auto tested = [&](const ErrorSpec& errors) -> std::optional<FTest> {
        const auto fit = fitLeastSquares(both, errors, in.alpha, in.job);
        if (!fit) {
            return std::nullopt;
        }
        std::vector<Eigen::Index> added;
        Eigen::VectorXd b(static_cast<Eigen::Index>(fit->coefficients.size()));
        for (std::size_t j = 0; j < fit->coefficients.size(); ++j) {
            b(static_cast<Eigen::Index>(j)) = fit->coefficients[j].estimate;
            if (fit->coefficients[j].column >= k) {
                added.push_back(static_cast<Eigen::Index>(j));
            }
        }
        const auto q = static_cast<double>(added.size());
        const auto f = waldF(b(added), fit->covariance(added, added));
        return f && q > 0.0
                   ? std::optional(FTest{*f, q, fit->dfResidual, fTail(*f, q, fit->dfResidual)})
                   : std::nullopt;
    };
    const auto plain = tested(ErrorSpec{});
    if (!plain) {
        return notApplicable(
            "There are too few rows for the terms and their products with the "
            "weights.");
    }
    CheckResult result;
    result.statistic = plain->value;
    result.statisticName = "F of the products with the weights";
    result.df = {plain->df1, plain->df2};
    result.distribution = "F";
    result.p = plain->p;
    double p = plain->p;
    if (const auto robust = tested(ErrorSpec{"robust", "HC1", {}})) {
        result.details = {{"robust F", robust->value}, {"robust p", robust->p}};
        p = robust->p;
    }
    const bool found = plain->p < in.alpha && p < in.alpha;
    result.verdict = found ? Verdict::Weigh : Verdict::Fine;
    result.headline = pClause(plain->p);
    result.reading =
        found
            ? "Effects differ between rows of small and large weight (" + pClause(plain->p) +
                  "): weighted and unweighted fits speak of different mixes of people. Keep the "
                  "weights to speak of the population, and look for a term or product that is "
                  "missing."
            : "Effects do not differ between rows of small and large weight (" + pClause(plain->p) +
                  "): the unweighted fit says the same and is as a rule more precise.";
    result.exhibit = residualExhibit(in);
    result.exhibit.title = "What is left, weights in place";
    Question variant = variantBase(in, "without weights");
    variant.weightKind = WeightKind::None;
    if (variant.missing == "weighted") {
        variant.missing = "rows";
        variant.completeBy.clear();
    }
    variant.weight.clear();
    if (variant.errors.kind == "survey") {
        variant.errors = ErrorSpec{"robust", "HC1", {}};
    }
    result.remedies.push_back(
        {"Set the weights aside", "see how far the effects move without them", std::move(variant)});
    return result;
}

}  // namespace rapporto
