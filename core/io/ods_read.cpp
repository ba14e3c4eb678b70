// OpenDocument spreadsheets in (OASIS OpenDocument 1.2, part 1, section 9): the archive by
// liborcus, the markup by pugixml.
#include "core/io/sheet_cells.h"
#include "core/io/table_file.h"

#include <orcus/stream.hpp>
#include <orcus/zip_archive.hpp>
#include <orcus/zip_archive_stream.hpp>
#include <pugixml.hpp>

#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <memory>

namespace rapporto {
namespace {

using Rows = std::vector<std::vector<SheetCell>>;

constexpr long kMostRepeats = 1048576;

/// The words of a cell: paragraphs on lines of their own, runs of spaces and tabs written out.
void addWords(const pugi::xml_node& node, std::string& out) {
    for (const pugi::xml_node& child : node.children()) {
        if (child.type() == pugi::node_pcdata || child.type() == pugi::node_cdata) {
            out += child.value();
        } else if (std::strcmp(child.name(), "text:s") == 0) {
            out.append(child.attribute("text:c").as_uint(1), ' ');
        } else if (std::strcmp(child.name(), "text:tab") == 0) {
            out += '\t';
        } else if (std::strcmp(child.name(), "text:line-break") == 0) {
            out += '\n';
        } else if (std::strcmp(child.name(), "office:annotation") != 0) {
            addWords(child, out);
        }
    }
}

std::string wordsOf(const pugi::xml_node& cell) {
    std::string out;
    bool first = true;
    for (const pugi::xml_node& paragraph : cell.children("text:p")) {
        out += first ? "" : "\n";
        first = false;
        addWords(paragraph, out);
    }
    return out;
}

SheetCell cellOf(const pugi::xml_node& node) {
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

/// Rows may stand in groups, header rows and row groups.
void addRows(const pugi::xml_node& parent, Rows& rows) {
    for (const pugi::xml_node& node : parent.children()) {
        if (std::strcmp(node.name(), "table:table-row") != 0) {
            const bool holder = std::strncmp(node.name(), "table:table-row", 15) == 0 ||
                                std::strcmp(node.name(), "table:table-header-rows") == 0;
            if (holder) {
                addRows(node, rows);
            }
            continue;
        }
        std::vector<SheetCell> row;
        long blank = 0;
        for (const pugi::xml_node& child : node.children()) {
            const bool cell = std::strcmp(child.name(), "table:table-cell") == 0 ||
                              std::strcmp(child.name(), "table:covered-table-cell") == 0;
            if (!cell) {
                continue;
            }
            const long repeats =
                std::min<long>(child.attribute("table:number-columns-repeated").as_llong(1), 16384);
            const SheetCell one = cellOf(child);
            if (one.kind == SheetCell::Kind::Empty) {
                blank += repeats;  // Kept only where something follows.
                continue;
            }
            row.resize(row.size() + static_cast<std::size_t>(blank));
            blank = 0;
            row.insert(row.end(), static_cast<std::size_t>(repeats), one);
        }
        const long repeats =
            std::min<long>(node.attribute("table:number-rows-repeated").as_llong(1), kMostRepeats);
        rows.insert(rows.end(), static_cast<std::size_t>(repeats), row);
        if (row.empty() && repeats > 10000) {
            rows.resize(rows.size() - static_cast<std::size_t>(repeats));  // The sheet's far end.
        }
    }
}

Sheet sheetOf(const pugi::xml_node& table) {
    auto rows = std::make_shared<Rows>();
    addRows(table, *rows);
    while (!rows->empty() && rows->back().empty()) {
        rows->pop_back();
    }
    Sheet out;
    out.name = table.attribute("table:name").as_string();
    out.lastRow = static_cast<long>(rows->size()) - 1;
    out.firstRow = 0;
    while (out.firstRow < out.lastRow && (*rows)[static_cast<std::size_t>(out.firstRow)].empty()) {
        ++out.firstRow;
    }
    for (const auto& row : *rows) {
        out.lastColumn = std::max(out.lastColumn, static_cast<long>(row.size()) - 1);
    }
    out.cell = [rows](long row, long column) {
        const auto& cells = (*rows)[static_cast<std::size_t>(row)];
        return column < static_cast<long>(cells.size()) ? cells[static_cast<std::size_t>(column)]
                                                        : SheetCell{};
    };
    return out;
}

}  // namespace

Result<Import> readOds(const std::string& path, const ReaderOptions& options, const Job& job) {
    if (!std::filesystem::is_regular_file(path)) {
        return refuse(ErrorCode::File, "the file cannot be opened", path,
                      "Check that it is there and may be read.");
    }
    pugi::xml_document document;
    try {
        orcus::zip_archive_stream_fd stream(path.c_str());
        orcus::zip_archive archive(&stream);
        archive.load();
        std::vector<unsigned char> content;
        if (!archive.read_file_entry("content.xml", content)) {
            return refuse(ErrorCode::Syntax, "there is no spreadsheet in this archive", path);
        }
        const auto parsed = document.load_buffer(
            content.data(), content.size(), pugi::parse_default | pugi::parse_ws_pcdata_single);
        if (!parsed) {
            return refuse(ErrorCode::Syntax,
                          std::string("this spreadsheet cannot be read: ") + parsed.description(),
                          path, "Open it where it was made and save it again.");
        }
    } catch (const std::exception& fault) {
        // The library throws on broken archives: what a person can cause.
        return refuse(ErrorCode::Syntax,
                      std::string("this spreadsheet cannot be read: ") + fault.what(), path,
                      "Open it where it was made and save it again.");
    }
    std::vector<Sheet> sheets;
    const pugi::xml_node body =
        document.child("office:document-content").child("office:body").child("office:spreadsheet");
    for (const pugi::xml_node& table : body.children("table:table")) {
        Sheet sheet = sheetOf(table);
        if (sheet.lastRow >= 0) {
            sheets.push_back(std::move(sheet));
        }
    }
    return tableOfSheets(sheets, path, options, job);
}

}  // namespace rapporto
