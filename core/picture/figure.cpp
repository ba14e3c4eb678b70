#include "core/picture/figure.h"

#include "core/base/format.h"
#include "core/picture/axis.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cmath>
#include <map>

namespace rapporto {
namespace {

using Point = Drawing::Point;
using Pen = Drawing::Pen;
using Anchor = Drawing::Anchor;

const std::string kInk = "#232733";
const std::string kSoft = "#6B6F7B";
const std::string kGrid = "#E7E1D4";
const std::string kBars = "#9FABBF";
const std::string kAccent = "#14606B";
const std::string kPaper = "#FFFFFF";

constexpr double kLetters = 8.5;
constexpr std::size_t kDensePoints = 20000;  // From here points melt into shading.

std::string seriesColour(int series) {
    static const std::array kColours = {"#35527D", "#B9822B", "#7A4069",
                                        "#5B7B3A", "#A4513A", "#708090"};
    return kColours[static_cast<std::size_t>(std::max(series, 0)) % kColours.size()];
}

/// From −1 (clay) through paper to 1 (ink-blue).
std::string shadeColour(double shade) {
    const std::array<int, 3> end =
        shade < 0.0 ? std::array{0xA4, 0x51, 0x3A} : std::array{0x35, 0x52, 0x7D};
    const std::array<int, 3> paper = {0xF1, 0xED, 0xE4};
    const double part = std::min(std::abs(shade), 1.0);
    const auto mix = [&](std::size_t k) {
        return static_cast<int>(std::lround(paper[k] + (end[k] - paper[k]) * part));
    };
    return fmt::format("#{:02X}{:02X}{:02X}", mix(0), mix(1), mix(2));
}

class Painter {
  public:
    Painter(Drawing& out, const Exhibit& exhibit, Point corner, double width, double height)
        : out_(out),
          e_(exhibit),
          reach_(reachOf(exhibit)),
          corner_(corner),
          width_(width),
          height_(height) {}

    void run() {
        if (!e_.barNames.empty()) {
            lyingBars();
            return;
        }
        place();
        if (e_.compact) {
            out_.box(corner_, width_, height_, {.stroke = "#D9D2C3"});
        } else {
            axes();
        }
        bands();
        bars();
        if (!e_.pointsHidden) {
            points();
        }
        boxes();
        lines();
        if (e_.compact && !e_.bars.empty() && !e_.tiles) {
            out_.words({corner_.x + 4.0, corner_.y + 11.0},
                       fittedWords(e_.title, kLetters, width_ - 8.0), kLetters, kInk)
                .bold = true;
        }
        const bool labelled = std::any_of(e_.lines.begin(), e_.lines.end(), [](const auto& line) {
            return line.series >= 0 && !line.name.empty();
        });
        if (!labelled && !e_.seriesNames.empty()) {
            legend();
        }
    }

  private:
    [[nodiscard]] double px(double x) const {
        return left_ + (x - reach_.x0) / (reach_.x1 - reach_.x0) * (right_ - left_);
    }

    [[nodiscard]] double py(double y) const {
        return bottom_ - (y - reach_.y0) / (reach_.y1 - reach_.y0) * (bottom_ - top_);
    }

    [[nodiscard]] double heldY(double y) const { return std::clamp(py(y), top_, bottom_); }

    [[nodiscard]] double heldX(double x) const { return std::clamp(px(x), left_, right_); }

    [[nodiscard]] std::vector<Tick> uprightTicks() const {
        return e_.yTicks.empty() && !(e_.tiles && e_.yTitle.empty())
                   ? ticksOn(e_.yScale, reach_.y0, reach_.y1,
                             std::max(2, static_cast<int>((bottom_ - top_) / 40.0)))
                   : e_.yTicks;
    }

    void place() {
        if (e_.compact) {
            left_ = corner_.x + 2.0;
            right_ = corner_.x + width_ - 2.0;
            top_ = corner_.y + 2.0;
            bottom_ = corner_.y + height_ - 2.0;
            return;
        }
        top_ = corner_.y + (e_.yTitle.empty() ? 8.0 : 20.0);
        bottom_ = corner_.y + height_ - (e_.xTitle.empty() ? 16.0 : 30.0);
        right_ = corner_.x + width_ - 10.0;
        double room = 18.0;
        for (const Tick& tick : uprightTicks()) {
            room = std::max(room, wordsWidth(tick.text, kLetters) + 9.0);
        }
        left_ = corner_.x + std::min(room, 0.3 * width_);
    }

