#pragma once

#include "core/report/report.h"

#include <optional>
#include <string>
#include <vector>

namespace rapporto {

/// A number that a text can hold: “{effect of member in q2}”.
struct ReportField {
    std::string field;  ///< With its braces.
    std::string value;  ///< What it reads now.
};

/// What a field reads: `effect`, `error`, `interval`, `p`, `percent` or `ratio` of a term in a
/// question, or `rows`, `outcome`, `R²`, `σ` in a question, which is named by its id or title.
/// Nothing where one of them does not exist.
[[nodiscard]] std::optional<std::string> fieldValue(const std::string& field,
                                                    const AnswersById& answers, double alpha);

/// A text with its fields filled; one that does not exist stays, marked with “?”.
[[nodiscard]] std::string withFields(const std::string& text, const AnswersById& answers,
                                     double alpha, const ReportDress& dress);

/// All that could be put into a text, question by question; terms with braces in their names
/// cannot.
[[nodiscard]] std::vector<ReportField> reportFields(const AnswersById& answers, double alpha);

}  // namespace rapporto
