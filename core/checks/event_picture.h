#pragma once

#include "core/data/frame.h"
#include "core/describe/exhibit.h"
#include "core/model/event_study.h"

#include <functional>

namespace rapporto {

/// Effects by the distance from the change with their intervals and the band that holds all.
[[nodiscard]] Exhibit eventExhibit(const EventFit& event, double alpha, const std::string& outcome,
                                   const std::string& unit);

/// Each comparison by its weight and what it says.
[[nodiscard]] Exhibit comparisonExhibit(const ComparisonSplit& split, const std::string& outcome,
                                        const std::function<std::string(std::int64_t)>& nameOf);

/// The moment of a source row as it is shown: “2017”, “2015-03”.
[[nodiscard]] std::string momentName(const Frame& frame, std::size_t row);

}  // namespace rapporto
