#pragma once

#include "core/picture/drawing.h"

#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace rapporto {

/// One cell of a table.
struct Cell {
    std::string text;             ///< As it reads; ** marks what is bold.
    std::optional<double> value;  ///< The number that it shows, with all its digits.
    int span = 1;                 ///< Columns that it stands over; those cells are left out.
    std::string part;             ///< What of its item it is, where that can be edited: "head:0".

    Cell() = default;

    // NOLINTBEGIN(google-explicit-constructor): a cell is its text.
    Cell(std::string words) : text(std::move(words)) {}

    Cell(const char* words) : text(words) {}

    // NOLINTEND(google-explicit-constructor)

    Cell(std::string words, double number) : text(std::move(words)), value(number) {}

    [[nodiscard]] static Cell over(int columns, std::string words) {
        Cell cell(std::move(words));
        cell.span = columns;
        return cell;
    }

    friend bool operator==(const Cell& cell, const std::string& words) {
        return cell.text == words;
    }
};

using CellRow = std::vector<Cell>;

/// One piece of an equation.
struct MathPiece {
    enum class Kind : std::uint8_t { Name, Number, Sign };

    Kind kind = Kind::Name;
    std::string text;
    std::string beneath;  ///< Of a number its standard error; may be empty.
};

using MathRow = std::vector<MathPiece>;

/// A report as values: blocks in order, each of one kind. Writers turn it into files and pages.
struct ReportBlock {
    enum class Kind : std::uint8_t {
        Heading,
        Paragraph,
        Bullet,
        Caption,
        Table,
        Figure,
        Equation,
        Note,
        Reference,
    };

    Kind kind = Kind::Paragraph;
    std::string text;                ///< Marked with ** where bold; of a figure what it shows.
    std::vector<CellRow> cells;      ///< Of a table.
    std::size_t heads = 1;           ///< Its first rows that are heads.
    std::vector<std::size_t> rules;  ///< Rows of a table below which a line stands.
    Drawing figure;
    MathRow equation;
    int item = -1;     ///< The report item that it belongs to.
    std::string part;  ///< What of its item it is, where that can be edited: caption, note, text.

    /// Columns of a table, spans counted.
    [[nodiscard]] std::size_t columns() const;

    /// A line stands below this row.
    [[nodiscard]] bool hasRule(std::size_t row) const;

    /// A table whose cells hold sentences: they read from the left and are set in lines.
    [[nodiscard]] bool holdsSentences() const;

    /// About how wide each column of a table is in letters of this size: no line is broken but
    /// those of long heads.
    [[nodiscard]] std::vector<double> columnWidths(double size) const;
};

/// A long equation in lines that fit a room in letters of this size; the next one begins with a
/// sign.
[[nodiscard]] std::vector<MathRow> brokenEquation(const MathRow& row, double room, double size);

/// The room that a head of a column needs when its words may go on several lines.
[[nodiscard]] double headRoom(const std::string& words, double size);

/// Columns of sentences in a room: what is short keeps its width, the rest is shared by how much
/// there is to say. Without the gaps between them.
[[nodiscard]] std::vector<double> sharedWidths(const std::vector<double>& natural, double room,
                                               double gap);

/// A report with what stands above it.
struct ReportPages {
    std::string title;
    std::string subtitle;
    std::string byline;  ///< Authors, and a date.
    std::string language = "en";
    std::vector<ReportBlock> blocks;
};

/// Where blocks are put in order; tables and figures are numbered as they come.
class ReportSheet {
  public:
    explicit ReportSheet(std::string language = "en") : language_(std::move(language)) {}

    void put(ReportBlock::Kind kind, std::string text, std::string part = {});

    void add(ReportBlock block) { blocks_.push_back(std::move(block)); }

    /// A block that was numbered before: its caption takes the next number.
    void addNumbered(ReportBlock block);

    /// “**Table 2.** …”.
    void tableCaption(const std::string& words);
    void figureCaption(const std::string& words);

    /// @param shows  in words, for those who cannot see it.
    void addFigure(Drawing drawing, const std::string& shows);

    /// A fixed word in the report’s language.
    [[nodiscard]] std::string word(const std::string& english) const;

    [[nodiscard]] const std::string& language() const { return language_; }

    [[nodiscard]] std::vector<ReportBlock>& blocks() { return blocks_; }

  private:
    std::string language_;
    std::vector<ReportBlock> blocks_;
    int tables_ = 0;
    int figures_ = 0;
};

/// How a report dresses its numbers and fixed words.
struct ReportDress {
    std::string decimal = ".";
    std::string thousands = "\u202F";
    std::string language = "en";

    friend bool operator==(const ReportDress&, const ReportDress&) = default;
};

/// Numbers in a text (“.032”, “1 234.5”, “−2.10”) with these marks; a name that holds digits, a
/// date, a version stay as they are. With a comma a zero stands before it.
[[nodiscard]] std::string dressed(const std::string& text, const ReportDress& dress);

/// All texts of the blocks in that dress, but for those that a person wrote (part "text").
void dress(std::vector<ReportBlock>& blocks, const ReportDress& dress);

}  // namespace rapporto
