#pragma once

#include "core/describe/survey_mean.h"
#include "core/study/answer.h"
#include "core/study/study.h"

namespace rapporto {

/// Something of a fit that can be kept as a variable.
struct Keepable {
    std::string what;      ///< As KeptColumn has it.
    std::string grouping;  ///< Of an effect.
    std::string shown;     ///< In words: “effects of village”.
};

/// What of an answer can be kept; nothing without rows.
[[nodiscard]] std::vector<Keepable> keepables(const Answer& answer);

/// The column, named after its question; rows that the question does not use are missing.
///
/// @param rows  of the table.
/// @param taken  names that are in use: the column gets another one.
/// @return the column, or what effectsHeldFixed() refuses.
[[nodiscard]] Result<KeptColumn> keptColumn(const Answer& answer, const Keepable& what,
                                            std::size_t rows, const std::set<std::string>& taken,
                                            const Job& job);

/// The weights of a survey as a column, as they are brought to what is known.
[[nodiscard]] KeptColumn keptWeights(const SurveyRows& rows, const std::set<std::string>& taken);

}  // namespace rapporto
