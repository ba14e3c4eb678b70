#pragma once

#include "core/picture/drawing.h"
#include "core/study/sweep.h"

namespace rapporto {

/// The effects of all specifications by size with their intervals, zero as a line, those whose
/// interval leaves zero out darker; beneath it a row for each choice with a mark where it was made,
/// and at its right what it does to the effect on average.
/// Source: Simonsohn, Simmons & Nelson (2020), Nature Human Behaviour 4.
///
/// @param width  in points.
[[nodiscard]] Drawing sweepDrawing(const Sweep& sweep, double alpha, double width);

/// How far the effect runs, what moves it most, and what that does not mean; paragraphs. A leading
/// ~ marks what is beside the point.
[[nodiscard]] std::vector<std::string> sweepReading(const Sweep& sweep);

/// “With and without hives, age; errors classical, robust (HC3); all rows, without rows that
/// stand out.”
[[nodiscard]] std::string sweptOver(const Sweep& sweep);

}  // namespace rapporto