    void axes() {
        for (const Tick& tick : uprightTicks()) {
            const double y = py(tick.at);
            const bool zero = e_.zeroLine && tick.at == 0.0;
            if (!e_.tiles) {
                out_.line({left_, y}, {right_, y},
                          {.stroke = zero ? kSoft : kGrid, .width = zero ? 1.1 : 0.7});
            }
            out_.words({left_ - 5.0, y + 3.0},
                       fittedWords(tick.text, kLetters, left_ - corner_.x - 5.0), kLetters, kSoft,
                       Anchor::End);
        }
        std::vector<Tick> xs = e_.xTicks;
        for (std::size_t k = 0; k < e_.xNames.size(); ++k) {
            xs.push_back({static_cast<double>(k) + 1.0, e_.xNames[k]});
        }
        const bool named = !xs.empty();
        if (!named) {
            xs = ticksOn(e_.xScale, reach_.x0, reach_.x1,
                         std::max(2, static_cast<int>((right_ - left_) / 58.0)));
        }
        for (std::size_t k = 0; k < xs.size(); ++k) {
            const double at = px(xs[k].at);
            double room = 70.0;
            if (named) {
                const double before = k > 0 ? at - px(xs[k - 1].at) : 2.0 * (at - left_);
                const double after =
                    k + 1 < xs.size() ? px(xs[k + 1].at) - at : 2.0 * (right_ - at);
                room = std::min(before, after) - 3.0;
            }
            if (room >= 8.0) {
                out_.words({at, bottom_ + 11.0}, fittedWords(xs[k].text, kLetters, room), kLetters,
                           kSoft, Anchor::Middle);
            }
        }
        if (e_.fromZero) {
            out_.line({left_, py(0.0)}, {right_, py(0.0)}, {.stroke = kInk, .width = 0.9});
        }
        if (!e_.yTitle.empty()) {
            out_.words({corner_.x, corner_.y + 9.0}, fittedWords(e_.yTitle, kLetters + 0.5, width_),
                       kLetters + 0.5, kSoft);
        }
        if (!e_.xTitle.empty()) {
            out_.words({0.5 * (left_ + right_), corner_.y + height_ - 4.0},
                       fittedWords(e_.xTitle, kLetters + 0.5, right_ - left_), kLetters + 0.5,
                       kSoft, Anchor::Middle);
        }
    }

    void bands() {
        for (const auto& band : e_.bands) {
            if (band.x.size() < 2) {
                continue;
            }
            std::vector<Point> ground;
            for (std::size_t i = 0; i < band.x.size(); ++i) {
                ground.push_back({heldX(band.x[i]), heldY(band.high[i])});
            }
            for (std::size_t i = band.x.size(); i-- > 0;) {
                ground.push_back({heldX(band.x[i]), heldY(band.low[i])});
            }
            out_.path(std::move(ground),
                      {.fill = band.series < 0 ? kAccent : seriesColour(band.series),
                       .opacity = band.name == "a row" ? 0.07 : 0.14},
                      true);
        }
    }

    void bars() {
        for (const auto& bar : e_.bars) {
            const double x0 = heldX(bar.x0);
            const double x1 = heldX(bar.x1);
            const double wide = x1 - x0 - (!e_.tiles && x1 - x0 > 3.0 ? 0.7 : 0.0);
            const double y0 = heldY(bar.y1);
            const double high = heldY(bar.y0) - y0;
            if (wide <= 0.0 || high <= 0.0) {
                continue;
            }
            out_.box({x0, y0}, wide, high, {.fill = bar.shade ? shadeColour(*bar.shade) : kBars});
            if (!bar.label.empty() && high > 10.0 && wordsWidth(bar.label, kLetters) < wide - 3.0) {
                out_.words({x0 + 0.5 * wide, y0 + 0.5 * high + 3.0}, bar.label, kLetters,
                           bar.shade && std::abs(*bar.shade) > 0.6 ? kPaper : kInk, Anchor::Middle);
            }
        }
    }

