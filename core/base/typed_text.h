#pragma once

#include <optional>
#include <string>
#include <string_view>

namespace rapporto {

/// Without spaces, tabs and carriage returns at both ends.
[[nodiscard]] std::string trimmed(std::string_view text);

/// The finite number that the whole text spells: a point as decimal mark whatever the locale, a
/// hyphen or a true minus, spaces at the ends allowed. Nothing for anything else.
[[nodiscard]] std::optional<double> numberIn(std::string_view text);

}  // namespace rapporto
