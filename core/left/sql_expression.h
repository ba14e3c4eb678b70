#pragma once

#include "core/expression/expression.h"
#include "core/left/left_words.h"

#include <functional>

namespace rapporto {

/// A value expression as an engine is asked for it. Numbers are double precision, texts compare by
/// code point, and what has no value here (ln of zero) is null there instead of an error.
struct SqlValue {
    enum class Type : std::uint8_t { Number, Truth, Text, Null };

    Type type = Type::Null;
    std::string sql = "null";
    const Variable* variable = nullptr;    ///< Of a bare name: its labels serve comparisons.
    std::optional<std::string> text = {};  ///< A constant text.

    /// As a number: a truth is 1 or 0.
    [[nodiscard]] std::string number() const;
};

/// What a name stands for: a value, or a refusal in words.
using SqlNames = std::function<Result<SqlValue>(const Node& name)>;

/// The expression in SQL, with the meaning that `evaluate` gives it.
///
/// @param words  of what is asked, for refusals.
/// @return the value, or UnknownName, WrongType as `evaluate`, BadSetting for a function that reads
///         other rows (`subjects` names it).
[[nodiscard]] Result<SqlValue> sqlOf(const Expression& expression, const SqlNames& names,
                                     const LeftWords& words);

/// A number as it is written in a statement, to the last digit.
[[nodiscard]] std::string sqlNumber(double value);

}  // namespace rapporto
