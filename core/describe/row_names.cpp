#include "core/describe/row_names.h"

#include "core/base/format.h"

namespace rapporto {

std::string rowName(const Frame& frame, std::size_t row) {
    for (std::size_t j = 0; j < frame.table().columns.size(); ++j) {
        const Column& column = frame.table().columns[j];
        // A name tells rows apart: most texts differ.
        if (column.isText() && !column.isMissing(row) &&
            column.texts().size() * 2 > column.size()) {
            return column.texts()[static_cast<std::size_t>(column.codes()[row])];
        }
    }
    return "row " + countText(row + 1);
}

}  // namespace rapporto
