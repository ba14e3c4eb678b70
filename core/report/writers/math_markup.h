#pragma once

#include "core/report/blocks.h"

#include <string>

namespace rapporto {

/// A line of an equation in MathML’s presentation markup, without its outermost element: errors
/// stand under their numbers.
[[nodiscard]] std::string mathMarkup(const MathRow& row);

}  // namespace rapporto
