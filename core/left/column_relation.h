#pragma once

#include "core/base/job.h"
#include "core/base/parallel.h"
#include "core/data/column.h"
#include "core/left/column_program.h"

#include <bit>
#include <functional>
#include <memory>

namespace rapporto {

/// Rows that come block after block.
class RowStream : public BlockOfRows {
  public:
    /// Moves on to the next block that has a row.
    ///
    /// @return false where there is none.
    [[nodiscard]] virtual bool next() = 0;
};

/// What a statement reads from: columns by name, and rows that come block by block from any range
/// of those at its bottom.
struct ColumnRelation {
    std::vector<StatementColumn> columns;
    std::size_t rows = 0;  ///< At its bottom: what ranges are of.
    std::function<std::unique_ptr<RowStream>(RowRange)> open;
};

/// Numbers in columns, as groups of rows leave them.
struct SummedGroups {
    std::vector<StatementColumn> columns;
    std::vector<std::vector<double>> values;  ///< One a column.
    std::size_t rows = 0;
};

/// Places of values, in the order in which they were added. Whole numbers that are not too large,
/// among them the numbers of texts, are found without a search.
class ValuePlaces {
  public:
    static constexpr std::uint32_t kNone = 0xFFFFFFFFU;

    [[nodiscard]] std::uint32_t find(double value) const {
        const auto at = static_cast<std::size_t>(value >= 0.0 && value < kDirect ? value : kDirect);
        if (at < kDirect && static_cast<double>(at) == value) {
            return at < direct_.size() ? direct_[at] : kNone;
        }
        const auto found = others_.find(bitsOf(value));
        return found == others_.end() ? kNone : found->second;
    }

    /// @return its place, which is `next` where it was not there.
    std::uint32_t add(double value, std::uint32_t next);

  private:
    static constexpr std::size_t kDirect = std::size_t{1} << 20U;

    /// One zero, and one way of having no value.
    static std::uint64_t bitsOf(double value) {
        return std::bit_cast<std::uint64_t>(value != value ? std::nan("") : value + 0.0);
    }

    std::vector<std::uint32_t> direct_;
    std::unordered_map<std::uint64_t, std::uint32_t> others_;
};

/// The numbers of the texts of each column; of columns that were asked for.
using NumbersOfTexts = std::vector<std::vector<double>>;

/// The columns of a table under a name; texts by their numbers, which must be there before a row
/// is looked at.
[[nodiscard]] ColumnRelation relationOf(std::shared_ptr<const Table> table, const std::string& name,
                                        std::shared_ptr<const NumbersOfTexts> numbers);

[[nodiscard]] ColumnRelation relationOf(std::shared_ptr<const SummedGroups> rows,
                                        const std::string& name);

/// Values of each row of `from` for which a condition holds.
struct SelectedValues {
    std::shared_ptr<const ColumnProgram> program;
    std::vector<std::uint32_t> steps;
    std::vector<std::uint32_t> where;  ///< One step or none.
};

[[nodiscard]] ColumnRelation selectedFrom(ColumnRelation from, SelectedValues values,
                                          std::vector<StatementColumn> names);

/// Rows of `left` with those of `right` beside them whose column equals theirs; there is one at
/// most.
[[nodiscard]] ColumnRelation joinedWith(ColumnRelation left, std::size_t leftColumn,
                                        std::shared_ptr<const SummedGroups> right,
                                        std::size_t rightColumn);

}  // namespace rapporto
