// Office Open XML spreadsheets in (ECMA-376, part 1, sections 18.2 to 18.8): cells with their kinds
// from the markup of each sheet; dates by the number format of the cell.
#include "core/base/room.h"
#include "core/io/sheet_archive.h"
#include "core/io/sheet_cells.h"
#include "core/io/table_file.h"

#include <fast_float/fast_float.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <filesystem>
#include <map>
#include <memory>
#include <set>

namespace rapporto {
namespace {

using pugi::xml_node;

constexpr long kMostRows = 1048576;
constexpr long kMostColumns = 16384;

/// A name without the prefix that its namespace happens to have: “x:row” and “row” are one.
const char* plainName(const xml_node& node) {
    const char* colon = std::strchr(node.name(), ':');
    return colon == nullptr ? node.name() : colon + 1;
}

bool is(const xml_node& node, const char* name) { return std::strcmp(plainName(node), name) == 0; }

xml_node childOf(const xml_node& parent, const char* name) {
    for (const xml_node& child : parent.children()) {
        if (is(child, name)) {
            return child;
        }
    }
    return {};
}

/// An attribute whatever its prefix.
const char* attributeOf(const xml_node& node, const char* name) {
    for (const pugi::xml_attribute& one : node.attributes()) {
        const char* colon = std::strchr(one.name(), ':');
        if (std::strcmp(colon == nullptr ? one.name() : colon + 1, name) == 0) {
            return one.value();
        }
    }
    return "";
}

/// A format that shows a year, a month in words, or a day: “yyyy-mm-dd”, not “0.00%”, “[h]:mm”.
bool isDateFormat(std::string_view code) {
    bool quoted = false;
    bool bracketed = false;
    bool year = false;
    bool day = false;
    for (std::size_t i = 0; i < code.size(); ++i) {
        const char c = code[i];
        if (c == '\\' || c == '_') {
            ++i;
        } else if (c == '"') {
            quoted = !quoted;
        } else if (!quoted && (c == '[' || c == ']')) {
            bracketed = c == '[';
        } else if (!quoted && !bracketed) {
            year = year || c == 'y' || c == 'Y';
            day = day || c == 'd' || c == 'D';
        }
    }
    return year || day;
}

/// Built-in number formats 14 to 17 and 22 show dates (ECMA-376, part 1, section 18.8.30).
bool isDateId(unsigned id) { return (id >= 14 && id <= 17) || id == 22; }

/// “_x000D_” for what markup cannot hold (22.4.2.4); of these only line ends and tabs are texts.
std::string unescaped(std::string words) {
    if (words.find("_x") == std::string::npos) {
        return words;
    }
    for (const auto& [code, mark] : {std::pair("_x000D_", ""), std::pair("_x000A_", "\n"),
                                     std::pair("_x0009_", "\t"), std::pair("_x005F_", "_")}) {
        for (auto at = words.find(code); at != std::string::npos;
             at = words.find(code, at + std::strlen(mark))) {
            words.replace(at, std::strlen(code), mark);
        }
    }
    return words;
}

/// The words of a shared or inline string: its runs one after the other, without what is only said
/// of their sound (18.4.8).
std::string wordsOf(const xml_node& item) {
    std::string out;
    for (const xml_node& part : item.children()) {
        if (is(part, "t")) {
            out += part.text().get();
        } else if (is(part, "r")) {
            out += childOf(part, "t").text().get();
        }
    }
    return unescaped(std::move(out));
}

/// “BC12” as zero-based column and row; false when it is no such name.
bool placeOf(const char* name, long& row, long& column) {
    long letters = 0;
    const char* at = name;
    for (; *at >= 'A' && *at <= 'Z' && letters <= kMostColumns; ++at) {
        letters = letters * 26 + (*at - 'A' + 1);
    }
    long digits = 0;
    const bool both = at != name && *at != '\0';
    for (; *at >= '0' && *at <= '9' && digits <= kMostRows; ++at) {
        digits = digits * 10 + (*at - '0');
    }
    column = letters - 1;
    row = digits - 1;
    return both && *at == '\0' && letters >= 1 && letters <= kMostColumns && digits >= 1 &&
           digits <= kMostRows;
}

bool numberIn(const char* text, double& value) {
    const char* end = text + std::strlen(text);
    const auto read = fast_float::from_chars(text, end, value);
    return read.ec == std::errc() && read.ptr == end && end != text;
}

/// What the sheets of one file share.
struct Book {
    std::vector<std::string> strings;
    std::vector<bool> dates;   ///< One a cell format: it shows a date.
    double origin = -25569.0;  ///< Day 0, counted from 1970-01-01: 1899-12-30.
};

void readStyles(const xml_node& styles, Book& book) {
    std::set<unsigned> dates;
    for (const xml_node& format : childOf(styles, "numFmts").children()) {
        if (isDateFormat(attributeOf(format, "formatCode"))) {
            dates.insert(
                static_cast<unsigned>(std::strtoul(attributeOf(format, "numFmtId"), nullptr, 10)));
        }
    }
    for (const xml_node& format : childOf(styles, "cellXfs").children()) {
        if (is(format, "xf")) {
            const auto id =
                static_cast<unsigned>(std::strtoul(attributeOf(format, "numFmtId"), nullptr, 10));
            book.dates.push_back(isDateId(id) || dates.contains(id));
        }
    }
}

SheetCell cellOf(const xml_node& node, const Book& book) {
    SheetCell out;
    const std::string type = attributeOf(node, "t");
    const char* value = childOf(node, "v").text().get();
    double number = 0.0;
    const auto textOr = [&](std::string words) {
        out.kind = words.empty() ? SheetCell::Kind::Empty : SheetCell::Kind::Text;
        out.text = std::move(words);
    };
    if (type == "inlineStr") {
        textOr(wordsOf(childOf(node, "is")));
    } else if (type == "s") {
        // A string that is not there is a fault of the file, and shown as one.
        const bool known = numberIn(value, number) && number >= 0.0 &&
                           number < static_cast<double>(book.strings.size());
        known ? textOr(book.strings[static_cast<std::size_t>(number)])
              : void(out.kind = SheetCell::Kind::Error);
    } else if (type == "str") {
        textOr(unescaped(value));
    } else if (type == "e") {
        out.kind = SheetCell::Kind::Error;
    } else if (type == "b") {
        out.kind = SheetCell::Kind::Truth;
        out.number = std::strcmp(value, "1") == 0 || std::strcmp(value, "true") == 0 ? 1.0 : 0.0;
    } else if (type == "d") {
        const auto days = parseDate(std::string(value).substr(0, 10), true);
        out.kind = days ? SheetCell::Kind::Date : SheetCell::Kind::Error;
        out.number = days.value_or(0.0);
    } else if (*value == '\0') {
        // A formula that was saved without its result.
        out.kind = childOf(node, "f") ? SheetCell::Kind::Error : SheetCell::Kind::Empty;
    } else if (!numberIn(value, number)) {
        out.kind = SheetCell::Kind::Error;
    } else {
        const auto format = std::strtoul(attributeOf(node, "s"), nullptr, 10);
        const bool date = format < book.dates.size() && book.dates[format];
        out.kind = date ? SheetCell::Kind::Date : SheetCell::Kind::Number;
        out.number = date ? std::floor(number) + book.origin : number;
    }
    return out;
}

using Row = std::vector<std::pair<long, SheetCell>>;  // By column, in order.

/// Filled cells alone, so that one in the far corner costs no more than one in the first row.
using Rows = std::map<long, Row>;

Result<Rows> rowsOf(const xml_node& data, const Book& book, const std::string& path,
                    const Job& job) {
    Rows rows;
    long row = -1;
    std::size_t seen = 0;
    for (const xml_node& line : data.children()) {
        if (!is(line, "row")) {
            continue;
        }
        // Rows and cells that do not say where they stand follow the one before.
        const long said = std::strtol(attributeOf(line, "r"), nullptr, 10);
        row = said > 0 ? said - 1 : row + 1;
        long column = -1;
        for (const xml_node& cell : line.children()) {
            if (!is(cell, "c")) {
                continue;
            }
            const char* name = attributeOf(cell, "r");
            long itsRow = row;
            column += 1;
            if ((*name != '\0' && !placeOf(name, itsRow, column)) || itsRow >= kMostRows ||
                column >= kMostColumns) {
                return tl::make_unexpected(
                    brokenSheet(std::string("‘") + name + "’ is no place in a sheet", path));
            }
            SheetCell one = cellOf(cell, book);
            if (one.kind == SheetCell::Kind::Empty) {
                continue;
            }
            Row& into = rows[itsRow];
            if (into.empty() || into.back().first < column) {
                into.emplace_back(column, std::move(one));
            } else {
                const auto at = std::lower_bound(into.begin(), into.end(), column,
                                                 [](const auto& a, long c) { return a.first < c; });
                at->first == column ? void(at->second = std::move(one))
                                    : void(into.emplace(at, column, std::move(one)));
            }
        }
        if ((++seen & 1023U) == 0 && job.stopped()) {
            return refuse(ErrorCode::Stopped, "reading was stopped");
        }
    }
    return rows;
}

Sheet sheetOf(std::string name, Rows found) {
    const auto rows = std::make_shared<const Rows>(std::move(found));
    Sheet out;
    out.name = std::move(name);
    out.firstRow = rows->begin()->first;
    out.lastRow = rows->rbegin()->first;
    out.firstColumn = kMostColumns;
    for (const auto& [row, cells] : *rows) {
        out.firstColumn = std::min(out.firstColumn, cells.front().first);
        out.lastColumn = std::max(out.lastColumn, cells.back().first);
        out.filled += cells.size();
    }
    out.cell = [rows](long row, long column) {
        const auto line = rows->find(row);
        if (line == rows->end()) {
            return SheetCell{};
        }
        const auto at = std::lower_bound(line->second.begin(), line->second.end(), column,
                                         [](const auto& a, long c) { return a.first < c; });
        return at != line->second.end() && at->first == column ? at->second : SheetCell{};
    };
    return out;
}

/// “worksheets/sheet1.xml”, named from “xl/workbook.xml”, as a name in the archive.
std::string partNamed(const std::string& from, const std::string& target) {
    namespace fs = std::filesystem;
    const fs::path path = target.starts_with('/') ? fs::path(target.substr(1))
                                                  : fs::path(from).parent_path() / target;
    return path.lexically_normal().generic_string();
}

/// Targets of a part's relations: by id, and the first of each kind by the last word of its type.
struct Relations {
    std::map<std::string, std::string> byId;
    std::map<std::string, std::string> byKind;
};

Result<Relations> relationsOf(const SheetArchive& archive, const std::string& part,
                              const Job& job) {
    const std::filesystem::path path(part);
    const std::string name =
        (path.parent_path() / "_rels" / (path.filename().string() + ".rels")).generic_string();
    Relations out;
    if (!archive.has(name)) {
        return out;
    }
    pugi::xml_document document;
    std::vector<char> text;
    if (auto done = archive.parse(name, document, text, job); !done) {
        return tl::make_unexpected(done.error());
    }
    for (const xml_node& one : document.document_element().children()) {
        const std::string type = attributeOf(one, "Type");
        const std::string target = partNamed(part, attributeOf(one, "Target"));
        out.byId.emplace(attributeOf(one, "Id"), target);
        out.byKind.emplace(type.substr(type.rfind('/') + 1), target);
    }
    return out;
}

Result<std::vector<Sheet>> sheetsOf(const SheetArchive& archive, const std::string& path,
                                    const Job& job) {
    const auto root = relationsOf(archive, "", job);
    if (!root) {
        return tl::make_unexpected(root.error());
    }
    const auto office = root->byKind.find("officeDocument");
    const std::string main = office == root->byKind.end() ? "xl/workbook.xml" : office->second;
    pugi::xml_document workbook;
    std::vector<char> workbookText;
    if (auto done = archive.parse(main, workbook, workbookText, job); !done) {
        return tl::make_unexpected(done.error());
    }
    const auto relations = relationsOf(archive, main, job);
    if (!relations) {
        return tl::make_unexpected(relations.error());
    }
    Book book;
    const xml_node body = workbook.document_element();
    const std::string from1904 = attributeOf(childOf(body, "workbookPr"), "date1904");
    book.origin = from1904 == "1" || from1904 == "true" ? -24107.0 : book.origin;
    // What is shared may be left out, and then nothing points to it.
    const auto shared = [&](const char* kind, const auto& read) -> Result<void> {
        const auto at = relations->byKind.find(kind);
        if (at == relations->byKind.end() || !archive.has(at->second)) {
            return {};
        }
        pugi::xml_document document;
        std::vector<char> text;
        auto done = archive.parse(at->second, document, text, job);
        if (done) {
            read(document.document_element());
        }
        return done;
    };
    auto done = shared("sharedStrings", [&](const xml_node& strings) {
        for (const xml_node& item : strings.children()) {
            if (is(item, "si")) {
                book.strings.push_back(wordsOf(item));
            }
        }
    });
    done =
        done ? shared("styles", [&](const xml_node& styles) { readStyles(styles, book); }) : done;
    if (!done) {
        return tl::make_unexpected(done.error());
    }
    std::vector<Sheet> sheets;
    for (const xml_node& one : childOf(body, "sheets").children()) {
        const auto at = relations->byId.find(attributeOf(one, "id"));
        if (!is(one, "sheet") || at == relations->byId.end()) {
            continue;
        }
        pugi::xml_document document;
        std::vector<char> text;
        if (auto read = archive.parse(at->second, document, text, job); !read) {
            return tl::make_unexpected(read.error());
        }
        auto rows = rowsOf(childOf(document.document_element(), "sheetData"), book, path, job);
        if (!rows) {
            return tl::make_unexpected(rows.error());
        }
        if (!rows->empty()) {
            sheets.push_back(sheetOf(attributeOf(one, "name"), *std::move(rows)));
        }
    }
    return sheets;
}

}  // namespace

Result<Import> readXlsx(const std::string& path, const ReaderOptions& options, const Job& job) {
    const auto archive = SheetArchive::open(path);
    if (!archive) {
        return tl::make_unexpected(archive.error());
    }
    const auto sheets = sheetsOf(*archive, path, job);
    if (!sheets) {
        return tl::make_unexpected(sheets.error());
    }
    return tableOfSheets(*sheets, path, options, job);
}

}  // namespace rapporto
