// The tables of a report, comma-separated, for a spreadsheet.
#include "core/base/markup.h"
#include "core/report/writers/writer.h"

namespace rapporto {
namespace {

std::string csvCell(const std::string& text) {
    // A spreadsheet reads an ASCII minus and no spaces in a number.
    const std::string number = replacedAll(replacedAll(text, "−", "-"), "\u202F", "");
    if (number.find_first_of(",\"\n\r") == std::string::npos) {
        return number;
    }
    return "\"" + replacedAll(number, "\"", "\"\"") + "\"";
}

}  // namespace

Result<WrittenReport> writeCsvTables(const ReportPages& pages, const std::string& /*stem*/) {
    std::string out;
    for (const ReportBlock& b : pages.blocks) {
        if (b.kind != ReportBlock::Kind::Table) {
            continue;
        }
        out += out.empty() ? "" : "\n";
        for (const CellRow& row : b.cells) {
            std::string line;
            for (const Cell& cell : row) {
                line += (&cell == row.data() ? "" : ",") + csvCell(cell.text) +
                        std::string(static_cast<std::size_t>(cell.span - 1), ',');
            }
            out += line + "\n";
        }
    }
    return WrittenReport{std::move(out), {}};
}

}  // namespace rapporto
