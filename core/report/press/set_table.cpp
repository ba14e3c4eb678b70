// Tables on pages. Nothing is clipped: what is too wide gets smaller letters, then a page on its
// side, then its columns part by part, the first one repeated.
#include "core/report/press/piece.h"

#include <algorithm>
#include <numeric>

namespace rapporto {
namespace {

constexpr double kLargest = 9.5;   // Size of the letters, where there is room.
constexpr double kSmallest = 7.5;  // Below this nobody reads them.
constexpr double kGap = 10.0;      // Between columns.
constexpr double kPad = 1.4;       // Above and below a row.

const std::string kInk = "#232733";
const std::string kSoft = "#6B6F7B";

double sum(const std::vector<double>& widths) {
    return std::accumulate(widths.begin(), widths.end(), 0.0) +
           kGap * static_cast<double>(widths.empty() ? 0 : widths.size() - 1);
}

Piece rule(double width, double thick, const std::string& colour) {
    Piece piece;
    piece.width = width;
    piece.tag = nullptr;
    piece.paint = [width, thick, colour](cairo_t* cr) {
        useColour(cr, colour);
        cairo_set_line_width(cr, thick);
        cairo_move_to(cr, 0.0, 0.0);
        cairo_line_to(cr, width, 0.0);
        cairo_stroke(cr);
    };
    return piece;
}

class TableSetter {
  public:
    TableSetter(Column& column, const Type& type, const ReportBlock& block, std::size_t index)
        : column_(column), type_(type), block_(block), index_(index) {}

    void run(const std::function<void()>& caption) {
        if (block_.cells.empty() || block_.columns() == 0) {
            caption();
            return;
        }
        measure();
        const bool turned = choose();
        if (turned != column_.turned()) {
            column_.begin(turned);
        }
        bool first = true;
        for (const auto& part : parts_) {
            const auto rows = setRows(part);
            const double head =
                std::accumulate(rows.begin(), rows.begin() + heads(), 0.0,
                                [](double all, const Row& row) { return all + row.height; });
            // The caption, the head and some rows stay together.
            column_.need(head + 110.0);
            if (first) {
                caption();
            } else {
                column_.skip(10.0);
            }
            first = false;
            place(part, rows);
        }
        column_.go(4.0);
    }

  private:
    struct Placed {
        LayoutPtr layout;
        double x = 0.0;
        double width = 0.0;  ///< Of the columns that it stands over.
        bool over = false;   ///< A common head: a line goes under it.
        bool first = false;
        std::string part;  ///< Where it can be edited.
    };

    struct Row {
        std::vector<Placed> cells;
        double height = 0.0;
    };

    [[nodiscard]] std::ptrdiff_t heads() const {
        return static_cast<std::ptrdiff_t>(std::min(block_.heads, block_.cells.size()));
    }

    [[nodiscard]] Face face() const {
        Face face;
        face.size = size_;
        face.leading = 1.25;
        return face;
    }

    /// Widths at the largest size that need no line to break but those of long heads.
    void measure() {
        natural_.assign(block_.columns(), 0.0);
        for (std::size_t r = 0; r < block_.cells.size(); ++r) {
            std::size_t at = 0;
            for (const Cell& cell : block_.cells[r]) {
                if (cell.span == 1 && !cell.text.empty()) {
                    const double whole = widthOf(type_.set(cell.text, face()));
                    natural_[at] = std::max(natural_[at],
                                            r < block_.heads
                                                ? std::min(whole, 1.1 * headRoom(cell.text, size_))
                                                : whole);
                }
                at += static_cast<std::size_t>(cell.span);
            }
        }
        for (double& width : natural_) {
            width += 0.5;  // Of rounding, or a cell would break its last word off.
        }
    }

