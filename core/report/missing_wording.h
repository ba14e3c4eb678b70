#pragma once

#include "core/impute/sets.h"
#include "core/study/answer.h"

namespace rapporto {

/// What becomes of rows that lack an answer, as a part of a sentence: “missing answers filled in”,
/// “complete rows weighted by age and zone”; empty where they are left out.
[[nodiscard]] std::string missingText(const Question& question);

/// What a fit on filled tables, or of complete rows that stand for others, adds to its reading;
/// empty for others. Begins with a blank.
[[nodiscard]] std::string missingReading(const Answer& answer);

/// The same for the methods paragraph.
[[nodiscard]] std::string missingMethods(const Answer& answer);

/// How the sets came about and whether their paths have settled; paragraphs.
[[nodiscard]] std::vector<std::string> setsReading(const ImputedSets& sets, const Frame& frame);

/// In words: “a like row’s answer (matching)”, …
[[nodiscard]] std::string wayText(const std::string& way);

}  // namespace rapporto
