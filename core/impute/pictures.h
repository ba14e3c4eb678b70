#pragma once

#include "core/describe/exhibit.h"
#include "core/impute/sets.h"

namespace rapporto {

/// The mean of what is filled in for one variable, round by round, a line a set and one for their
/// mean.
[[nodiscard]] Exhibit pathsPicture(const ImputedVariable& variable);

/// What was filled in beside what was seen: densities of numbers, shares of levels.
[[nodiscard]] Exhibit filledPicture(const ImputedVariable& variable, const Frame& frame);

/// How what is filled in parts from what was seen; empty where it does not by much. It need not be
/// wrong: who does not answer may be others.
[[nodiscard]] std::string partingReading(const ImputedVariable& variable, const Frame& frame);

}  // namespace rapporto
