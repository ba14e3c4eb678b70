#pragma once

#include "core/study/answer.h"

#include <string>
#include <vector>

namespace rapporto {

/// How strong a cause left out would have to be, in sentences; with its refusal where it has one.
/// Nothing where it was not asked.
[[nodiscard]] std::vector<std::string> leftOutReading(const Answer& answer);

}  // namespace rapporto
