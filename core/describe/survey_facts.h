#pragma once

#include "core/data/frame.h"
#include "core/data/survey.h"

#include <string>
#include <vector>

namespace rapporto {

/// What a survey design looks like over the rows in the sample.
struct SurveyFacts {
    std::size_t n = 0;        ///< Rows with every part of the design.
    std::size_t without = 0;  ///< Rows in the sample that lack a part.
    std::size_t strata = 1;
    std::size_t clusters = 0;  ///< Rows where no clusters are named.
    std::size_t smallest = 0;  ///< Rows of the smallest cluster.
    std::size_t largest = 0;
    std::vector<std::string> lonely;  ///< Strata with a single cluster.
    double lowestWeight = 1.0;
    double highestWeight = 1.0;
    double weightVariation = 0.0;  ///< Coefficient of variation.
    double weightEffect = 1.0;     ///< 1 + its square: what the weights cost (Kish 1965).
    double effectiveRows = 0.0;    ///< n over that.
};

/// Facts of the design, its weights as they are brought to what is known; clusters as drawn with
/// replacement, lonely ones told and not refused.
///
/// @return the facts, or UnknownName, WrongType (a weight that is no number), BadSetting (a weight
///         below zero). Source: Kish (1965), Survey Sampling, section 11.7.
[[nodiscard]] Result<SurveyFacts> surveyFacts(const Frame& frame, const Survey& survey);

/// Design effect of a variable's weighted mean: the variance that the design gives it over that of
/// a simple random sample of as many rows, by linearisation with clusters drawn with replacement
/// within strata. Nothing where it cannot be told (a lonely cluster in every stratum, no spread).
///
/// Source: Kish (1965), section 8.2; Binder (1983), International Statistical Review 51.
[[nodiscard]] std::optional<double> designEffect(const Frame& frame, const std::string& variable,
                                                 const Survey& survey);

}  // namespace rapporto
