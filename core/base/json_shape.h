#pragma once

#include "core/base/result.h"

#include <string_view>

namespace rapporto {

inline constexpr std::size_t kDeepestJson = 200;
inline constexpr std::size_t kMostMembers = 20000;

/// Refuses JSON that would take the stack or the day before it is parsed: values nested more than
/// kDeepestJson deep, or one object of more than kMostMembers members. Looks at brackets, quotation
/// marks and commas alone; what is no JSON is for the parser to say. Linear in the text.
///
/// @return nothing, or Syntax with the line.
[[nodiscard]] Result<void> plainEnough(std::string_view json);

}  // namespace rapporto
