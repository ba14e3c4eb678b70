#pragma once

#include "core/study/answer.h"

namespace rapporto {

/// What was asked of one effect that has to be defended, and the forecast, into an answer of the
/// results file, as docs/study-format.md has it.
void putDefence(nlohmann::ordered_json& one, const Answer& answer);
void putForecast(nlohmann::ordered_json& one, const Answer& answer);

}  // namespace rapporto
