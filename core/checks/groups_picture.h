#pragma once

#include "core/describe/exhibit.h"
#include "core/model/design.h"
#include "core/model/multilevel.h"

namespace rapporto {

/// The effects of a level’s groups, drawn to the mean, from the lowest to the highest: a bar from
/// end to end of each interval, with the rows of its group behind it.
///
/// @param level   of the fit, innermost first.
/// @param column  0: the constant; else a slope.
[[nodiscard]] Exhibit groupsExhibit(const Design& design, const LevelsFit& fit, std::size_t level,
                                    std::size_t column, double alpha);

}  // namespace rapporto
