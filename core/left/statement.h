#pragma once

#include "core/base/result.h"

#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace rapporto {

/// One value of a statement, as it is written.
struct StatementNode {
    enum class Kind : std::uint8_t {
        Number,
        Text,
        Truth,  ///< `number` is 1 or 0.
        Null,
        Column,  ///< `text`, of the relation `of` where it is named.
        Star,    ///< All columns, of the relation `of` where it is named.
        Minus,
        Not,
        Binary,  ///< `text` is + − * / = <> < <= > >= of two, and or of two and more.
        Call,    ///< A function, or a sum over rows.
        Case,    ///< Conditions and values in turn, and what else there is at last.
        ToText,
        ToNumber,
        IsNull,
    };

    Kind kind = Kind::Null;
    std::string text;
    std::string of;
    double number = 0.0;
    bool distinct = false;  ///< count(distinct …).
    std::vector<StatementNode> children;

    friend bool operator==(const StatementNode&, const StatementNode&) = default;
};

struct Statement;

/// What stands behind “from”: the table by a name, or a statement in brackets.
struct StatementSource {
    std::string table;
    std::shared_ptr<const Statement> inner;  ///< Null for a table.
    std::string alias;
};

/// One “select …” of those that questions are asked in.
struct Statement {
    struct Item {
        StatementNode value;
        std::string name;  ///< Empty: of a star.
    };

    struct Joined {
        StatementSource source;
        StatementNode left;  ///< Column of what stands first …
        StatementNode right;
    };

    std::vector<Item> items;
    StatementSource from;
    std::optional<Joined> join;
    std::optional<StatementNode> where;
    std::vector<StatementNode> groupBy;
    std::optional<StatementNode> having;
    std::optional<std::size_t> limit;
    std::string text;  ///< As it was written: two of one text give the same rows.
};

/// Reads the part of SQL that LeftRows and its users write.
///
/// @return the statement, or Syntax with what was met.
[[nodiscard]] Result<Statement> parseStatement(std::string_view sql);

}  // namespace rapporto
