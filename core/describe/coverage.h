#pragma once

#include "core/data/frame.h"

#include <string>
#include <vector>

namespace rapporto {

/// Which unit has which moment, at most as many cells as fit.
struct Coverage {
    std::vector<std::string> units;    ///< Names of the units drawn.
    std::vector<std::string> moments;  ///< First and last, as their cells read.
    std::size_t columns = 0;
    std::vector<std::uint8_t> cells;  ///< units × columns: 0 none, 1 one row, 2 repeated.
    std::size_t unitsInAll = 0;
};

[[nodiscard]] Coverage coverageOf(const Frame& frame, const TimeOrder& order);

}  // namespace rapporto
