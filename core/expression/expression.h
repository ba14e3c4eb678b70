#pragma once

#include "core/base/result.h"
#include "core/data/column.h"
#include "core/data/layout.h"

#include <functional>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <vector>

namespace rapporto {

/// A node of a parsed expression. Positions count characters from 1.
struct Node {
    enum class Kind : std::uint8_t {
        Number,
        Text,
        Null,
        Name,
        Unary,
        Binary,
        Call,
        Case,
        Between,
        In,
        IsNull,
        Over  ///< A call, then the names it is partitioned by.
    };

    Kind kind = Kind::Null;
    double number = 0.0;
    std::string text;  ///< Name, text, operator or function; "not" on a negated Between/In/IsNull.
    std::vector<std::shared_ptr<const Node>> children;
    std::size_t position = 0;
};

/// A parsed expression of the study format: SQL's value expressions with three-valued logic.
/// A regular value; copies share the tree.
class Expression {
  public:
    /// @return the expression, or Syntax with the position and what was expected there.
    [[nodiscard]] static Result<Expression> parse(const std::string& text);

    /// The part of another expression below `node`, which is copied.
    [[nodiscard]] static Expression of(const Node& node);

    /// The same meaning in one spelling: single spaces after commas and around operators.
    [[nodiscard]] std::string canonical() const;

    /// Every name that the expression uses.
    [[nodiscard]] std::set<std::string> names() const;

    [[nodiscard]] const Node& root() const { return *root_; }

    /// The expression is just a name.
    [[nodiscard]] bool isName() const { return root_->kind == Node::Kind::Name; }

  private:
    std::shared_ptr<const Node> root_;
};

/// The text in its one spelling; as it is where it does not parse.
[[nodiscard]] std::string canonicalText(const std::string& text);

/// What a name stands for while an expression is evaluated.
struct NamedColumn {
    const Column* column = nullptr;
    const Variable* variable = nullptr;
};

/// Where names are looked up, and all of them for suggestions.
struct Scope {
    std::function<NamedColumn(const std::string&)> find;
    std::vector<std::string> names;
    std::size_t rows = 0;
    /// The rows in time; may be empty where there is no layout.
    std::function<const Result<TimeOrder>&()> timeOrder;
};

/// Rows that have no value, by cause, though what the cause reads is there.
struct Loss {
    std::string cause;  ///< “ln of zero or less”, “after a gap in time”.
    std::size_t rows = 0;

    friend bool operator==(const Loss&, const Loss&) = default;
};

/// The value of an expression in every row.
struct Evaluated {
    Column column;              ///< Numbers (truth as 1, 0, missing) or texts.
    bool isTruth = false;       ///< A comparison or a combination of them.
    std::size_t undefined = 0;  ///< Sum of the losses.
    std::vector<Loss> losses;
    std::optional<Measure> measure;  ///< Where the expression settles it: bands are ordered groups.
    std::vector<Level> levels;       ///< In their order, where the expression makes them.
};

/// Evaluates over all rows.
///
/// @return the column named by the canonical text, or UnknownName (with the nearest name),
///         WrongType, NotBuilt for a documented function that is not there yet.
[[nodiscard]] Result<Evaluated> evaluate(const Expression& expression, const Scope& scope);

/// A function over single rows. `apply` gets as many numbers as were written, none missing unless
/// `seesMissing`.
struct RowFunction {
    const char* name;
    std::size_t least;
    std::size_t most;
    double (*apply)(const double* arguments, std::size_t count);
    bool seesMissing;
    const char* loss;  ///< Why present arguments may have no result, or null.
    const char* summary;
};

/// All single-row functions; the only place to add one.
[[nodiscard]] const std::vector<RowFunction>& rowFunctions();

/// What a function over columns is given.
struct ColumnCall {
    const Column& of;                    ///< The first argument in every row.
    const Variable* variable = nullptr;  ///< Of a bare name.
    std::vector<double> settings;        ///< The numbers that follow it.
    std::string word;                    ///< The text that follows it.
    const Grouping* groups = nullptr;    ///< `partition by`; null: all rows are one group.
    const TimeOrder* order = nullptr;    ///< For functions of the layout.
};

/// A function that reads other rows than its own, or needs to see the whole column. All rows of
/// the source count, whatever the sample.
struct ColumnFunction {
    const char* name;
    std::size_t least;  ///< Settings.
    std::size_t most;
    bool needsLayout;
    bool takesText;   ///< The first argument may hold texts.
    bool takesWord;   ///< A text follows the first argument.
    bool partitions;  ///< `over (partition by …)` may follow.
    Result<Evaluated> (*apply)(const ColumnCall&);
    const char* summary;
};

/// All functions over columns; the only place to add one.
[[nodiscard]] const std::vector<ColumnFunction>& columnFunctions();

/// The known name that differs least from `name`, or nothing when none is near.
[[nodiscard]] std::optional<std::string> nearestName(const std::string& name,
                                                     const std::vector<std::string>& known);

/// A name as it is written in an expression: in double quotes when it needs them.
[[nodiscard]] std::string quotedName(const std::string& name);

/// `text` with every use of the name `from` spelled as `to`; unchanged text where it does not
/// parse.
[[nodiscard]] std::string renamedIn(const std::string& text, const std::string& from,
                                    const std::string& to);

}  // namespace rapporto
