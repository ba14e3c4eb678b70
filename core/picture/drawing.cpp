#include "core/picture/drawing.h"

#include "core/base/markup.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>

namespace rapporto {
namespace {

/// Numbers of a picture to a hundredth of a point, without zeros that say nothing.
std::string placed(double value) {
    std::string text = fmt::format("{:.2f}", value);
    text.erase(text.find_last_not_of('0') + 1);
    if (text.ends_with('.')) {
        text.pop_back();
    }
    return text == "-0" ? "0" : text;
}

std::string penOf(const Drawing::Pen& pen) {
    std::string out = pen.fill.empty() ? " fill=\"none\"" : " fill=\"" + pen.fill + "\"";
    if (!pen.fill.empty() && pen.opacity < 1.0) {
        out += " fill-opacity=\"" + placed(pen.opacity) + "\"";
    }
    if (!pen.stroke.empty()) {
        out += " stroke=\"" + pen.stroke + "\"";
        if (pen.width != 1.0) {
            out += " stroke-width=\"" + placed(pen.width) + "\"";
        }
        if (pen.dashed) {
            out += " stroke-dasharray=\"6 4\"";
        }
    }
    return out;
}

std::string pathOf(const Drawing::Shape& shape) {
    std::string out = "<path d=\"";
    for (std::size_t i = 0; i < shape.points.size(); ++i) {
        const auto& p = shape.points[i];
        out += i == 0 ? "M" : shape.curved ? (i == 1 ? "Q" : " ") : "L";
        out += placed(p.x) + "," + placed(p.y);
    }
    return out + (shape.closed ? "Z\"" : "\"") + penOf(shape.pen) + "/>";
}

std::string wordsOf(const Drawing::Shape& shape) {
    const auto& at = shape.points.front();
    std::string out = "<text x=\"" + placed(at.x) + "\" y=\"" + placed(at.y) + "\" font-size=\"" +
                      placed(shape.size) + "\" fill=\"" + shape.pen.fill + "\"";
    if (shape.anchor != Drawing::Anchor::Start) {
        out += shape.anchor == Drawing::Anchor::Middle ? " text-anchor=\"middle\""
                                                       : " text-anchor=\"end\"";
    }
    out += shape.bold ? " font-weight=\"bold\"" : "";
    return out + ">" + escapedText(shape.words) + "</text>";
}

}  // namespace

void Drawing::path(std::vector<Point> points, Pen pen, bool closed) {
    if (points.size() < 2) {
        return;
    }
    Shape shape;
    shape.points = std::move(points);
    shape.pen = std::move(pen);
    shape.closed = closed;
    shapes.push_back(std::move(shape));
}

void Drawing::curve(Point from, Point control, Point to, Pen pen) {
    path({from, control, to}, std::move(pen), false);
    shapes.back().curved = true;
}

void Drawing::box(Point corner, double wide, double high, Pen pen, double round) {
    std::vector<Point> around;
    const double r = std::min({round, 0.5 * wide, 0.5 * high});
    if (r <= 0.0) {
        around = {corner,
                  {corner.x + wide, corner.y},
                  {corner.x + wide, corner.y + high},
                  {corner.x, corner.y + high}};
    } else {
        constexpr int kSteps = 8;  // A quarter in steps of 11 degrees looks round at any size here.
        const Point middles[] = {{corner.x + wide - r, corner.y + r},
                                 {corner.x + wide - r, corner.y + high - r},
                                 {corner.x + r, corner.y + high - r},
                                 {corner.x + r, corner.y + r}};
        for (int quarter = 0; quarter < 4; ++quarter) {
            for (int step = 0; step <= kSteps; ++step) {
                const double angle =
                    (quarter - 1 + static_cast<double>(step) / kSteps) * 0.5 * std::numbers::pi;
                around.push_back({middles[quarter].x + r * std::cos(angle),
                                  middles[quarter].y + r * std::sin(angle)});
            }
        }
    }
    path(std::move(around), std::move(pen), true);
}

void Drawing::circle(Point middle, double radius, Pen pen) {
    Shape shape;
    shape.kind = Shape::Kind::Circle;
    shape.points = {middle};
    shape.size = radius;
    shape.pen = std::move(pen);
    shapes.push_back(std::move(shape));
}

Drawing::Shape& Drawing::words(Point at, std::string text, double size, std::string colour,
                               Anchor anchor) {
    Shape shape;
    shape.kind = Shape::Kind::Words;
    shape.points = {at};
    shape.words = std::move(text);
    shape.size = size;
    shape.pen.fill = std::move(colour);
    shape.anchor = anchor;
    shapes.push_back(std::move(shape));
    return shapes.back();
}

double wordsWidth(const std::string& text, double size) {
    double width = 0.0;
    for (const char c : text) {
        if ((static_cast<unsigned char>(c) & 0xC0U) == 0x80U) {
            continue;  // One letter, however many bytes.
        }
        width += c == ' ' || c == '.' || c == ',' || c == 'i' || c == 'l'   ? 0.28
                 : c == 'm' || c == 'w' || (c >= 'A' && c <= 'Z')           ? 0.72
                 : c == 't' || c == 'f' || c == 'r' || c == '(' || c == ')' ? 0.38
                                                                            : 0.53;
    }
    return width * size;
}

std::string fittedWords(const std::string& words, double size, double room) {
    if (wordsWidth(words, size) <= room) {
        return words;
    }
    std::string out = words;
    while (!out.empty() && wordsWidth(out, size) + size > room) {
        do {
            out.pop_back();
        } while (!out.empty() && (static_cast<unsigned char>(out.back()) & 0xC0U) == 0x80U);
        if (!out.empty() && (static_cast<unsigned char>(out.back()) & 0xC0U) == 0xC0U) {
            out.pop_back();
        }
    }
    return out.empty() ? out : out + "…";
}

std::string svgOf(const Drawing& drawing, const std::string& family) {
    const std::string wide = placed(drawing.width);
    const std::string high = placed(drawing.height);
    std::string out = "<svg xmlns=\"http://www.w3.org/2000/svg\" width=\"" + wide + "\" height=\"" +
                      high + "\" viewBox=\"0 0 " + wide + " " + high + "\" font-family=\"" +
                      escapedText(family) + "\">";
    for (const Drawing::Shape& shape : drawing.shapes) {
        switch (shape.kind) {
            case Drawing::Shape::Kind::Path:
                out += pathOf(shape);
                break;
            case Drawing::Shape::Kind::Circle:
                out += "<circle cx=\"" + placed(shape.points.front().x) + "\" cy=\"" +
                       placed(shape.points.front().y) + "\" r=\"" + placed(shape.size) + "\"" +
                       penOf(shape.pen) + "/>";
                break;
            case Drawing::Shape::Kind::Words:
                out += wordsOf(shape);
                break;
        }
    }
    return out + "</svg>";
}

}  // namespace rapporto
