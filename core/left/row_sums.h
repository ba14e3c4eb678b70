#pragma once

#include "core/left/column_relation.h"

#include <array>
#include <unordered_map>

namespace rapporto {

/// What rows are added up to.
enum class SumKind : std::uint8_t { Rows, Present, Sum, Least, Greatest, Mean, Spread };

/// One sum over rows.
struct RowSum {
    SumKind kind = SumKind::Rows;
    std::uint32_t step = 0;            ///< What is added up …
    std::vector<std::uint32_t> times;  ///< … times this, where there is one: a product is not kept.
    bool text = false;
};

/// Sums of rows by what they have in common, at most two values; of all rows without any.
struct RowSums {
    std::shared_ptr<const ColumnProgram> program;
    std::vector<RowSum> sums;
    std::vector<std::uint32_t> by;
};

/// Adds up every row of a relation: columns of what groups them, then of the sums, one row a group
/// in the order in which they are met; a single row without groups.
///
/// @return it, or Stopped.
[[nodiscard]] Result<SummedGroups> addUp(const ColumnRelation& from, const RowSums& sums,
                                         const Job& job);

}  // namespace rapporto
