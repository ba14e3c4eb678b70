#pragma once

#include "core/base/result.h"
#include "core/picture/drawing.h"

#include <cairo.h>
#include <pango/pango.h>

#include <memory>
#include <optional>
#include <string>

namespace rapporto {

/// How a stretch of text is set.
struct Face {
    double size = 11.0;  ///< Points.
    bool italic = false;
    bool bold = false;
    bool sans = false;  ///< Lato; else STIX.
    std::string colour = "#232733";
    double leading = 1.3;  ///< Of a line, in sizes.
};

using LayoutPtr = std::shared_ptr<PangoLayout>;

/// The faces that ship, and nothing of the machine but for letters that they lack: the same pages
/// everywhere.
class Type {
  public:
    /// The faces of this thread, found once.
    [[nodiscard]] static Result<std::shared_ptr<const Type>> make();

    /// Text with ** where it is bold, set in lines of `width` points.
    /// @param width  none: one line.
    [[nodiscard]] LayoutPtr set(const std::string& marked, const Face& face,
                                std::optional<double> width = std::nullopt,
                                PangoAlignment align = PANGO_ALIGN_LEFT) const;

    Type(const Type&) = delete;
    Type& operator=(const Type&) = delete;
    ~Type();

  private:
    struct Parts;
    explicit Type(std::unique_ptr<Parts> parts);
    std::unique_ptr<Parts> parts_;
};

/// Size of set text in points.
[[nodiscard]] double widthOf(const LayoutPtr& layout);
[[nodiscard]] double heightOf(const LayoutPtr& layout);

/// How far the first base line lies under the top.
[[nodiscard]] double baselineOf(const LayoutPtr& layout);

/// Sets the colour of a pen from “#35527D”.
void useColour(cairo_t* cr, const std::string& colour, double opacity = 1.0);

/// Paints a picture with its upper left corner at the origin.
void paintDrawing(cairo_t* cr, const Type& type, const Drawing& drawing);

}  // namespace rapporto
