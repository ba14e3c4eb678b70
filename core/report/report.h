#pragma once

#include "core/base/job.h"
#include "core/base/markup.h"
#include "core/report/blocks.h"
#include "core/study/answer.h"

#include <map>
#include <string>
#include <vector>

namespace rapporto {

/// The question’s title, or its id.
[[nodiscard]] std::string questionTitle(const Answer& answer);

/// The items of the study's report, or the default ones: reading, table, lenses, equation, checks,
/// assumptions, methods, references.
[[nodiscard]] std::vector<ReportItem> reportItems(const Study& study);

/// Answers by the id of their question; they outlive what is built from them.
using AnswersById = std::map<std::string, const Answer*>;

/// Builds the blocks of all items; items of questions without an answer say so.
/// @param frame  the table, for items that are of variables; without it they say that it is
/// missing.
/// @param job  once it is stopped, items that take fits of their own say so in place of them.
[[nodiscard]] std::vector<ReportBlock> buildReport(const Study& study, const AnswersById& answers,
                                                   const Frame* frame = nullptr,
                                                   const Job& job = Job());

/// “ln(revenue) = 6.94 + .214 member + …” with standard errors in parentheses.
[[nodiscard]] std::string equationText(const Answer& answer);

/// The same in pieces, to be typeset.
[[nodiscard]] MathRow equationRow(const Answer& answer);

/// A lens a term for one term across questions, or for all terms of one question.
[[nodiscard]] Drawing lensDrawing(const std::vector<std::string>& names,
                                  const std::vector<const Coefficient*>& effects, double width);

/// Marks and language as the report's style asks for them.
[[nodiscard]] ReportDress dressOf(const ReportStyle& style);

/// The whole report with its title, in the dress that the study asks for.
[[nodiscard]] ReportPages reportPages(const Study& study, const AnswersById& answers,
                                      const Frame* frame = nullptr, const Job& job = Job());

}  // namespace rapporto
