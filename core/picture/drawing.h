#pragma once

#include <cstdint>
#include <string>
#include <utility>
#include <vector>

namespace rapporto {

/// A picture as lines, grounds and words in points (1/72 inch), y downwards: what a page, a file
/// and a screen all draw alike. Nobody computes anything from it.
struct Drawing {
    struct Point {
        double x = 0.0;
        double y = 0.0;
    };

    enum class Anchor : std::uint8_t { Start, Middle, End };

    /// How a shape is drawn; an empty colour leaves that part out.
    struct Pen {
        std::string stroke = {};  ///< “#35527D”.
        double width = 1.0;
        std::string fill = {};
        double opacity = 1.0;  ///< Of the ground; lines are solid.
        bool dashed = false;
    };

    struct Shape {
        enum class Kind : std::uint8_t { Path, Circle, Words };

        Kind kind = Kind::Path;
        std::vector<Point> points;  ///< Of a circle its middle, of words where they stand.
        bool closed = false;
        bool curved = false;  ///< Three points: one curve with its control point in between.
        Pen pen;
        double size = 0.0;  ///< Radius, or height of the letters.
        std::string words;
        Anchor anchor = Anchor::Start;
        bool bold = false;
    };

    double width = 0.0;
    double height = 0.0;
    std::vector<Shape> shapes;

    [[nodiscard]] bool empty() const { return shapes.empty(); }

    void line(Point from, Point to, Pen pen) { path({from, to}, std::move(pen), false); }

    void path(std::vector<Point> points, Pen pen, bool closed);

    /// A curve of degree two.
    void curve(Point from, Point control, Point to, Pen pen);

    /// A rectangle; with `round` its corners are cut in small steps along a circle.
    void box(Point corner, double wide, double high, Pen pen, double round = 0.0);

    void circle(Point middle, double radius, Pen pen);

    /// Words whose base line is at `at`.
    Shape& words(Point at, std::string text, double size, std::string colour,
                 Anchor anchor = Anchor::Start);
};

/// About how wide words of this size are, without a font at hand.
[[nodiscard]] double wordsWidth(const std::string& text, double size);

/// The words, or as many letters of them as fit a width, and “…”.
[[nodiscard]] std::string fittedWords(const std::string& words, double size, double room);

/// The picture as a self-contained SVG.
/// @param family  of the letters, with what stands in for it: "STIX, serif".
[[nodiscard]] std::string svgOf(const Drawing& drawing, const std::string& family);

}  // namespace rapporto
