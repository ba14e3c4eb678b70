#pragma once

#include "core/data/frame.h"

namespace rapporto {

/// A name for a row (from 0): the first variable whose texts tell rows apart, or “row 12”.
[[nodiscard]] std::string rowName(const Frame& frame, std::size_t row);

}  // namespace rapporto
