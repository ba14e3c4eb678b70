#pragma once

#include "core/data/column.h"

#include <cstdint>
#include <span>
#include <vector>

namespace rapporto {

/// Rows cut into groups of equal value.
struct Grouping {
    std::vector<std::int32_t> of;  ///< Group of each row, from 0 in order of appearance.
    std::int32_t count = 0;
};

/// Groups by one column. Missing cells form a group of their own when `missingIsGroup`, as in SQL;
/// else they get −1. Time linear in the rows.
[[nodiscard]] Grouping groupBy(const Column& column, bool missingIsGroup);

/// Splits the groups of `a` by those of `b`; −1 in either stays −1.
[[nodiscard]] Grouping splitBy(const Grouping& a, const Grouping& b);

/// Rows (from 0) sorted by group, ascending within a group; rows of group −1 are left out.
/// `starts` has count + 1 entries.
struct GroupedRows {
    std::vector<std::uint32_t> rows;
    std::vector<std::size_t> starts;

    [[nodiscard]] std::span<const std::uint32_t> group(std::size_t g) const {
        return {rows.data() + starts[g], starts[g + 1] - starts[g]};
    }
};

[[nodiscard]] GroupedRows rowsByGroup(const Grouping& grouping);

}  // namespace rapporto
