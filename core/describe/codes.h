#pragma once

#include "core/data/frame.h"

namespace rapporto {

/// Source variables that hold −9 and no other negative number, with no missing code declared: −9
/// is then most likely “no answer” and counts as one. Up to 200,000 rows are looked at.
[[nodiscard]] std::vector<std::string> countingNoAnswer(const Frame& frame);

}  // namespace rapporto
