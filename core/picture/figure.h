#pragma once

#include "core/describe/exhibit.h"
#include "core/picture/drawing.h"
#include "core/picture/picture.h"

namespace rapporto {

/// An exhibit as it is printed: its axes with their titles, marks whose shape repeats their colour,
/// names beside lines. Its own title is left to the caption. What reaches over the axes is cut.
/// @param width, height  in points.
[[nodiscard]] Drawing exhibitDrawing(const Exhibit& exhibit, double width, double height);

/// A picture of the desk: one exhibit, or a grid of them. Empty where it is a table or nothing.
[[nodiscard]] Drawing pictureDrawing(const DrawnPicture& picture, double width);

/// How far an exhibit reaches, with white around what is measured.
struct Reach {
    double x0 = 0.0;
    double x1 = 1.0;
    double y0 = 0.0;
    double y1 = 1.0;
};

[[nodiscard]] Reach reachOf(const Exhibit& exhibit);

}  // namespace rapporto
