#pragma once

#include "core/data/frame.h"

#include <set>

namespace rapporto {

/// Every variable that an expression is made of, derived ones followed through to the source; with
/// those on the way. Empty where it does not parse.
[[nodiscard]] std::set<std::string> namesBehind(const Frame& frame, const std::string& expression);

}  // namespace rapporto