    [[nodiscard]] Point pointAt(std::size_t i) const {
        return {px(e_.x[i] + (e_.dx.empty() ? 0.0 : static_cast<double>(e_.dx[i]))),
                py(e_.y[i] + (e_.dy.empty() ? 0.0 : static_cast<double>(e_.dy[i])))};
    }

    [[nodiscard]] bool isInside(Point at) const {
        return at.x >= left_ - 4.0 && at.x <= right_ + 4.0 && at.y >= top_ - 4.0 &&
               at.y <= bottom_ + 4.0;
    }

    void points() {
        const std::size_t n = std::min(e_.x.size(), e_.y.size());
        if (n > kDensePoints) {
            melted(n);
            return;
        }
        const double size = e_.compact || n > 3000 ? 1.2 : 1.8;
        const double opacity = n > 3000 ? 0.24 : e_.compact ? 0.31 : 0.41;
        for (std::size_t i = 0; i < n; ++i) {
            const Point at = pointAt(i);
            if (std::isfinite(at.x) && std::isfinite(at.y) && isInside(at)) {
                mark(at, e_.series.empty() ? 0 : e_.series[i], size, opacity);
            }
        }
    }

    /// Many points as small squares, shaded by the logarithm of their number.
    void melted(std::size_t n) {
        constexpr double kCell = 2.5;
        std::map<std::pair<int, int>, int> cells;
        int most = 1;
        for (std::size_t i = 0; i < n; ++i) {
            const Point at = pointAt(i);
            if (std::isfinite(at.x) && std::isfinite(at.y) && isInside(at)) {
                most = std::max(most, ++cells[{static_cast<int>((at.x - left_) / kCell),
                                               static_cast<int>((at.y - top_) / kCell)}]);
            }
        }
        for (const auto& [cell, count] : cells) {
            out_.box({left_ + cell.first * kCell, top_ + cell.second * kCell}, kCell, kCell,
                     {.fill = seriesColour(0),
                      .opacity = 0.12 + 0.78 * std::log1p(count) / std::log1p(most)});
        }
    }

    /// A data point; the shape repeats the colour’s distinction.
    void mark(Point at, int series, double size, double opacity) {
        const Pen pen{.fill = seriesColour(series), .opacity = opacity};
        const auto shape = [&](std::vector<Point> by) {
            for (Point& one : by) {
                one = {at.x + one.x * size, at.y + one.y * size};
            }
            out_.path(std::move(by), pen, true);
        };
        switch (series % 6) {
            case 0:
                out_.circle(at, size, pen);
                break;
            case 1:
                shape({{-1, -1}, {1, -1}, {1, 1}, {-1, 1}});
                break;
            case 2:
                shape({{0, -1.4}, {1.3, 1}, {-1.3, 1}});
                break;
            case 3:
                shape({{0, -1.5}, {1.5, 0}, {0, 1.5}, {-1.5, 0}});
                break;
            case 4:
                shape({{0, 1.4}, {1.3, -1}, {-1.3, -1}});
                break;
            default:
                out_.circle(at, size, {.stroke = seriesColour(series), .width = 0.9});
        }
    }

    void boxes() {
        for (const auto& box : e_.boxes) {
            const double left = px(box.at - 0.2);
            const double right = px(box.at + 0.2);
            const double middle = px(box.at);
            const Pen thin{.stroke = kInk, .width = 0.8};
            out_.line({middle, heldY(box.low)}, {middle, heldY(box.lowerQuartile)}, thin);
            out_.line({middle, heldY(box.upperQuartile)}, {middle, heldY(box.high)}, thin);
            out_.box({left, heldY(box.upperQuartile)}, right - left,
                     heldY(box.lowerQuartile) - heldY(box.upperQuartile),
                     {.stroke = kInk,
                      .width = 0.8,
                      .fill = kPaper,
                      .opacity = e_.pointsHidden ? 1.0 : 0.6});
            out_.line({left, heldY(box.median)}, {right, heldY(box.median)},
                      {.stroke = kInk, .width = 1.8});
        }
        for (const auto& one : e_.intervals) {
            const std::string colour = one.series < 0 ? kAccent : seriesColour(one.series);
            const double x = px(one.at);
            out_.line({x, heldY(one.low)}, {x, heldY(one.high)}, {.stroke = colour, .width = 1.6});
            out_.circle({x, heldY(one.estimate)}, 3.1,
                        {.stroke = kPaper, .width = 0.8, .fill = colour});
        }
    }

