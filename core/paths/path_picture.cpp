#include "core/paths/path_picture.h"

#include "core/base/format.h"
#include "core/report/report.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

constexpr double kMargin = 14.0;
constexpr double kTextHeight = 16.0;
constexpr std::size_t kMostTogether = 6;  ///< Causes whose correlations are drawn.

/// About as wide as the text is in the faces that the pictures use, in pixels.
double textWidth(const std::string& text, double size) {
    double letters = 0.0;
    for (const char c : text) {
        // Bytes that go on with a letter take no room of their own.
        letters += (static_cast<unsigned char>(c) & 0xC0U) == 0x80U ? 0.0 : 1.0;
    }
    return letters * size * 0.56;
}

std::string shortened(const std::string& text, std::size_t most) {
    std::size_t letters = 0;
    for (std::size_t i = 0; i < text.size(); ++i) {
        const bool starts = (static_cast<unsigned char>(text[i]) & 0xC0U) != 0x80U;
        letters += starts ? 1 : 0;
        if (starts && letters > most) {
            return text.substr(0, i) + "…";
        }
    }
    return text;
}

/// The longest way from a cause, of each node; −1: held, and not drawn.
std::vector<int> depths(const Trace& trace) {
    std::vector<int> depth(trace.nodes.size(), 0);
    for (std::size_t v = 0; v < trace.nodes.size(); ++v) {
        depth[v] = trace.nodes[v].held ? -1 : 0;
    }
    for (std::size_t round = 0; round < trace.nodes.size(); ++round) {
        for (const TraceArrow& arrow : trace.arrows) {
            const int from = depth[static_cast<std::size_t>(arrow.from)];
            int& to = depth[static_cast<std::size_t>(arrow.to)];
            to = from >= 0 ? std::max(to, from + 1) : to;
        }
    }
    return depth;
}

/// A causes’ column may stand one step before what it first explains, not at the far left.
void pullRight(const Trace& trace, std::vector<int>& depth) {
    for (std::size_t v = 0; v < depth.size(); ++v) {
        if (depth[v] != 0 || trace.nodes[v].equation >= 0) {
            continue;
        }
        int first = -1;
        for (const TraceArrow& arrow : trace.arrows) {
            if (static_cast<std::size_t>(arrow.from) == v) {
                const int to = depth[static_cast<std::size_t>(arrow.to)];
                first = first < 0 ? to : std::min(first, to);
            }
        }
        depth[v] = std::max(0, first - 1);
    }
}

PicturePoint edgeToward(const PathBox& box, PicturePoint goal) {
    const double dx = goal.x - box.middle.x;
    const double dy = goal.y - box.middle.y;
    const double across = std::abs(dx) > 0.0 ? 0.5 * box.width / std::abs(dx) : 1e9;
    const double down = std::abs(dy) > 0.0 ? 0.5 * box.height / std::abs(dy) : 1e9;
    const double share = std::min({across, down, 1.0});
    return {box.middle.x + share * dx, box.middle.y + share * dy};
}

double distance(PicturePoint a, PicturePoint b) { return std::hypot(a.x - b.x, a.y - b.y); }

class Layouter {
  public:
    Layouter(const Trace& trace, const std::map<std::string, NodePlace>& places, double width,
             double height)
        : trace_(trace), places_(places) {
        out_.width = width;
        out_.height = height;
    }

    PathLayout run() {
        placeBoxes();
        for (std::size_t a = 0; a < trace_.arrows.size(); ++a) {
            addArrow(static_cast<int>(a));
        }
        addTogether();
        return std::move(out_);
    }

