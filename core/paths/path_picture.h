#pragma once

#include "core/paths/trace.h"
#include "core/picture/drawing.h"

#include <map>
#include <string>
#include <vector>

namespace rapporto {

/// A point of a picture, in its pixels.
struct PicturePoint {
    double x = 0.0;
    double y = 0.0;
};

/// A node as it stands: a pill about its middle.
struct PathBox {
    int node = 0;
    PicturePoint middle;
    double width = 0.0;
    double height = 0.0;
    std::string name;
    std::string below;  ///< Its label, and the share that its equation explains; may be empty.
    bool last = false;  ///< Explains nothing further.

    [[nodiscard]] bool holds(PicturePoint point) const;
};

/// An arrow as a curve with one control point.
struct PathCurve {
    int arrow = -1;  ///< Of the trace; −1: a correlation of two causes.
    int from = 0;    ///< Boxes.
    int to = 0;
    PicturePoint start;
    PicturePoint control;
    PicturePoint end;
    double width = 1.0;
    bool broken = false;  ///< The interval holds zero.
    std::string text;     ///< “.42 (.05)”, “r .21”.
    PicturePoint textAt;

    [[nodiscard]] PicturePoint at(double share) const;
};

/// Where everything stands. Causes left, outcomes right, each column what hangs on those before it;
/// a curve bends where a straight line would cross a node or another’s number.
struct PathLayout {
    double width = 0.0;
    double height = 0.0;
    std::vector<PathBox> boxes;
    std::vector<PathCurve> curves;

    /// The box of a node, or −1.
    [[nodiscard]] int boxOf(int node) const;
};

/// @param places  where a person put nodes, by name.
[[nodiscard]] PathLayout layoutPaths(const Trace& trace,
                                     const std::map<std::string, NodePlace>& places, double width,
                                     double height);

/// The picture as a self-contained SVG.
[[nodiscard]] std::string pathPictureSvg(const Trace& trace,
                                         const std::map<std::string, NodePlace>& places,
                                         double width, double height);

/// The picture as it is printed.
[[nodiscard]] Drawing pathDrawing(const Trace& trace,
                                  const std::map<std::string, NodePlace>& places, double width,
                                  double height);

}  // namespace rapporto
