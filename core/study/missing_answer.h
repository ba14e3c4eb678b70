#pragma once

#include "core/impute/complete_rows.h"
#include "core/impute/sets.h"
#include "core/study/explain.h"

namespace rapporto {

/// A question answered on every set that the study fills in, and the answers pooled: coefficients,
/// effects, predictions and statements by Rubin’s rules, each check as the middle one of the sets’.
/// Design, rows and pictures are those of the first set.
[[nodiscard]] Result<void> answerImputed(Answer& answer, const Study& study, const Frame& frame,
                                         const Making& making);

/// The sets that the study declares, made anew.
[[nodiscard]] Result<std::shared_ptr<const ImputedSets>> setsOf(const Study& study,
                                                                const Frame& frame, const Job& job);

/// The same, made when they are first asked for and kept for every further question; study and
/// frame must outlive it.
[[nodiscard]] std::function<Result<std::shared_ptr<const ImputedSets>>(const Job&)> setsOnce(
    const Study& study, const Frame& frame);

/// The cells that were filled in, as a table: variable and row, from 1 as in the source.
[[nodiscard]] Table filledCells(const ImputedSets& sets);

/// The table of one set, with what is derived.
[[nodiscard]] Frame frameOfSet(const Study& study, const Frame& frame, const ImputedSets& sets,
                               std::size_t set);

/// Names that a question’s rows hang on and that neither are filled in nor foretell what is: their
/// effects are drawn to zero in rows that were filled in.
[[nodiscard]] std::vector<std::string> unforetold(const Question& question, const Frame& frame,
                                                  const ImputedSets& sets);

/// Checks of one question on several sets as one list.
///
/// @param all  of every set, the same checks in the same order.
[[nodiscard]] std::vector<CheckResult> pooledChecks(
    const std::vector<std::vector<CheckResult>>& all);

/// A question that is asked of complete rows in place of all: its rows’ weights by the inverse of
/// their chance to be complete, as a variable of a table that holds it.
struct AskedOfComplete {
    Frame frame;
    Question question;
    CompleteRows told;
};

/// @return the question, or BadSetting (nothing foretells, weights that are no sampling weights),
///         NoVariation (every row is complete: there is nothing to weigh), and what a logit
///         refuses.
[[nodiscard]] Result<AskedOfComplete> askedOfComplete(const Study& study, const Frame& frame,
                                                      const Question& question, const Job& job);

}  // namespace rapporto
