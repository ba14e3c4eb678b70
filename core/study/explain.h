#pragma once

#include "core/study/question_kind.h"

namespace rapporto {

/// An outcome’s question, estimated.
struct Estimated {
    Design design;
    Fit fit;
    ErrorSpec errors;  ///< With a seed.
    /// What checks look at in place of weighted rows: each once, or as often as it counts. Gives
    /// null, or is empty, where they look at the rows as they are. Works it out at every call.
    std::function<std::shared_ptr<const CheckRows>()> forChecks = {};
};

/// Design and estimate of a question that explains an outcome.
///
/// @param counts  filled as far as rows were counted, of a refused design, too.
[[nodiscard]] Result<Estimated> estimateQuestion(const Study& study, const Frame& frame,
                                                 const Question& question, RowCounts& counts,
                                                 const Job& job);

/// Predictions, effects, statements, moments to come and what may be left out, as the question asks
/// for them, each behind its own border.
void answerRequests(Answer& answer, const Study& study, const Frame& frame, const Design& design,
                    const Fit& fit, const Job& job);

/// The statements of the question, each behind its own border, with Holm’s p over all of them.
void answerStatements(Answer& answer,
                      const std::function<Result<HypothesisTest>(const std::string&)>& test);

/// Where squared variables turn, by the answer’s scenarios.
void answerTurns(Answer& answer, const Design& design, const Fit& fit);

/// The checks of an answer, each on the rows that its law is of.
[[nodiscard]] std::vector<CheckResult> checksOf(const Frame& frame, const Answer& answer,
                                                const Estimated& found, CheckRun run,
                                                const Making& making);

/// Errors by the survey design bring its weight, and the rows that lack a part of it leave.
[[nodiscard]] Question withSurvey(const Question& question, const Survey& survey);

/// Questions that explain an outcome.
[[nodiscard]] QuestionKind explainKind();

}  // namespace rapporto
