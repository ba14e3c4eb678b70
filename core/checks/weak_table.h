#pragma once

#include <array>
#include <optional>

namespace rapporto {

/// Critical values of the Cragg–Donald F at 5 %: instruments are weak when two-stage least squares
/// has so large a bias relative to least squares, or a 5 % test so large a true size.
/// Source: Stock & Yogo (2005), tables 5.1 and 5.2.
struct WeakValues {
    std::array<double, 4> at;  ///< Bias .05, .10, .20, .30; or size .10, .15, .20, .25.
};

/// Bias, for `instruments` outside of the equation and 1 to 3 endogenous columns; nothing where the
/// table has none (fewer than two instruments more than endogenous columns, or many).
[[nodiscard]] std::optional<WeakValues> weakByBias(int instruments, int endogenous);

/// Size, for 1 or 2 endogenous columns.
[[nodiscard]] std::optional<WeakValues> weakBySize(int instruments, int endogenous);

}  // namespace rapporto
