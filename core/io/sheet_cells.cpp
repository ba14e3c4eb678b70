#include "core/io/sheet_cells.h"

#include "core/base/format.h"
#include "core/base/room.h"
#include "core/io/column_collector.h"
#include "core/io/table_file.h"

#include <fmt/format.h>

#include <algorithm>

namespace rapporto {
namespace {

using Cell = SheetCell;

/// “B3:F200” as zero-based rows and columns, both ends included.
struct Block {
    long firstRow = 0;
    long firstColumn = 0;
    long lastRow = 0;
    long lastColumn = 0;
};

Result<Block> blockOf(const std::string& words) {
    const auto corner = [](std::string_view text, long& row, long& column) {
        std::size_t i = 0;
        column = 0;
        while (i < text.size() && std::isalpha(static_cast<unsigned char>(text[i])) != 0) {
            column = column * 26 + (std::toupper(static_cast<unsigned char>(text[i])) - 'A' + 1);
            ++i;
        }
        row = 0;
        const std::size_t digits = i;
        while (i < text.size() && std::isdigit(static_cast<unsigned char>(text[i])) != 0 &&
               row < 100000000) {
            row = row * 10 + (text[i++] - '0');
        }
        return digits > 0 && digits <= 3 && i == text.size() && row > 0;
    };
    Block out;
    const auto colon = words.find(':');
    const bool fits =
        colon != std::string::npos &&
        corner(std::string_view(words).substr(0, colon), out.firstRow, out.firstColumn) &&
        corner(std::string_view(words).substr(colon + 1), out.lastRow, out.lastColumn) &&
        out.firstRow <= out.lastRow && out.firstColumn <= out.lastColumn;
    if (!fits) {
        return refuse(ErrorCode::BadSetting, "‘" + words + "’ is no block of cells", "block",
                      "Write it as B3:F200.");
    }
    --out.firstRow;
    --out.firstColumn;
    --out.lastRow;
    --out.lastColumn;
    return out;
}

void add(const Cell& cell, ColumnCollector& into) {
    switch (cell.kind) {
        case SheetCell::Kind::Number:
            into.addNumber(cell.number);
            break;
        case SheetCell::Kind::Date:
            into.addDate(cell.number);
            break;
        case SheetCell::Kind::Text:
            into.addText(cell.text);
            break;
        case SheetCell::Kind::Truth:
            into.addTruth(cell.number != 0.0);
            break;
        default:
            into.addMissing();
    }
}

std::vector<std::vector<std::string>> texts(const Sheet& sheet) {
    std::vector<std::vector<std::string>> rows;
    for (long r = sheet.firstRow; r <= sheet.lastRow; ++r) {
        rows.emplace_back();
        for (long c = sheet.firstColumn; c <= sheet.lastColumn; ++c) {
            const Cell cell = sheet.cell(r, c);
            rows.back().push_back(cell.kind == Cell::Kind::Number ? exactNumber(cell.number)
                                                                  : cell.text);
        }
    }
    return rows;
}

/// The first row holds names when all of it is text and something below is not, or when every cell
/// of it is text and no two are the same.
bool looksLikeHeader(const std::vector<Cell>& first) {
    std::vector<std::string> names;
    for (const Cell& cell : first) {
        if (cell.kind != SheetCell::Kind::Text && cell.kind != SheetCell::Kind::Empty) {
            return false;
        }
        if (cell.kind == SheetCell::Kind::Text) {
            names.push_back(cell.text);
        }
    }
    std::sort(names.begin(), names.end());
    return !names.empty() && std::adjacent_find(names.begin(), names.end()) == names.end();
}

}  // namespace

Result<Import> tableOfSheets(const std::vector<Sheet>& sheets, const std::string& path,
                             const ReaderOptions& options, const Job& job) {
    Import import;
    import.used = options;
    std::vector<const Sheet*> found;
    const Sheet* codebook = nullptr;
    for (const Sheet& one : sheets) {
        if (one.name == "codebook") {
            codebook = &one;
        } else {
            import.parts.push_back(one.name);
            found.push_back(&one);
        }
    }
    if (found.empty()) {
        return refuse(ErrorCode::Syntax, "there is no sheet with cells in it", path);
    }
    std::size_t chosen = 0;
    if (!options.sheet.empty()) {
        const auto at = std::find(import.parts.begin(), import.parts.end(), options.sheet);
        if (at == import.parts.end()) {
            return refuse(ErrorCode::BadSetting, "there is no sheet ‘" + options.sheet + "’", path,
                          "The sheets are: " + joinedNames(import.parts) + ".");
        }
        chosen = static_cast<std::size_t>(at - import.parts.begin());
    }
    import.used.sheet = import.parts[chosen];
    const Sheet& sheet = *found[chosen];
    Block block{sheet.firstRow, sheet.firstColumn, sheet.lastRow, sheet.lastColumn};
    if (!options.block.empty()) {
        const auto asked = blockOf(options.block);
        if (!asked) {
            return tl::make_unexpected(asked.error());
        }
        block = *asked;
        block.lastRow = std::min(block.lastRow, sheet.lastRow);
        block.lastColumn = std::min(block.lastColumn, sheet.lastColumn);
    }
    block.firstRow += static_cast<long>(
        std::min(options.skip, static_cast<std::size_t>(block.lastRow - block.firstRow + 1)));
    if (block.firstRow > block.lastRow || block.firstColumn > block.lastColumn) {
        return refuse(ErrorCode::Syntax, "there is no cell left to read", path,
                      "Skip fewer rows, or choose another block.");
    }
    if (auto room = roomForCells(static_cast<std::size_t>(block.lastRow - block.firstRow + 1),
                                 static_cast<std::size_t>(block.lastColumn - block.firstColumn + 1),
                                 sheet.filled, path);
        !room) {
        return tl::make_unexpected(room.error());
    }
    std::vector<Cell> first;
    for (long c = block.firstColumn; c <= block.lastColumn; ++c) {
        first.push_back(sheet.cell(block.firstRow, c));
    }
    const bool header = options.header.value_or(looksLikeHeader(first));
    import.used.header = header;
    std::vector<std::string> names;
    for (std::size_t j = 0; j < first.size(); ++j) {
        names.push_back(!header                                    ? fmt::format("column_{}", j + 1)
                        : first[j].kind == SheetCell::Kind::Text   ? first[j].text
                        : first[j].kind == SheetCell::Kind::Number ? exactNumber(first[j].number)
                                                                   : std::string());
    }
    names = repairedNames(names, static_cast<std::size_t>(block.firstRow) + 1, import);
    const long from = block.firstRow + (header ? 1 : 0);
    if (from > block.lastRow) {
        return refuse(ErrorCode::Syntax, "there is a header and no row below it", path,
                      "Say that the first line is data if it is.");
    }
    for (std::size_t j = 0; j < names.size(); ++j) {
        ColumnCollector column;
        for (long r = from; r <= block.lastRow; ++r) {
            if ((r & 4095) == 0 && job.stopped()) {
                return refuse(ErrorCode::Stopped, "reading was stopped");
            }
            const Cell cell = sheet.cell(r, block.firstColumn + static_cast<long>(j));
            if (cell.kind == SheetCell::Kind::Error) {
                ++import.problemCount;
                if (import.problems.size() < kMaxProblems) {
                    import.problems.push_back({static_cast<std::size_t>(r) + 1,
                                               "‘" + names[j] + "’ shows an error: missing"});
                }
            }
            add(cell, column);
        }
        column.finish(names[j], options, import);
    }
    if (codebook != nullptr) {
        applyCodebook(texts(*codebook), import.table);
    }
    return import;
}

}  // namespace rapporto
