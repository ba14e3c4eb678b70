#pragma once

#include "core/report/blocks.h"
#include "core/report/press/type.h"

#include <functional>
#include <string>
#include <vector>

namespace rapporto {

/// What stands somewhere on a page, already measured.
struct Piece {
    std::size_t page = 0;
    double x = 0.0;
    double y = 0.0;
    double width = 0.0;
    double height = 0.0;
    std::size_t block = 0;
    const char* tag = "P";  ///< Of the document's structure: H1, P, Caption, Figure, TD, …
    int row = -1;           ///< Of a table; −1 elsewhere.
    std::string part;       ///< Of a cell that can be edited.
    std::function<void(cairo_t*)> paint;  ///< At its own corner.
};

/// A page by its kind.
struct PageKind {
    bool turned = false;
};

/// All pages, in the order in which they are read.
struct SetPages {
    std::vector<PageKind> pages;
    std::vector<Piece> pieces;
};

/// A4 in points, and what is left white around it (22 mm).
inline constexpr double kShortSide = 595.28;
inline constexpr double kLongSide = 841.89;
inline constexpr double kMargin = 62.4;

/// Where the next thing goes; begins pages as they fill.
class Column {
  public:
    explicit Column(SetPages& out) : out_(&out) { begin(false); }

    [[nodiscard]] double width() const {
        return (turned() ? kLongSide : kShortSide) - 2.0 * kMargin;
    }

    [[nodiscard]] double room() const { return bottom() - y_; }

    [[nodiscard]] double whole() const { return bottom() - kMargin; }

    [[nodiscard]] bool isTop() const { return y_ <= kMargin; }

    [[nodiscard]] bool turned() const { return out_->pages.back().turned; }

    /// A new page unless an empty one of that kind stands open.
    void begin(bool turned);

    /// A new page when less than `height` is left.
    void need(double height) {
        if (room() < height && !isTop()) {
            begin(turned());
        }
    }

    /// White space; none at the top of a page.
    void skip(double height) {
        if (!isTop()) {
            y_ += height;
        }
    }

    /// Puts a piece at the left edge plus `x` and goes below it.
    void put(Piece piece, double x = 0.0);

    /// Puts a piece beside the others: the place stays.
    void putHere(Piece piece, double x, double below = 0.0);

    void go(double height) { y_ += height; }

  private:
    [[nodiscard]] double bottom() const { return (turned() ? kShortSide : kLongSide) - kMargin; }

    SetPages* out_;
    double y_ = kMargin;
};

/// Lines of a set text from `from` up to `to` as a piece of their height.
[[nodiscard]] Piece linesPiece(const LayoutPtr& layout, int from, int to,
                               const std::string& colour);

/// How far the lines of a set text go, from `from`, within a height; one at least.
[[nodiscard]] int linesWithin(const LayoutPtr& layout, int from, double height);

/// Sets a table: smaller letters, then a page on its side, then its columns part by part.
void setTable(Column& column, const Type& type, const ReportBlock& block, std::size_t index,
              const std::function<void()>& caption);

/// Sets an equation, broken at its signs.
void setEquation(Column& column, const Type& type, const ReportBlock& block, std::size_t index);

/// All of a report.
[[nodiscard]] SetPages setPages(const Type& type, const ReportPages& report);

}  // namespace rapporto