    /// The parts of a line that lie within the axes.
    void strokeInside(const std::vector<double>& x, const std::vector<double>& y, const Pen& pen) {
        std::vector<Point> part;
        const auto flush = [&] { out_.path(std::exchange(part, {}), pen, false); };
        for (std::size_t i = 1; i < x.size() && i < y.size(); ++i) {
            Point a{px(x[i - 1]), py(y[i - 1])};
            Point b{px(x[i]), py(y[i])};
            if (!clip(a, b)) {
                flush();
                continue;
            }
            if (part.empty() || part.back().x != a.x || part.back().y != a.y) {
                flush();
                part.push_back(a);
            }
            part.push_back(b);
        }
        flush();
    }

    /// Cuts a stretch to the area; false: nothing of it is left.
    /// Source: Liang & Barsky (1984), ACM Transactions on Graphics 3.
    [[nodiscard]] bool clip(Point& a, Point& b) const {
        if (!std::isfinite(a.x + a.y + b.x + b.y)) {
            return false;
        }
        double from = 0.0;
        double to = 1.0;
        const double dx = b.x - a.x;
        const double dy = b.y - a.y;
        const std::array<std::pair<double, double>, 4> sides = {
            {{-dx, a.x - left_}, {dx, right_ - a.x}, {-dy, a.y - top_}, {dy, bottom_ - a.y}}};
        for (const auto& [p, q] : sides) {
            if (p == 0.0) {
                if (q < 0.0) {
                    return false;
                }
            } else if (p < 0.0) {
                from = std::max(from, q / p);
            } else {
                to = std::min(to, q / p);
            }
        }
        if (from > to) {
            return false;
        }
        const Point start = a;
        if (from > 0.0) {
            a = {start.x + from * dx, start.y + from * dy};
        }
        if (to < 1.0) {
            b = {start.x + to * dx, start.y + to * dy};
        }
        return true;
    }

    struct Label {
        Point at;
        std::string name;
        std::string colour;
    };

    void lines() {
        std::vector<Label> labels;
        for (const auto& line : e_.lines) {
            if (line.x.empty()) {
                continue;
            }
            const std::string colour = line.series >= 0 ? seriesColour(line.series)
                                       : line.faint     ? std::string("#B7C1D1")
                                       : line.dashed    ? kInk
                                                        : kAccent;
            strokeInside(line.x, line.y,
                         {.stroke = colour,
                          .width = line.faint    ? 0.6
                                   : line.dashed ? 0.9
                                                 : 1.5,
                          .dashed = line.dashed});
            if (!line.name.empty() && !e_.compact) {
                labels.push_back({endOf(line), line.name, line.series >= 0 ? colour : kInk});
            }
        }
        nameLines(std::move(labels));
    }

    /// The last place of a line that can be seen; of a density on its slope.
    [[nodiscard]] Point endOf(const Exhibit::Line& line) const {
        std::size_t end = line.x.size() - 1;
        const double peak = *std::max_element(line.y.begin(), line.y.end());
        while (e_.fromZero && end > 0 && line.y[end] < 0.45 * peak) {
            --end;
        }
        while (end > 0 && (py(line.y[end]) < top_ + 3.0 || py(line.y[end]) > bottom_ ||
                           px(line.x[end]) > right_ - 3.0)) {
            --end;
        }
        return {px(line.x[end]), py(line.y[end])};
    }

