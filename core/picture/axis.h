#pragma once

#include "core/describe/exhibit.h"

namespace rapporto {

/// Round places between low and high, about `wanted` of them: 1, 2 or 5 times a power of ten; on a
/// logarithmic axis powers of ten (with 2 and 5 between where there are few); on an axis of dates
/// days, months, quarters or years, named shortly.
[[nodiscard]] std::vector<Tick> ticksOn(AxisScale scale, double low, double high, int wanted);

/// A coordinate as the value it stands for: 1,204 · 3 May 2024.
[[nodiscard]] std::string valueOn(AxisScale scale, double coordinate);

/// Round places between low and high, about `wanted` of them.
[[nodiscard]] std::vector<double> roundPlaces(double low, double high, int wanted);

}  // namespace rapporto
