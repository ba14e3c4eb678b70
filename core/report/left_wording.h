#pragma once

#include "core/left/left_table.h"
#include "core/study/answer.h"

namespace rapporto {

/// What is known of a variable whose cells stay with a database: “1,180 rows have an answer; mean
/// 48.2, standard deviation 12.1, from 17 to 91”.
[[nodiscard]] std::string leftVariableWords(const LeftTable& table, const Variable& variable);

/// Why no rows are at hand of an answer that tells nothing by row.
[[nodiscard]] std::string whyNoRows(const Answer& answer);

}  // namespace rapporto
