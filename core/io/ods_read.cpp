// OpenDocument spreadsheets in (OASIS OpenDocument 1.2, part 1, section 9).
#include "core/io/sheet_archive.h"
#include "core/io/sheet_cells.h"
#include "core/io/table_file.h"

#include <algorithm>
#include <cstring>
#include <memory>
#include <optional>

namespace rapporto {
namespace {

constexpr long kMostRows = 1048576;
constexpr long kMostColumns = 16384;
constexpr int kDeepest = 64;
constexpr std::size_t kMostSpaces = std::size_t{1} << 26U;

/// One cell and those right of it that repeat it; columns from 0, both ends included.
struct Run {
    long first = 0;
    long last = 0;
    SheetCell cell;
};

/// A row and those below that repeat it.
struct Band {
    long first = 0;
    long last = 0;
    std::vector<Run> runs;
};

/// How often a part repeats itself; at least once, whatever is written there.
long repeatsOf(const pugi::xml_node& node, const char* name, long most) {
    return std::clamp<long>(node.attribute(name).as_llong(1), 1, most);
}

/// Reads the tables of a document. What is written once and repeated stays written once, so that
/// memory is bounded by the text; how deep parts may lie in each other is bounded, too.
class Reader {
  public:
    explicit Reader(const Job& job) : job_(job) {}

    [[nodiscard]] const std::optional<Refusal>& refusal() const { return refusal_; }

    [[nodiscard]] Sheet sheetOf(const pugi::xml_node& table);

  private:
    void addWords(const pugi::xml_node& node, int depth, std::string& out);
    [[nodiscard]] std::string wordsOf(const pugi::xml_node& cell);
    [[nodiscard]] SheetCell cellOf(const pugi::xml_node& node);
    [[nodiscard]] std::vector<Run> runsOf(const pugi::xml_node& row);
    void addRows(const pugi::xml_node& parent, int depth, std::vector<Band>& rows);

    void refuseFor(ErrorCode code, std::string what) {
        if (!refusal_) {
            refusal_ = Refusal{code, std::move(what), {}, "Save it anew as delimited text.", {}};
        }
    }

