#pragma once

#include "core/defend/lots_picture.h"
#include "core/study/answer.h"

namespace rapporto {

/// The series as it was and as it is foretold, with both intervals; of a logged outcome in its own
/// units. Where there is no forecast, nothing is drawn.
[[nodiscard]] Exhibit forecastExhibit(const Answer& answer);

/// The lots of an answer that has them, or null.
[[nodiscard]] const ByLot* lotsToDraw(const Answer& answer);

}  // namespace rapporto