  private:
    void placeBoxes() {
        auto depth = depths(trace_);
        pullRight(trace_, depth);
        const int last = depth.empty() ? 0 : *std::max_element(depth.begin(), depth.end());
        std::vector<std::vector<int>> columns(static_cast<std::size_t>(std::max(last, 0)) + 1);
        for (std::size_t v = 0; v < depth.size(); ++v) {
            if (depth[v] >= 0) {
                columns[static_cast<std::size_t>(depth[v])].push_back(static_cast<int>(v));
            }
        }
        std::size_t most = 1;
        for (const auto& column : columns) {
            most = std::max(most, column.size());
        }
        const double room = (out_.height - 2.0 * kMargin) / static_cast<double>(most);
        const double boxHeight = std::clamp(room - 10.0, 18.0, 46.0);
        const bool twoLines = boxHeight >= 38.0;
        // Arrows need room for their numbers between the columns.
        const auto across = static_cast<double>(columns.size());
        const double between = across > 3.0 ? 66.0 : 118.0;
        numbersAlone_ = !twoLines;
        widest_ =
            std::clamp((out_.width - 2.0 * kMargin - arcRoom() - (across - 1.0) * between) / across,
                       76.0, 200.0);
        std::vector<double> places(trace_.nodes.size(), 0.5);
        for (std::size_t c = 0; c < columns.size(); ++c) {
            auto& column = columns[c];
            orderBySources(column, places);
            for (std::size_t k = 0; k < column.size(); ++k) {
                addBox(column[k], twoLines, boxHeight);
                PathBox& box = out_.boxes.back();
                const double share =
                    (static_cast<double>(k) + 0.5) / static_cast<double>(column.size());
                places[static_cast<std::size_t>(column[k])] = share;
                const double reach = out_.width - 2.0 * kMargin - box.width;
                const double step = columns.size() > 1 ? static_cast<double>(c) /
                                                             static_cast<double>(columns.size() - 1)
                                                       : 0.5;
                box.middle = {kMargin + arcRoom() + 0.5 * box.width + step * (reach - arcRoom()),
                              kMargin + share * (out_.height - 2.0 * kMargin)};
                const auto own =
                    places_.find(trace_.nodes[static_cast<std::size_t>(column[k])].name);
                if (own != places_.end()) {
                    box.middle = {std::clamp(own->second.x, 0.0, 1.0) * out_.width,
                                  std::clamp(own->second.y, 0.0, 1.0) * out_.height};
                }
                box.middle.x = std::clamp(box.middle.x, 0.5 * box.width,
                                          std::max(out_.width - 0.5 * box.width, 0.5 * box.width));
                box.middle.y =
                    std::clamp(box.middle.y, 0.5 * box.height, out_.height - 0.5 * box.height);
            }
        }
    }

    /// Room left of the causes for the arcs of their correlations.
    [[nodiscard]] double arcRoom() const { return drawnTogether().size() > 1 ? 46.0 : 0.0; }

    void orderBySources(std::vector<int>& column, const std::vector<double>& places) const {
        const auto mean = [&](int node) {
            double sum = 0.0;
            double count = 0.0;
            for (const TraceArrow& arrow : trace_.arrows) {
                if (arrow.to == node && out_.boxOf(arrow.from) >= 0) {
                    sum += places[static_cast<std::size_t>(arrow.from)];
                    count += 1.0;
                }
            }
            return count > 0.0 ? sum / count : 0.5;
        };
        std::stable_sort(column.begin(), column.end(),
                         [&](int a, int b) { return mean(a) < mean(b) - 1e-9; });
    }

    void addBox(int node, bool twoLines, double height) {
        const TraceNode& own = trace_.nodes[static_cast<std::size_t>(node)];
        PathBox box;
        box.node = node;
        box.name = shortened(own.name, 24);
        box.last = own.equation >= 0;
        for (const TraceArrow& arrow : trace_.arrows) {
            box.last = box.last && arrow.from != node;
        }
        if (twoLines) {
            std::string below = own.label == own.name ? std::string() : shortened(own.label, 26);
            if (own.equation >= 0) {
                const auto& fit = trace_.equations[static_cast<std::size_t>(own.equation)].fit;
                if (fit->statistics.rSquared) {
                    const std::string share =
                        "R² " + fixedNumber(*fit->statistics.rSquared, 2, true);
                    below += below.empty() ? share : " · " + share;
                    // The label stands in the roster, too; the share stands nowhere else.
                    below = textWidth(below, 10.5) > widest_ - 14.0 ? share : below;
                }
            }
            box.below = below;
        }
        box.width = std::clamp(
            std::max(textWidth(box.name, 13.5), textWidth(box.below, 11.0)) + 26.0, 76.0, widest_);
        box.height = height;
        out_.boxes.push_back(std::move(box));
    }

    void addArrow(int index) {
        const TraceArrow& arrow = trace_.arrows[static_cast<std::size_t>(index)];
        PathCurve curve;
        curve.arrow = index;
        curve.from = out_.boxOf(arrow.from);
        curve.to = out_.boxOf(arrow.to);
        if (curve.from < 0 || curve.to < 0) {
            return;
        }
        curve.width = 1.2 + 7.0 * std::min(std::abs(arrow.standardised), 1.0);
        curve.broken = !(arrow.low > 0.0 || arrow.high < 0.0);
        const int decimals = decimalsFor(arrow.se);
        curve.text = fixedNumber(arrow.estimate, decimals, true);
        if (!numbersAlone_) {
            curve.text += " (" + fixedNumber(arrow.se, decimals, true) + ")";
        }
        bend(curve);
        out_.curves.push_back(std::move(curve));
    }

