#include "core/base/disk.h"
#include "core/io/table_file.h"

#include <xlsxwriter.h>

#include <cstdio>

namespace rapporto {

Result<void> writeXlsx(const Table& table, const std::string& path) {
    constexpr std::size_t kMostRows = 1048575;
    constexpr std::size_t kMostColumns = 16384;
    if (table.rows() > kMostRows || table.columns.size() > kMostColumns) {
        return refuse(ErrorCode::BadSetting,
                      "a sheet holds at most 1 048 575 rows below its header", path,
                      "Write CSV or SQLite instead.");
    }
    const std::string fresh = nameBeside(path);
    lxw_workbook_options options{};
    options.constant_memory = LXW_FALSE;
    lxw_workbook* book = workbook_new_opt(fresh.c_str(), &options);
    lxw_format* bold = workbook_add_format(book);
    format_set_bold(bold);
    lxw_format* date = workbook_add_format(book);
    format_set_num_format(date, "yyyy-mm-dd");
    lxw_worksheet* data = workbook_add_worksheet(book, "data");
    worksheet_freeze_panes(data, 1, 0);
    for (std::size_t j = 0; j < table.columns.size(); ++j) {
        const Column& column = table.columns[j];
        const auto c = static_cast<lxw_col_t>(j);
        worksheet_write_string(data, 0, c, column.name().c_str(), bold);
        for (std::size_t i = 0; i < column.size(); ++i) {
            const auto r = static_cast<lxw_row_t>(i + 1);
            if (column.isMissing(i)) {
                continue;
            }
            if (column.isText()) {
                worksheet_write_string(
                    data, r, c, column.texts()[static_cast<std::size_t>(column.codes()[i])].c_str(),
                    nullptr);
            } else if (table.variables[j].measure == Measure::Date) {
                // Serial 25569 is 1970-01-01.
                worksheet_write_number(data, r, c, column.numbers()[i] + 25569.0, date);
            } else {
                worksheet_write_number(data, r, c, column.numbers()[i], nullptr);
            }
        }
    }
    lxw_worksheet* book2 = workbook_add_worksheet(book, "codebook");
    const auto rows = codebookRows(table);
    for (std::size_t i = 0; i < rows.size(); ++i) {
        for (std::size_t j = 0; j < rows[i].size(); ++j) {
            if (!rows[i][j].empty()) {
                worksheet_write_string(book2, static_cast<lxw_row_t>(i), static_cast<lxw_col_t>(j),
                                       rows[i][j].c_str(), i == 0 ? bold : nullptr);
            }
        }
    }
    const lxw_error closed = workbook_close(book);
    if (closed != LXW_NO_ERROR) {
        (void)std::remove(fresh.c_str());
        return refuse(ErrorCode::File,
                      std::string("the file cannot be written: ") + lxw_strerror(closed), path,
                      "Choose another place.");
    }
    return putInPlace(fresh, path);
}

}  // namespace rapporto
