#pragma once

#include "core/model/question.h"

#include <string>
#include <vector>

namespace rapporto {

/// What the question reads and has names in quotes, as it is written; empty for most.
[[nodiscard]] std::vector<std::string> quotedTexts(const Question& question);

/// Finished words about a question for people: its names stand without the quotes of expressions.
[[nodiscard]] std::string shownNames(const std::string& words, const Question& question);

}  // namespace rapporto