    /// The least bend that crosses no other node and sets its number on no other.
    void bend(PathCurve& curve) const {
        double best = 1e18;
        PathCurve chosen = curve;
        for (const double offset :
             {0.0, 28.0, -28.0, 60.0, -60.0, 100.0, -100.0, 150.0, -150.0, 210.0, -210.0}) {
            for (const double place : {0.5, 0.4, 0.6, 0.32, 0.68, 0.24, 0.76, 0.16}) {
                PathCurve tried = curve;
                shape(tried, offset, place);
                const double cost =
                    std::abs(offset) * 0.3 + std::abs(place - 0.5) * 30.0 + collisions(tried);
                if (cost < best) {
                    best = cost;
                    chosen = tried;
                }
            }
        }
        curve = chosen;
    }

    void shape(PathCurve& curve, double offset, double place) const {
        const PathBox& from = out_.boxes[static_cast<std::size_t>(curve.from)];
        const PathBox& to = out_.boxes[static_cast<std::size_t>(curve.to)];
        const double length = std::max(distance(from.middle, to.middle), 1.0);
        const double dx = (to.middle.x - from.middle.x) / length;
        const double dy = (to.middle.y - from.middle.y) / length;
        curve.control = {0.5 * (from.middle.x + to.middle.x) - 2.0 * offset * dy,
                         0.5 * (from.middle.y + to.middle.y) + 2.0 * offset * dx};
        curve.start = edgeToward(from, curve.control);
        curve.end = edgeToward(to, curve.control);
        curve.textAt = curve.at(place);
    }

    [[nodiscard]] double collisions(const PathCurve& curve) const {
        double cost = 0.0;
        for (double t = 0.02; t < 1.0; t += 0.04) {
            const PicturePoint point = curve.at(t);
            for (std::size_t b = 0; b < out_.boxes.size(); ++b) {
                const bool own =
                    static_cast<int>(b) == curve.from || static_cast<int>(b) == curve.to;
                cost += !own && out_.boxes[b].holds(point) ? 60.0 : 0.0;
            }
            const bool outside = point.x < 2.0 || point.y < 2.0 || point.x > out_.width - 2.0 ||
                                 point.y > out_.height - 2.0;
            cost += outside ? 40.0 : 0.0;
        }
        const double half = 0.5 * textWidth(curve.text, 12.0) + 4.0;
        for (const PathBox& box : out_.boxes) {
            const bool over =
                std::abs(box.middle.x - curve.textAt.x) < 0.5 * box.width + half &&
                std::abs(box.middle.y - curve.textAt.y) < 0.5 * (box.height + kTextHeight);
            cost += over ? 150.0 : 0.0;
        }
        for (const PathCurve& other : out_.curves) {
            const double reach = half + 0.5 * textWidth(other.text, 12.0) + 4.0;
            const bool over = std::abs(other.textAt.x - curve.textAt.x) < reach &&
                              std::abs(other.textAt.y - curve.textAt.y) < kTextHeight + 2.0;
            cost += over ? 120.0 : 0.0;
        }
        return cost;
    }

    /// Causes whose correlations are drawn: no levels of one grouping, few.
    [[nodiscard]] std::vector<int> drawnTogether() const {
        std::vector<int> out;
        for (std::size_t v = 0; v < trace_.nodes.size(); ++v) {
            const TraceNode& node = trace_.nodes[v];
            if (node.equation < 0 && !node.held && levelAt(node.name) == std::string::npos) {
                out.push_back(static_cast<int>(v));
            }
        }
        return out.size() > kMostTogether ? std::vector<int>() : out;
    }

    void addTogether() {
        const auto causes = drawnTogether();
        for (std::size_t a = 0; a < causes.size(); ++a) {
            for (std::size_t b = a + 1; b < causes.size(); ++b) {
                PathCurve curve;
                curve.from = out_.boxOf(causes[a]);
                curve.to = out_.boxOf(causes[b]);
                const double r = trace_.together(causes[a], causes[b]);
                if (curve.from < 0 || curve.to < 0 || !std::isfinite(r)) {
                    continue;
                }
                const PathBox& from = out_.boxes[static_cast<std::size_t>(curve.from)];
                const PathBox& to = out_.boxes[static_cast<std::size_t>(curve.to)];
                const double left =
                    std::min(from.middle.x - 0.5 * from.width, to.middle.x - 0.5 * to.width);
                const double reach = 26.0 + 22.0 * static_cast<double>(b - a);
                curve.start = {from.middle.x - 0.5 * from.width, from.middle.y};
                curve.end = {to.middle.x - 0.5 * to.width, to.middle.y};
                curve.control = {std::max(left - reach, 2.0), 0.5 * (from.middle.y + to.middle.y)};
                curve.width = 0.8;
                curve.text = "r " + fixedNumber(r, 2, true);
                curve.textAt = curve.at(0.5);
                curve.textAt.x = std::max(curve.textAt.x - 2.0, 18.0);
                out_.curves.push_back(std::move(curve));
            }
        }
    }

