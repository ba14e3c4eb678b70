#pragma once

#include "core/describe/exhibit.h"
#include "core/model/term_choice.h"

namespace rapporto {

/// The best subset of each size by the criterion as a line over the number of coefficients, the
/// others of that size as points, the best of all marked.
[[nodiscard]] Exhibit criteriaExhibit(const SubsetSearch& search, Criterion by);

/// The error of each penalty with its band, by the number of columns left; the two marks.
[[nodiscard]] Exhibit lassoErrorExhibit(const LassoPath& path);

/// Each coefficient along the penalty, in standard deviations of its column.
[[nodiscard]] Exhibit lassoPathExhibit(const Design& design, const LassoPath& path);

/// Each control by the sizes of its correlations with the term and with the outcome, those kept
/// apart from those left out.
[[nodiscard]] Exhibit selectionExhibit(const Design& design, const DoubleSelection& selection);

/// “hives, zone and age”.
[[nodiscard]] std::string termsText(const Design& design, const std::vector<std::size_t>& terms);

/// What was found, in words.
[[nodiscard]] std::string subsetReading(const Design& design, const SubsetSearch& search,
                                        Criterion by);
[[nodiscard]] std::string lassoReading(const Design& design, const LassoPath& path,
                                       const std::vector<bool>& held);
[[nodiscard]] std::string selectionReading(const Design& design, const DoubleSelection& selection);
[[nodiscard]] std::string overlapReading(const Design& design,
                                         const std::vector<OverlapStep>& steps);

/// What a choice by the data does to the numbers of a question; empty where there was none.
[[nodiscard]] std::string choiceWarning(const Question& question);

}  // namespace rapporto