    /// Fixes size, widths and parts; whether the page lies on its side.
    bool choose() {
        const double upright = kShortSide - 2.0 * kMargin;
        const double lying = kLongSide - 2.0 * kMargin;
        parts_ = {{}};
        for (std::size_t c = 0; c < natural_.size(); ++c) {
            parts_[0].push_back(c);
        }
        constexpr double kNarrowest = 40.0;  // A column of sentences.
        if (block_.holdsSentences()) {
            widths_ = sharedWidths(natural_, upright, kGap);
            if (*std::min_element(widths_.begin(), widths_.end()) > 0.0 &&
                upright > (kNarrowest + kGap) * static_cast<double>(widths_.size())) {
                return false;
            }
            for (double& width : natural_) {
                width = std::min(width, 3.5 * kNarrowest);
            }
        }
        for (const double room : {upright, lying}) {
            for (size_ = kLargest; size_ >= kSmallest; size_ -= 0.5) {
                if (fits(room)) {
                    stretch(room);
                    return room > upright;
                }
            }
        }
        size_ = 8.0;
        (void)fits(lying);
        divide(lying);
        return true;
    }

    /// Whether all columns fit at this size, the first one broken into lines where it is long.
    bool fits(double room) {
        widths_ = natural_;
        for (double& width : widths_) {
            width *= size_ / kLargest;
        }
        widths_[0] = std::min(widths_[0], 0.4 * room);
        return sum(widths_) <= room;
    }

    /// A narrow table takes three quarters of the page: its first column grows.
    void stretch(double room) { widths_[0] += std::max(0.0, 0.75 * room - sum(widths_)); }

    void divide(double room) {
        parts_.clear();
        std::vector<std::size_t> part = {0};
        double used = widths_[0];
        for (std::size_t c = 1; c < widths_.size(); ++c) {
            widths_[c] = std::min(widths_[c], room - widths_[0] - kGap);
            if (part.size() > 1 && used + kGap + widths_[c] > room) {
                parts_.push_back(part);
                part = {0};
                used = widths_[0];
            }
            part.push_back(c);
            used += kGap + widths_[c];
        }
        parts_.push_back(part);
    }

    std::vector<Row> setRows(const std::vector<std::size_t>& part) {
        std::vector<Row> rows;
        for (std::size_t r = 0; r < block_.cells.size(); ++r) {
            Row row;
            std::size_t at = 0;
            for (const Cell& cell : block_.cells[r]) {
                const std::size_t end = at + static_cast<std::size_t>(cell.span);
                if (auto placed = setCell(part, r, cell, at, end)) {
                    row.height = std::max(row.height, heightOf(placed->layout));
                    row.cells.push_back(*std::move(placed));
                }
                at = end;
            }
            row.height = std::max(row.height, size_ * 1.25) + 2.0 * kPad;
            rows.push_back(std::move(row));
        }
        return rows;
    }

    /// A cell over the columns from `at` up to `end`, as far as this part has them.
    std::optional<Placed> setCell(const std::vector<std::size_t>& part, std::size_t r,
                                  const Cell& cell, std::size_t at, std::size_t end) {
        double x = 0.0;
        std::optional<double> from;
        double to = 0.0;
        for (const std::size_t c : part) {
            if (c >= at && c < end) {
                from = from ? from : x;
                to = x + widths_[c];
            }
            x += widths_[c] + kGap;
        }
        if (!from) {
            return std::nullopt;
        }
        const bool head = r < block_.heads;
        const bool left = at == 0 || (block_.holdsSentences() && !cell.value);
        Placed placed;
        placed.x = *from;
        placed.width = to - *from;
        placed.first = at == 0;
        placed.part = cell.part;
        placed.over = head && cell.span > 1 && at > 0 && !cell.text.empty();
        placed.layout = type_.set(cell.text, face(), placed.width,
                                  left            ? PANGO_ALIGN_LEFT
                                  : cell.span > 1 ? PANGO_ALIGN_CENTER
                                                  : PANGO_ALIGN_RIGHT);
        return placed;
    }

