#pragma once

#include "core/io/csv.h"

#include <functional>
#include <string>
#include <vector>

namespace rapporto {

/// A cell of a sheet with its kind.
struct SheetCell {
    enum class Kind : std::uint8_t { Empty, Number, Date, Text, Truth, Error };

    Kind kind = Kind::Empty;
    double number = 0.0;  ///< A number, days since 1970-01-01, or a truth.
    std::string text;
};

/// A sheet with cells in it; rows and columns count from 0, both ends included.
struct Sheet {
    std::string name;
    long firstRow = 0;
    long firstColumn = 0;
    long lastRow = 0;
    long lastColumn = 0;
    std::size_t filled = 0;  ///< Cells that the file holds one by one.
    std::function<SheetCell(long row, long column)> cell;
};

/// Makes a table of the sheet and block that the options choose. A sheet “codebook” describes it.
///
/// @return the import, or BadSetting for a sheet or block that is not there, Syntax, Stopped.
[[nodiscard]] Result<Import> tableOfSheets(const std::vector<Sheet>& sheets,
                                           const std::string& path, const ReaderOptions& options,
                                           const Job& job);

}  // namespace rapporto