    /// Names at the ends of lines, moved apart where they would overlap.
    void nameLines(std::vector<Label> labels) {
        std::sort(labels.begin(), labels.end(),
                  [](const Label& a, const Label& b) { return a.at.y < b.at.y; });
        double below = top_ + 2.0;
        for (const Label& label : labels) {
            const double base = std::max(label.at.y - 5.0, below + kLetters);
            const double width = wordsWidth(label.name, kLetters);
            const bool left = label.at.x + width + 6.0 > right_;
            const double x = left ? std::max(label.at.x - width - 2.0, left_) : label.at.x + 5.0;
            out_.box({x - 1.5, base - kLetters + 0.5}, width + 3.0, kLetters + 2.5,
                     {.fill = kPaper, .opacity = 0.75});
            out_.words({x, base}, label.name, kLetters, label.colour);
            below = base + 2.0;
        }
    }

    void legend() {
        double y = top_ + 8.0;
        for (std::size_t k = 0; k < e_.seriesNames.size(); ++k) {
            const double width = wordsWidth(e_.seriesNames[k], kLetters);
            mark({right_ - width - 9.0, y - 3.0}, static_cast<int>(k), 2.4, 0.9);
            out_.words({right_ - width - 3.0, y}, e_.seriesNames[k], kLetters, kInk);
            y += 11.5;
        }
    }

    void lyingBars() {
        const double left = corner_.x + 0.28 * width_;
        const double right = corner_.x + width_ - 40.0;
        double most = 1.0;
        for (const double v : e_.x) {
            most = std::max(most, v);
        }
        for (const auto& line : e_.lines) {
            most = std::max(most, line.x.front() * 1.05);
        }
        const double count = std::max<double>(static_cast<double>(e_.x.size()), 1.0);
        const double high = std::min(22.0, (height_ - 26.0) / count);
        for (std::size_t i = 0; i < e_.x.size(); ++i) {
            const double y = corner_.y + 20.0 + high * static_cast<double>(i);
            const double end = left + e_.x[i] / most * (right - left);
            out_.words({corner_.x, y + 0.5 * high + 3.0},
                       fittedWords(e_.barNames[i], kLetters + 0.5, 0.27 * width_), kLetters + 0.5,
                       kInk);
            out_.box({left, y + 2.0}, std::max(end - left, 0.2), high - 6.0, {.fill = kBars});
            out_.words({end + 4.0, y + 0.5 * high + 2.0}, shortNumber(e_.x[i], 3), kLetters, kInk);
        }
        for (const auto& line : e_.lines) {
            const double x = left + line.x.front() / most * (right - left);
            out_.line({x, corner_.y + 14.0}, {x, corner_.y + 20.0 + high * count},
                      {.stroke = kSoft, .width = 0.8, .dashed = true});
            out_.words({x, corner_.y + 10.0}, line.name, kLetters, kSoft, Anchor::Middle);
        }
    }

    Drawing& out_;
    const Exhibit& e_;
    Reach reach_;
    Point corner_;
    double width_;
    double height_;
    double left_ = 0.0;
    double right_ = 0.0;
    double top_ = 0.0;
    double bottom_ = 0.0;
};

}  // namespace

Drawing exhibitDrawing(const Exhibit& exhibit, double width, double height) {
    Drawing out;
    out.width = width;
    out.height = height;
    Painter(out, exhibit, {0.0, 0.0}, width, height).run();
    return out;
}

Drawing pictureDrawing(const DrawnPicture& picture, double width) {
    if (picture.exhibits.empty()) {
        return {};
    }
    if (picture.exhibits.size() == 1) {
        return exhibitDrawing(picture.exhibits.front(), width, 0.58 * width);
    }
    Drawing out;
    const std::size_t columns = std::max<std::size_t>(picture.columns, 1);
    const std::size_t rows = (picture.exhibits.size() + columns - 1) / columns;
    const double wide = width / static_cast<double>(columns);
    const double high = columns > 2 ? 0.8 * wide : 0.62 * wide;
    out.width = width;
    out.height = high * static_cast<double>(rows);
    for (std::size_t i = 0; i < picture.exhibits.size(); ++i) {
        const Point corner{wide * static_cast<double>(i % columns) + 2.0,
                           high * static_cast<double>(i / columns) + 2.0};
        Painter(out, picture.exhibits[i], corner, wide - 4.0, high - 4.0).run();
    }
    return out;
}

}  // namespace rapporto
