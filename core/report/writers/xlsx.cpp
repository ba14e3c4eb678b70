// The tables of a report as a workbook: a sheet a table, numbers as numbers in the dress that the
// table gives them.
#include "core/base/markup.h"
#include "core/base/memory_file.h"
#include "core/report/writers/writer.h"

#include <fmt/format.h>
#include <xlsxwriter.h>

#include <algorithm>
#include <map>
#include <set>

namespace rapporto {
namespace {

using Kind = ReportBlock::Kind;

/// “Table 2” of a caption’s number, as a name that a sheet may have: at most 31 letters, none of
/// []:*?/\, and not taken yet.
std::string sheetName(const std::string& caption, std::size_t number,
                      std::set<std::string>& taken) {
    const auto runs = textRuns(caption);
    std::string name = !runs.empty() && runs.front().bold ? runs.front().text : std::string();
    std::erase_if(name,
                  [](char c) { return std::string("[]:*?/\\.").find(c) != std::string::npos; });
    if (name.empty() || name.size() > 31) {
        name = "Table " + std::to_string(number);
    }
    while (!taken.insert(name).second) {
        name = "Sheet " + std::to_string(number++);
    }
    return name;
}

/// How the text of a cell dresses its number: “(.047)” is "("0.000")".
std::string numberFormat(const std::string& text) {
    const std::size_t first = text.find_first_of("0123456789.");
    if (first == std::string::npos) {
        return "General";
    }
    const std::size_t last = text.find_last_of("0123456789");
    std::string before = text.substr(0, first);
    if (const std::size_t minus = before.find("−"); minus != std::string::npos) {
        before.erase(minus, std::string("−").size());
    }
    const std::string after = last == std::string::npos ? "" : text.substr(last + 1);
    const std::size_t mark = text.find_first_of(".,", first);
    const std::size_t decimals =
        mark == std::string::npos || mark > last ? 0 : std::min<std::size_t>(last - mark, 12);
    const auto quoted = [](const std::string& words) {
        return words.empty() ? "" : "\"" + withoutMarks(words) + "\"";
    };
    if (text.find("×10") != std::string::npos) {
        return "0.00E+00";
    }
    return quoted(before) + (decimals == 0 ? "0" : "0." + std::string(decimals, '0')) +
           quoted(after);
}

class Book {
  public:
    explicit Book(lxw_workbook* book) : book_(book) {}

    void add(const std::string& caption, const ReportBlock& block, const std::string& note) {
        ++number_;
        lxw_worksheet* sheet =
            workbook_add_worksheet(book_, sheetName(caption, number_, taken_).c_str());
        lxw_row_t at = 0;
        worksheet_write_string(sheet, at++, 0, withoutMarks(caption).c_str(), nullptr);
        at += 1;
        const auto widths = block.columnWidths(1.0);
        for (std::size_t c = 0; c < widths.size(); ++c) {
            const auto column = static_cast<lxw_col_t>(c);
            worksheet_set_column(sheet, column, column,
                                 std::clamp(2.0 * widths[c] + 2.0, 8.0, 60.0), nullptr);
        }
        for (std::size_t r = 0; r < block.cells.size(); ++r) {
            row(sheet, at++, block, r);
        }
        if (!note.empty()) {
            worksheet_write_string(sheet, at + 1, 0, withoutMarks(note).c_str(), nullptr);
        }
        worksheet_freeze_panes(sheet, static_cast<lxw_row_t>(2 + block.heads), 1);
    }

    [[nodiscard]] bool empty() const { return number_ == 0; }

  private:
    void row(lxw_worksheet* sheet, lxw_row_t at, const ReportBlock& block, std::size_t r) {
        const bool rule = r < block.heads || block.hasRule(r);
        lxw_col_t column = 0;
        for (const Cell& cell : block.cells[r]) {
            const std::string text = withoutMarks(cell.text);
            const bool left = column == 0 || block.holdsSentences();
            if (cell.value && !text.empty()) {
                worksheet_write_number(sheet, at, column, *cell.value,
                                       format(numberFormat(text), rule, false));
            } else if (cell.span > 1 && !text.empty()) {
                worksheet_merge_range(sheet, at, column, at,
                                      static_cast<lxw_col_t>(column + cell.span - 1), text.c_str(),
                                      format("@", rule, true, true));
            } else if (!text.empty() || rule) {
                worksheet_write_string(sheet, at, column, text.c_str(), format("@", rule, left));
            }
            column = static_cast<lxw_col_t>(column + cell.span);
        }
    }

    lxw_format* format(const std::string& numbers, bool rule, bool left, bool middle = false) {
        const std::string key = fmt::format("{}{}{}{}", rule, left, middle, numbers);
        lxw_format*& one = formats_[key];
        if (one == nullptr) {
            one = workbook_add_format(book_);
            format_set_num_format(one, numbers.c_str());
            format_set_align(one, middle ? LXW_ALIGN_CENTER
                                  : left ? LXW_ALIGN_LEFT
                                         : LXW_ALIGN_RIGHT);
            if (rule) {
                format_set_bottom(one, LXW_BORDER_THIN);
            }
        }
        return one;
    }

    lxw_workbook* book_;
    std::map<std::string, lxw_format*> formats_;
    std::set<std::string> taken_;
    std::size_t number_ = 0;
};

}  // namespace

Result<WrittenReport> writeXlsxTables(const ReportPages& pages, const std::string& /*stem*/) {
    // The library writes files only.
    const MemoryFile file;
    lxw_workbook* handle = workbook_new(file.path().c_str());
    lxw_doc_properties properties{};
    std::string title = pages.title.substr(0, 200);
    properties.title = title.data();
    properties.created = 315532800;  // 1980-01-01: the same report gives the same bytes.
    workbook_set_properties(handle, &properties);
    Book book(handle);
    std::string caption;
    for (std::size_t i = 0; i < pages.blocks.size(); ++i) {
        const ReportBlock& b = pages.blocks[i];
        if (b.kind == Kind::Caption) {
            caption = b.text;
        } else if (b.kind == Kind::Table) {
            const bool noted =
                i + 1 < pages.blocks.size() && pages.blocks[i + 1].kind == Kind::Note;
            book.add(caption.empty() ? pages.title : caption, b,
                     noted ? pages.blocks[i + 1].text : std::string());
            caption.clear();
        }
    }
    if (book.empty()) {
        worksheet_write_string(workbook_add_worksheet(handle, "Report"), 0, 0,
                               "This report has no table.", nullptr);
    }
    const lxw_error closed = workbook_close(handle);
    WrittenReport written{file.bytes(), {}};
    if (closed != LXW_NO_ERROR || written.bytes.empty()) {
        return refuse(ErrorCode::File,
                      std::string("the workbook cannot be made: ") + lxw_strerror(closed), "report",
                      "Choose another file type.");
    }
    return written;
}

}  // namespace rapporto
