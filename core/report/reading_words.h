#pragma once

#include "core/model/term.h"

#include <string>
#include <vector>

namespace rapporto {

/// “12.5 kg”; the number alone where there is no unit.
[[nodiscard]] std::string withUnit(const std::string& number, const std::string& unit);

/// “hives, irrigated and hives × irrigated”.
[[nodiscard]] std::string namesOf(const std::vector<Term>& terms);

}  // namespace rapporto
