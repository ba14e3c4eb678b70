#pragma once

#include "core/study/study.h"

namespace rapporto {

/// What a person types into the steps of a shape, and back. Names that hold a mark of these little
/// grammars stand in double quotes, as in expressions.

/// “village, zone = zone_id” as keys.
[[nodiscard]] Result<std::vector<KeyPair>> readKeys(const std::string& text);
[[nodiscard]] std::string keysText(const std::vector<KeyPair>& keys);

/// “age, hives” as names; empty text: none.
[[nodiscard]] Result<std::vector<std::string>> readNames(const std::string& text);
[[nodiscard]] std::string namesText(const std::vector<std::string>& names);

/// Lines “mean_age = avg(age)” as columns; empty lines are passed over.
[[nodiscard]] Result<std::vector<Derived>> readColumns(const std::string& text);
[[nodiscard]] std::string columnsText(const std::vector<Derived>& columns);

/// Lines “yield = yield_2019 at 2019, yield_2020 at 2020”; empty lines are passed over.
[[nodiscard]] Result<std::vector<LongVariable>> readLongVariables(const std::string& text);
[[nodiscard]] std::string longVariablesText(const std::vector<LongVariable>& variables);

/// Keys that two tables share and that tell the rows of the second apart: the first name in common
/// that does so alone, else all of them.
[[nodiscard]] std::vector<KeyPair> likelyKeys(const Table& here, const Table& there);

/// A mean for everything that is counted or measured, and the number of rows.
[[nodiscard]] std::vector<Derived> likelyColumns(const Table& table,
                                                 const std::vector<std::string>& by);

}  // namespace rapporto
