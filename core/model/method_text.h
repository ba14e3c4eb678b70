#pragma once

#include "core/model/question.h"

#include <string>

namespace rapporto {

// What methods are called with the settings of a question, for the registry’s lines; see
// methodText().

/// “a line with 2 bends in age, held”.
[[nodiscard]] std::string bentLineText(const Question& question);

/// “generalised moments in two steps”.
[[nodiscard]] std::string momentsText(const Question& question);

/// “differences by earlier moments in one step”.
[[nodiscard]] std::string earlierMomentsText(const Question& question);

/// “the median”, “quantiles 0.1, 0.9”.
[[nodiscard]] std::string quantileText(const Question& question);

/// “a negative binomial count (linear)”.
[[nodiscard]] std::string spreadCountText(const Question& question);

/// “a count behind a hurdle, negative binomial”.
[[nodiscard]] std::string partCountText(const Question& question);

/// “interval regression between low and high”.
[[nodiscard]] std::string intervalText(const Question& question);

/// “penalised logit (Firth)”.
[[nodiscard]] std::string logitText(const Question& question);

/// “effects before and after a change of irrigated, by cohorts”.
[[nodiscard]] std::string changeText(const Question& question);

/// “random effects of village (slope in hives) on log odds”.
[[nodiscard]] std::string levelsText(const Question& question);

}  // namespace rapporto