    Job job_;
    std::optional<Refusal> refusal_;
    long row_ = 0;
    std::size_t spaces_ = 0;
};

/// The words of a cell: paragraphs on lines of their own, runs of spaces and tabs written out.
void Reader::addWords(const pugi::xml_node& node, int depth, std::string& out) {
    if (depth > kDeepest) {
        refuseFor(ErrorCode::Syntax, "the words of a cell are nested too deep");
    }
    for (const pugi::xml_node& child : node.children()) {
        if (refusal_) {
            return;
        }
        if (child.type() == pugi::node_pcdata || child.type() == pugi::node_cdata) {
            out += child.value();
        } else if (std::strcmp(child.name(), "text:s") == 0) {
            const std::size_t count = child.attribute("text:c").as_uint(1);
            spaces_ += count;
            if (spaces_ > kMostSpaces) {
                refuseFor(ErrorCode::TooLarge, "its cells hold more spaces than anything");
                return;
            }
            out.append(count, ' ');
        } else if (std::strcmp(child.name(), "text:tab") == 0) {
            out += '\t';
        } else if (std::strcmp(child.name(), "text:line-break") == 0) {
            out += '\n';
        } else if (std::strcmp(child.name(), "office:annotation") != 0) {
            addWords(child, depth + 1, out);
        }
    }
}

std::string Reader::wordsOf(const pugi::xml_node& cell) {
    std::string out;
    bool first = true;
    for (const pugi::xml_node& paragraph : cell.children("text:p")) {
        out += first ? "" : "\n";
        first = false;
        addWords(paragraph, 0, out);
    }
    return out;
}

SheetCell Reader::cellOf(const pugi::xml_node& node) {
    SheetCell out;
    const std::string type = node.attribute("office:value-type").as_string();
    if (std::strcmp(node.attribute("calcext:value-type").as_string(), "error") == 0) {
        out.kind = SheetCell::Kind::Error;
    } else if (type == "float" || type == "percentage" || type == "currency") {
        // Numbers are written with a full stop in every locale.
        out.kind = SheetCell::Kind::Number;
        out.number = node.attribute("office:value").as_double();
    } else if (type == "date") {
        const std::string date =
            std::string(node.attribute("office:date-value").as_string()).substr(0, 10);
        const auto days = parseDate(date, true);
        out.kind = days ? SheetCell::Kind::Date : SheetCell::Kind::Error;
        out.number = days.value_or(0.0);
    } else if (type == "boolean") {
        out.kind = SheetCell::Kind::Truth;
        out.number = node.attribute("office:boolean-value").as_bool() ? 1.0 : 0.0;
    } else if (!type.empty()) {
        out.text = wordsOf(node);
        out.kind = out.text.empty() ? SheetCell::Kind::Empty : SheetCell::Kind::Text;
    }
    return out;
}

std::vector<Run> Reader::runsOf(const pugi::xml_node& row) {
    std::vector<Run> runs;
    long column = 0;
    for (const pugi::xml_node& child : row.children()) {
        const bool cell = std::strcmp(child.name(), "table:table-cell") == 0 ||
                          std::strcmp(child.name(), "table:covered-table-cell") == 0;
        if (!cell || column >= kMostColumns) {
            continue;
        }
        const long repeats =
            repeatsOf(child, "table:number-columns-repeated", kMostColumns - column);
        SheetCell one = cellOf(child);
        if (one.kind != SheetCell::Kind::Empty) {
            runs.push_back({column, column + repeats - 1, std::move(one)});
        }
        column += repeats;
    }
    return runs;
}

/// Rows may stand in groups, header rows and row groups.
void Reader::addRows(const pugi::xml_node& parent, int depth, std::vector<Band>& rows) {
    if (depth > kDeepest) {
        refuseFor(ErrorCode::Syntax, "its groups of rows are nested too deep");
    }
    std::size_t seen = 0;
    for (const pugi::xml_node& node : parent.children()) {
        if (refusal_ || row_ >= kMostRows) {
            return;
        }
        if ((++seen & 1023U) == 0 && job_.stopped()) {
            refuseFor(ErrorCode::Stopped, "reading was stopped");
            return;
        }
        if (std::strcmp(node.name(), "table:table-row") != 0) {
            const bool holder = std::strncmp(node.name(), "table:table-row", 15) == 0 ||
                                std::strcmp(node.name(), "table:table-header-rows") == 0;
            if (holder) {
                addRows(node, depth + 1, rows);
            }
            continue;
        }
        const long repeats = repeatsOf(node, "table:number-rows-repeated", kMostRows - row_);
        std::vector<Run> runs = runsOf(node);
        if (!runs.empty()) {
            rows.push_back({row_, row_ + repeats - 1, std::move(runs)});
        }
        row_ += repeats;
    }
}

Sheet Reader::sheetOf(const pugi::xml_node& table) {
    auto rows = std::make_shared<std::vector<Band>>();
    row_ = 0;
    addRows(table, 0, *rows);
    Sheet out;
    out.name = table.attribute("table:name").as_string();
    if (rows->empty()) {
        out.lastRow = -1;
        return out;
    }
    out.firstRow = rows->front().first;
    out.lastRow = rows->back().last;
    for (const Band& band : *rows) {
        out.lastColumn = std::max(out.lastColumn, band.runs.back().last);
        out.filled += band.runs.size();
    }
    out.cell = [rows](long row, long column) {
        const auto band = std::partition_point(rows->begin(), rows->end(),
                                               [row](const Band& b) { return b.last < row; });
        if (band == rows->end() || band->first > row) {
            return SheetCell{};
        }
        const auto run = std::partition_point(band->runs.begin(), band->runs.end(),
                                              [column](const Run& r) { return r.last < column; });
        return run == band->runs.end() || run->first > column ? SheetCell{} : run->cell;
    };
    return out;
}

}  // namespace

Result<Import> readOds(const std::string& path, const ReaderOptions& options, const Job& job) {
    const auto archive = SheetArchive::open(path);
    if (!archive) {
        return tl::make_unexpected(archive.error());
    }
    pugi::xml_document document;
    std::vector<char> text;
    if (auto done = archive->parse("content.xml", document, text, job); !done) {
        return tl::make_unexpected(done.error());
    }
    Reader reader(job);
    std::vector<Sheet> sheets;
    const pugi::xml_node body =
        document.child("office:document-content").child("office:body").child("office:spreadsheet");
    for (const pugi::xml_node& table : body.children("table:table")) {
        Sheet sheet = reader.sheetOf(table);
        if (sheet.lastRow >= 0) {
            sheets.push_back(std::move(sheet));
        }
    }
    if (reader.refusal()) {
        Refusal refusal = *reader.refusal();
        refusal.where = path;
        return tl::make_unexpected(refusal);
    }
    return tableOfSheets(sheets, path, options, job);
}

}  // namespace rapporto
