#pragma once

#include "core/data/frame.h"
#include "core/data/row_set.h"

#include <map>

namespace rapporto {

/// A tiny histogram: at most 14 bars, of at most 20,000 rows evenly taken; of groups the largest
/// levels first.
struct Thumbnail {
    std::vector<double> bars;  ///< Heights, the tallest 1.
    double rowsAtTop = 1.0;    ///< Rows (of all) that a height of one stands for.
    double from = 0.0;         ///< Of bins.
    double width = 1.0;
    std::map<double, std::size_t> levels;  ///< Of groups: the bar of each code; else empty.
};

/// No bars for plain text.
[[nodiscard]] Thumbnail thumbnailOf(const Column& column, const Variable& variable);

/// How much of each bar rows make up, as heights; of many rows 20,000 evenly taken.
[[nodiscard]] std::vector<double> litPart(const Thumbnail& thumbnail, const Column& column,
                                          const RowSet& rows);

}  // namespace rapporto