    const Trace& trace_;
    const std::map<std::string, NodePlace>& places_;
    PathLayout out_;
    double widest_ = 200.0;
    bool numbersAlone_ = false;  ///< Without their errors: the nodes stand close.
};

}  // namespace

bool PathBox::holds(PicturePoint point) const {
    return std::abs(point.x - middle.x) <= 0.5 * width + 3.0 &&
           std::abs(point.y - middle.y) <= 0.5 * height + 3.0;
}

PicturePoint PathCurve::at(double share) const {
    const double rest = 1.0 - share;
    return {rest * rest * start.x + 2.0 * rest * share * control.x + share * share * end.x,
            rest * rest * start.y + 2.0 * rest * share * control.y + share * share * end.y};
}

int PathLayout::boxOf(int node) const {
    for (std::size_t b = 0; b < boxes.size(); ++b) {
        if (boxes[b].node == node) {
            return static_cast<int>(b);
        }
    }
    return -1;
}

PathLayout layoutPaths(const Trace& trace, const std::map<std::string, NodePlace>& places,
                       double width, double height) {
    return Layouter(trace, places, width, height).run();
}

Drawing pathDrawing(const Trace& trace, const std::map<std::string, NodePlace>& places,
                    double width, double height) {
    // Laid out at the size of the window and shrunk, so that boxes keep their room.
    constexpr double kScreen = 640.0;
    const double scale = width / kScreen;
    const PathLayout layout = layoutPaths(trace, places, kScreen, height / scale);
    const auto at = [&](double x, double y) { return Drawing::Point{x * scale, y * scale}; };
    Drawing out;
    out.width = width;
    out.height = height;
    for (const PathCurve& c : layout.curves) {
        const bool together = c.arrow < 0;
        const std::string colour = together ? "#6B6F7B" : c.broken ? "#8A93A3" : "#14606B";
        out.curve(at(c.start.x, c.start.y), at(c.control.x, c.control.y), at(c.end.x, c.end.y),
                  {.stroke = colour, .width = c.width * scale, .dashed = c.broken});
        if (!together) {
            const double length = std::max(distance(c.control, c.end), 1.0);
            const double dx = (c.end.x - c.control.x) / length;
            const double dy = (c.end.y - c.control.y) / length;
            const double size = 8.0 + c.width;
            const double side = 3.5 + 0.6 * c.width;
            out.path({at(c.end.x, c.end.y),
                      at(c.end.x - size * dx - side * dy, c.end.y - size * dy + side * dx),
                      at(c.end.x - size * dx + side * dy, c.end.y - size * dy - side * dx)},
                     {.fill = colour}, true);
        }
    }
    for (const PathCurve& c : layout.curves) {
        const double half = 0.5 * textWidth(c.text, 12.0) + 4.0;
        out.box(at(c.textAt.x - half, c.textAt.y - 8.0), 2.0 * half * scale, 16.0 * scale,
                {.fill = "#FFFFFF", .opacity = 0.92});
        out.words(at(c.textAt.x, c.textAt.y + 4.0), c.text, 12.0 * scale,
                  c.arrow < 0 ? "#6B6F7B" : "#232733", Drawing::Anchor::Middle);
    }
    for (const PathBox& box : layout.boxes) {
        out.box(at(box.middle.x - 0.5 * box.width, box.middle.y - 0.5 * box.height),
                box.width * scale, box.height * scale,
                {.stroke = box.last ? "#7A4069" : "#708090", .width = 1.0, .fill = "#F1EDE4"},
                0.5 * box.height * scale);
        const double room = (box.width - 10.0) * scale;
        out.words(at(box.middle.x, box.middle.y + (box.below.empty() ? 4.5 : -2.0)),
                  fittedWords(box.name, 13.5 * scale, room), 13.5 * scale, "#232733",
                  Drawing::Anchor::Middle);
        if (!box.below.empty()) {
            out.words(at(box.middle.x, box.middle.y + 13.0),
                      fittedWords(box.below, 11.0 * scale, room), 11.0 * scale, "#6B6F7B",
                      Drawing::Anchor::Middle);
        }
    }
    return out;
}

std::string pathPictureSvg(const Trace& trace, const std::map<std::string, NodePlace>& places,
                           double width, double height) {
    return svgOf(pathDrawing(trace, places, width, height), "Lato, sans-serif");
}

}  // namespace rapporto
