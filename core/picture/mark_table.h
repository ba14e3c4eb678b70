#pragma once

#include "core/describe/exhibit.h"

#include <functional>
#include <memory>

namespace rapporto {

/// What one mark of a picture stands for.
struct Mark {
    enum class Kind : std::uint8_t { Point, Bar, Box, Interval, Place, Band };

    Kind kind = Kind::Point;
    std::size_t of = 0;     ///< The point, bar, box, interval, line or band.
    std::size_t place = 0;  ///< Of a line or a band: which of its places.
    double x = 0.0;         ///< Where it stands, in the coordinates of the axes.
    double y = 0.0;
};

/// A picture as a table of its marks, for those who read it instead of seeing it, and for whoever
/// wants its numbers: a mark a row, points first, then bars, boxes, intervals, and the places of
/// lines and bands. Cells are written when they are asked for, so that a million points cost
/// nothing. A regular value.
class MarkTable {
  public:
    /// Names a source row; null: “row 12”.
    using RowNamer = std::function<std::string(std::size_t)>;

    MarkTable() = default;
    explicit MarkTable(std::shared_ptr<const Exhibit> exhibit, RowNamer namer = {});

    [[nodiscard]] std::size_t rows() const { return ends_.empty() ? 0 : ends_.back(); }

    [[nodiscard]] std::size_t columns() const { return heads_.size(); }

    /// “mark”, “name”, the axes’ titles, and “from”, “to” where marks have two ends.
    [[nodiscard]] const std::string& head(std::size_t column) const { return heads_[column]; }

    [[nodiscard]] Mark mark(std::size_t row) const;

    [[nodiscard]] std::string cell(std::size_t row, std::size_t column) const;

    /// Source rows behind a mark; empty: it is no row’s.
    [[nodiscard]] std::vector<std::size_t> sourceRows(std::size_t row) const;

    /// Heads and cells with tabs between, a line a row; ends after `most` rows and says so.
    [[nodiscard]] std::string text(std::size_t most) const;

    /// A mark in a sentence: “point, Ambra: hives 4, revenue 12,300”.
    [[nodiscard]] std::string sentence(std::size_t row) const;

  private:
    [[nodiscard]] std::string nameOf(const Mark& mark) const;
    [[nodiscard]] std::string onX(double x) const;
    [[nodiscard]] std::string onY(double y) const;

    std::shared_ptr<const Exhibit> exhibit_;
    RowNamer namer_;
    std::vector<std::string> heads_;
    /// Where the marks of each part end: points, bars, boxes, intervals, each line, each band.
    std::vector<std::size_t> ends_;
    bool ends2_ = false;  ///< Some marks reach from one value to another.
};

}  // namespace rapporto
