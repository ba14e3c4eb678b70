#pragma once

#include "core/study/ways_to_ask.h"

namespace rapporto {

/// What would be filled in and by what, from what the questions use: their variables that lack
/// answers, foretold by those that do not. Without a question: of all columns. Empty where nothing
/// lacks an answer.
[[nodiscard]] ImputationSpec proposedImputation(const Study& study, const Frame& frame);

/// Variables of the question, and what the study fills in by, that lack no answer in the sample:
/// what can foretell that a row is complete.
[[nodiscard]] std::vector<Term> completeByProposed(const Study& study, const Frame& frame,
                                                   const Question& question);

/// The other ways with rows that lack an answer, as questions with their reasons. One that needs
/// what is not declared or not there is left out.
[[nodiscard]] std::vector<WayToAsk> waysWithMissing(const Study& study, const Frame& frame,
                                                    const Question& question);

}  // namespace rapporto