    void place(const std::vector<std::size_t>& part, const std::vector<Row>& rows) {
        double width = -kGap;
        for (const std::size_t c : part) {
            width += widths_[c] + kGap;
        }
        const auto first = static_cast<std::size_t>(heads());
        double head = 0.0;
        for (std::size_t r = 0; r < first; ++r) {
            head += rows[r].height;
        }
        const auto begin = [&] {
            line(width, 1.2, kInk);
            for (std::size_t r = 0; r < first; ++r) {
                put(rows[r], r, width);
            }
        };
        begin();
        for (std::size_t r = first; r < rows.size(); ++r) {
            // An error stays under its estimate.
            const bool pair = r + 1 < rows.size() && block_.cells[r + 1].front().text.empty();
            const double needed = rows[r].height + (pair ? rows[r + 1].height : 0.0) + 4.0;
            const bool alone = !block_.cells[r].front().text.empty();
            if (alone && column_.room() < needed && column_.whole() > head + needed) {
                line(width, 0.6, kSoft);
                column_.begin(column_.turned());
                begin();
            }
            put(rows[r], r, width);
        }
        line(width, 1.2, kInk);
    }

    void line(double width, double thick, const std::string& colour) {
        Piece piece = rule(width, thick, colour);
        piece.block = index_;
        column_.putHere(std::move(piece), 0.0);
        column_.go(1.6);
    }

    void put(const Row& row, std::size_t r, double width) {
        if (row.height > column_.whole()) {
            putInParts(row, r);
        } else {
            column_.need(row.height);
            for (const Placed& cell : row.cells) {
                putLines(cell, r, 0, pango_layout_get_line_count(cell.layout.get()));
                if (cell.over) {
                    Piece under = rule(cell.width, 0.6, kSoft);
                    under.block = index_;
                    column_.putHere(std::move(under), cell.x, row.height - 0.4);
                }
            }
            column_.go(row.height);
        }
        if (block_.hasRule(r) && r + 1 < block_.cells.size()) {
            line(width, 0.6, kSoft);
        }
    }

    /// A row that is higher than a page goes on over several, line by line.
    void putInParts(const Row& row, std::size_t r) {
        std::vector<int> next(row.cells.size(), 0);
        bool more = true;
        while (more) {
            column_.need(4.0 * size_);
            more = false;
            double height = 0.0;
            const double room = column_.room() - 2.0 * kPad;
            for (std::size_t c = 0; c < row.cells.size(); ++c) {
                const Placed& cell = row.cells[c];
                const int count = pango_layout_get_line_count(cell.layout.get());
                if (next[c] >= count) {
                    continue;
                }
                const int to = linesWithin(cell.layout, next[c], room);
                height = std::max(height, putLines(cell, r, next[c], to));
                next[c] = to;
                more = more || to < count;
            }
            column_.go(height + 2.0 * kPad);
            if (more) {
                column_.begin(column_.turned());
            }
        }
    }

    /// @return how high they stand.
    double putLines(const Placed& cell, std::size_t r, int from, int to) {
        Piece piece = linesPiece(cell.layout, from, to, kInk);
        const double height = piece.height;
        piece.width = cell.width;
        piece.block = index_;
        piece.row = static_cast<int>(r);
        piece.part = cell.part;
        piece.tag = r < block_.heads || cell.first ? "TH" : "TD";
        column_.putHere(std::move(piece), cell.x, kPad);
        return height;
    }

    Column& column_;
    const Type& type_;
    const ReportBlock& block_;
    std::size_t index_;
    double size_ = kLargest;
    std::vector<double> natural_;
    std::vector<double> widths_;
    std::vector<std::vector<std::size_t>> parts_;
};

}  // namespace

void setTable(Column& column, const Type& type, const ReportBlock& block, std::size_t index,
              const std::function<void()>& caption) {
    TableSetter(column, type, block, index).run(caption);
}

}  // namespace rapporto
