#pragma once

#include "core/checks/check.h"

#include <string>
#include <vector>

namespace rapporto {

// What checks say of numbers, whoever added them up: the rows here, an engine that keeps them
// there.

/// Makes a doubt that the question's errors do not need one that they allow for.
void markAllowedFor(const CheckInput& in, CheckResult& result);

/// A result for people: the question’s names stand without the quotes that expressions want.
void showNames(CheckResult& result, const Question& question);

/// How residuals lie about their mean.
struct ResidualShape {
    double skewness = 0.0;
    double kurtosis = 3.0;  ///< Of a normal law 3.
};

/// Verdict, headline and reading of a test that residuals are normal, whose p stands.
void tellNormality(const CheckInput& in, const ResidualShape& shape, CheckResult& result);

/// What is left of the rows by cluster.
struct ClusterSums {
    std::string by;
    std::vector<double> counts;
    std::vector<double> sums;
    double within = 0.0;  ///< Σ (e − mean of its cluster)².
};

/// Share of the residual variance between clusters by the analysis of variance: Donner (1986),
/// International Statistical Review 54, 67–82.
[[nodiscard]] CheckResult intraclassOf(const CheckInput& in, const ClusterSums& clusters);

/// A model for all rows and one for each part.
struct PartFits {
    struct One {
        std::string label;
        double rows = 0.0;
        double rss = 0.0;
        double columns = 0.0;  ///< Of its X that are kept.
        bool solved = true;    ///< It has rows enough.
    };

    One pooled;
    std::vector<One> parts;
};

/// Chow (1960), Econometrica 28, 591–605.
[[nodiscard]] CheckResult chowOf(const CheckInput& in, const PartFits& fits);

/// What the parts are compared by where nothing is named: the first grouping among the terms.
[[nodiscard]] std::string partsBy(const CheckInput& in);

/// The clusters where none are named for the check: those of the errors, the units of a panel.
[[nodiscard]] std::string clustersBy(const CheckInput& in);

}  // namespace rapporto
