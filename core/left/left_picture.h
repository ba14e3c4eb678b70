#pragma once

#include "core/left/left_rows.h"
#include "core/picture/picture.h"

namespace rapporto {

/// A picture of rows that stay with an engine, by counts and sums that it is asked for: the bars,
/// means, boxes, shares and numbers that the same rows at hand would give. Every row counts alike.
/// It is asked for once: whoever wants it again has it from the table.
///
/// @return the picture (`nothing` says why there is none; `asked` holds the statements), or what
///         the engine refuses, Stopped.
[[nodiscard]] Result<DrawnPicture> leftPicture(const Study& study, const Frame& frame,
                                               PictureSpec spec, const Job& job);

/// A picture, whoever keeps the rows.
[[nodiscard]] Result<DrawnPicture> pictureOf(const Study& study, const Frame& frame,
                                             PictureSpec spec, const Job& job);

}  // namespace rapporto
