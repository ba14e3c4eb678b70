#pragma once

#include "core/defend/by_lot.h"
#include "core/describe/exhibit.h"

namespace rapporto {

/// The effects that lots give where the cause does nothing, with the one that was found.
[[nodiscard]] Exhibit lotsExhibit(const ByLot& found);

}  // namespace rapporto
