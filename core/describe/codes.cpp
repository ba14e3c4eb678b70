#include "core/describe/codes.h"

#include <algorithm>

namespace rapporto {

std::vector<std::string> countingNoAnswer(const Frame& frame) {
    constexpr std::size_t kRows = 200000;
    std::vector<std::string> names;
    for (std::size_t j = 0; j < frame.table().columns.size(); ++j) {
        const Variable& variable = frame.table().variables[j];
        const auto cells = frame.table().columns[j].numbers();
        if (!variable.expression.empty() || !variable.missing.empty()) {
            continue;
        }
        bool nine = false;
        bool negative = false;
        for (std::size_t i = 0; i < std::min(cells.size(), kRows); ++i) {
            nine = nine || cells[i] == -9.0;
            negative = negative || (cells[i] < 0.0 && cells[i] != -9.0);
        }
        if (nine && !negative) {
            names.push_back(variable.name);
        }
    }
    return names;
}

}  // namespace rapporto
