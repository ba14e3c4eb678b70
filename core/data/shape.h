#pragma once

#include "core/base/result.h"
#include "core/data/frame.h"

#include <string>
#include <vector>

namespace rapporto {

/// A table brought into another shape, and what happened on the way, in words.
struct Shaped {
    Table table;
    std::vector<std::string> facts;
};

/// The rows of `below` under those of `here`; columns meet by name. A column that only one of them
/// has is missing in the other's rows.
///
/// @param mark   name of a new variable that tells the two apart; empty: none.
/// @param names  its two levels.
/// @return WrongType where a column holds numbers in one and texts in the other, BadSetting when
///         `mark` is taken.
[[nodiscard]] Result<Shaped> appendRows(const Table& here, const Table& below,
                                        const std::string& mark,
                                        const std::pair<std::string, std::string>& names);

/// Names of the same thing in two tables.
struct KeyPair {
    std::string here;
    std::string there;

    friend bool operator==(const KeyPair&, const KeyPair&) = default;
};

/// Looks up each row's keys in `there` and takes over its other columns. Many rows here may share
/// one row there, not the other way round: rows would multiply. Missing keys match nothing.
///
/// @param take  columns of `there`; empty: all but the keys.
/// @return UnknownName for a key or column, WrongType for keys of different kinds, BadSetting when
///         keys are repeated in `there` (with examples).
[[nodiscard]] Result<Shaped> joinColumns(const Table& here, const Table& there,
                                         const std::vector<KeyPair>& by,
                                         const std::vector<std::string>& take);

/// One row for each combination of `by`, ascending; rows without one of them are left out and
/// counted. An aggregate in an expression (avg, sum, count, …) speaks of the group.
///
/// @param frame    the rows with missing codes applied.
/// @param columns  what each group gets: expressions with one value in a group.
/// @return BadSetting when an expression varies within a group, and what evaluation refuses.
[[nodiscard]] Result<Shaped> collapseRows(const Frame& frame, const std::vector<std::string>& by,
                                          const std::vector<Derived>& columns);

/// A column and the moment it was measured at.
struct ColumnAt {
    std::string column;
    Key at;

    friend bool operator==(const ColumnAt&, const ColumnAt&) = default;
};

/// A variable that lies in several columns, one a moment.
struct LongVariable {
    std::string name;
    std::vector<ColumnAt> columns;

    friend bool operator==(const LongVariable&, const LongVariable&) = default;
};

/// A row for every row and moment: wide to long. The other columns are repeated.
///
/// @param moment  name of the new variable that holds the moment.
[[nodiscard]] Result<Shaped> lengthen(const Table& table, const std::string& moment,
                                      const std::vector<LongVariable>& variables);

/// A row for every unit, long to wide: each of `variables` becomes a column a moment
/// (`yield_2019`). The other columns must not vary within a unit.
///
/// @return BadSetting for a unit that has a moment twice, or a column that varies (`subjects`).
[[nodiscard]] Result<Shaped> widen(const Frame& frame, const std::string& unit,
                                   const std::string& moment,
                                   const std::vector<std::string>& variables);

/// Columns whose names differ in the number at their end (`yield_2019`, `yield_2020`).
[[nodiscard]] std::vector<LongVariable> longVariablesIn(const Table& table);

/// The names that vary within a unit: what `widen` needs.
[[nodiscard]] std::vector<std::string> varyingWithin(const Frame& frame, const std::string& unit);

}  // namespace rapporto
