#include "core/left/sql_expression.h"

#include "core/base/format.h"
#include "core/io/csv.h"
#include "core/io/server_connection.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Type = SqlValue::Type;

SqlValue numberOf(std::string sql) { return {Type::Number, std::move(sql)}; }

SqlValue truthOf(std::string sql) { return {Type::Truth, std::move(sql)}; }

tl::unexpected<Refusal> at(const Node& node, ErrorCode code, std::string what,
                           std::string help = {}) {
    return refuse(code, std::move(what), fmt::format("position {}", node.position), std::move(help),
                  {node.text});
}

/// x to the whole number, halves away from zero; the engine's own goes to the even one.
std::string roundedSql(const std::string& x) {
    return fmt::format(
        "(sign({0}) * (floor(abs({0})) + case when abs({0}) - floor(abs({0})) >= 0.5 then 1 else 0 "
        "end))",
        x);
}

/// How each function over single rows is asked for. Where ours has no value the engine would break
/// off: it is asked for null.
std::optional<std::string> functionSql(const std::string& name, const std::vector<std::string>& a) {
    if (name == "ln" || name == "log10") {
        return fmt::format("{}(case when {} > 0 then {} end)", name, a[0], a[0]);
    }
    if (name == "exp") {
        // Beyond these ends the result is infinite, or zero.
        return fmt::format(
            "(case when {0} > 709.782712893384 then null when {0} < -745.13 then 0 else exp({0}) "
            "end)",
            a[0]);
    }
    if (name == "sqrt") {
        return fmt::format("sqrt(case when {0} >= 0 then {0} end)", a[0]);
    }
    if (name == "power") {
        if (a[1] == sqlNumber(2.0)) {
            return fmt::format("({0} * {0})", a[0]);
        }
        return fmt::format(
            "(case when {0} > 0 or ({0} < 0 and {1} = floor({1})) or ({0} = 0 and {1} >= 0) then "
            "power({0}, {1}) end)",
            a[0], a[1]);
    }
    if (name == "abs" || name == "floor" || name == "sign") {
        return fmt::format("{}({})", name, a[0]);
    }
    if (name == "ceiling" || name == "ceil") {
        return fmt::format("ceiling({})", a[0]);
    }
    if (name == "round") {
        if (a.size() == 1) {
            return roundedSql(a[0]);
        }
        const std::string scale =
            fmt::format("power({}, case when {} < 0 then ceiling({}) else floor({}) end)",
                        sqlNumber(10.0), a[1], a[1], a[1]);
        return fmt::format("({} / {})", roundedSql(fmt::format("({} * {})", a[0], scale)), scale);
    }
    if (name == "mod") {
        const std::string ratio =
            fmt::format("({0} / (case when {1} <> 0 then {1} end))", a[0], a[1]);
        return fmt::format("({} - {} * (case when {} < 0 then ceiling({}) else floor({}) end))",
                           a[0], a[1], ratio, ratio, ratio);
    }
    if (name == "least" || name == "greatest") {
        // The engine passes over what is missing; here it has no value.
        std::string all;
        std::string there;
        for (const std::string& one : a) {
            all += (all.empty() ? "" : ", ") + one;
            there += (there.empty() ? "" : " and ") + one + " is not null";
        }
        return fmt::format("(case when {} then {}({}) end)", there, name, all);
    }
    if (name == "coalesce") {
        std::string all;
        for (const std::string& one : a) {
            all += (all.empty() ? "" : ", ") + one;
        }
        return fmt::format("coalesce({})", all);
    }
    if (name == "nullif") {
        return fmt::format("nullif({}, {})", a[0], a[1]);
    }
    return std::nullopt;
}

class Writer {
  public:
    Writer(const SqlNames& names, const LeftWords& words) : names_(names), words_(words) {}

    Result<SqlValue> operator()(const Node& node) const {
        switch (node.kind) {
            case Node::Kind::Number:
                return numberOf(sqlNumber(node.number));
            case Node::Kind::Null:
                return SqlValue{Type::Null, "cast(null as double precision)"};
            case Node::Kind::Text: {
                SqlValue out{Type::Text, ServerConnection::literal(node.text)};
                out.text = node.text;
                return out;
            }
            case Node::Kind::Name:
                return names_(node);
            case Node::Kind::Unary:
                return unary(node);
            case Node::Kind::Binary:
                return binary(node);
            case Node::Kind::Call:
                return call(node);
            case Node::Kind::Over:
                return otherRows(*node.children[0]);
            case Node::Kind::Between:
                return between(node);
            case Node::Kind::In:
                return in(node);
            case Node::Kind::IsNull:
                return isNull(node);
            case Node::Kind::Case:
                return cases(node);
        }
        return SqlValue{};
    }

  private:
    [[nodiscard]] tl::unexpected<Refusal> otherRows(const Node& node) const {
        return at(node, ErrorCode::BadSetting,
                  "‘" + node.text + "’ looks at the whole column or at other rows, and the rows " +
                      words_.stay,
                  words_.view);
    }

    Result<SqlValue> numeric(const Node& node) const {
        auto value = (*this)(node);
        if (value && value->type == Type::Text) {
            return at(node, ErrorCode::WrongType, "this is text, where a number is needed");
        }
        return value;
    }

    Result<std::string> truth(const Node& node) const {
        auto value = numeric(node);
        if (!value) {
            return tl::make_unexpected(value.error());
        }
        if (value->type == Type::Truth) {
            return value->sql;
        }
        if (value->type == Type::Null) {
            return std::string("cast(null as boolean)");
        }
        if (value->variable != nullptr && value->variable->measure == Measure::YesNo) {
            return "(" + value->sql + " = 1)";
        }
        return at(node, ErrorCode::WrongType, "a condition is needed, and this is a number",
                  "Compare it with something, as in x > 0.");
    }

    Result<SqlValue> unary(const Node& node) const {
        if (node.text == "not") {
            auto inner = truth(*node.children[0]);
            return inner ? Result<SqlValue>(truthOf("(not " + *inner + ")"))
                         : tl::make_unexpected(inner.error());
        }
        auto inner = numeric(*node.children[0]);
        return inner ? Result<SqlValue>(numberOf("(- " + inner->number() + ")")) : inner;
    }

    Result<SqlValue> binary(const Node& node) const {
        if (node.text.find_first_of("=<>") == std::string::npos) {
            return chained(node);
        }
        auto a = (*this)(*node.children[0]);
        auto b = a ? (*this)(*node.children[1]) : a;
        return b ? compare(node, node.text, *a, *b) : b;
    }

    /// Operators that bind alike, from left to right.
    static char rankOf(const Node& node) {
        const std::string& op = node.text;
        return op == "+" || op == "-" ? '+' : op == "*" || op == "/" ? '*' : op.front();
    }

    /// A sum of a thousand parts is written within one pair of brackets, as SQL reads it, too.
    Result<SqlValue> chained(const Node& node) const {
        std::vector<const Node*> chain = {&node};
        for (const Node* left = node.children[0].get();
             left->kind == Node::Kind::Binary && rankOf(*left) == rankOf(node);
             left = left->children[0].get()) {
            chain.push_back(left);
        }
        const bool conditions = node.text == "and" || node.text == "or";
        auto sql = part(*chain.back()->children[0], conditions);
        for (auto next = chain.rbegin(); sql && next != chain.rend(); ++next) {
            const auto right = part(*(*next)->children[1], conditions);
            if (!right) {
                return tl::make_unexpected(right.error());
            }
            *sql +=
                " " + (*next)->text + " " +
                ((*next)->text == "/" ? "(case when " + *right + " <> 0 then " + *right + " end)"
                                      : *right);
        }
        if (!sql) {
            return tl::make_unexpected(sql.error());
        }
        return conditions ? truthOf("(" + *sql + ")") : numberOf("(" + *sql + ")");
    }

    Result<std::string> part(const Node& node, bool condition) const {
        if (condition) {
            return truth(node);
        }
        auto value = numeric(node);
        return value ? Result<std::string>(value->number()) : tl::make_unexpected(value.error());
    }

    static Result<SqlValue> compare(const Node& node, const std::string& op, const SqlValue& a,
                                    const SqlValue& b) {
        const bool textA = a.type == Type::Text;
        const bool textB = b.type == Type::Text;
        if (textA != textB && a.type != Type::Null && b.type != Type::Null) {
            // A number whose levels carry labels, or a date, against a text.
            const SqlValue& number = textA ? b : a;
            const SqlValue& text = textA ? a : b;
            const auto code = codeFor(node, op, number, text);
            if (!code) {
                return tl::make_unexpected(code.error());
            }
            return truthOf(textA ? "(" + *code + " " + op + " " + number.number() + ")"
                                 : "(" + number.number() + " " + op + " " + *code + ")");
        }
        if (textA && textB) {
            const bool order = op != "=" && op != "<>";
            return truthOf("(" + a.sql + " " + op + " " + b.sql +
                           (order ? " collate \"C\")" : ")"));
        }
        return truthOf("(" + a.number() + " " + op + " " + b.number() + ")");
    }

    /// The number that stands for a text: of the level it labels, or the day it names.
    static Result<std::string> codeFor(const Node& node, const std::string& op,
                                       const SqlValue& number, const SqlValue& text) {
        std::vector<std::string> labels;
        if (number.variable != nullptr && text.text) {
            for (const Level& level : number.variable->levels) {
                const auto* code = std::get_if<double>(&level.value);
                if (code != nullptr && level.label == *text.text && (op == "=" || op == "<>")) {
                    return sqlNumber(*code);
                }
                labels.push_back(level.label);
            }
            if (number.variable->measure == Measure::Date) {
                const std::string day = *text.text + (text.text->size() == 4   ? "-01-01"
                                                      : text.text->size() == 7 ? "-01"
                                                                               : "");
                if (const auto days = parseDate(day, false); days && day.size() == 10) {
                    return sqlNumber(*days);
                }
                return at(node, ErrorCode::WrongType, "‘" + *text.text + "’ is no date",
                          "Write a date as '2015-06-30', '2015-06' or '2015'.");
            }
        }
        const auto near = nearestName(text.text.value_or(""), labels);
        return at(
            node, ErrorCode::WrongType,
            labels.empty() ? "a text and a number cannot be compared"
                           : "there is no level ‘" + text.text.value_or("") + "’",
            near ? "Did you mean ‘" + *near + "’?" : "Texts stand in single quotes, numbers bare.");
    }

    Result<SqlValue> between(const Node& node) const {
        auto x = (*this)(*node.children[0]);
        auto low = x ? (*this)(*node.children[1]) : x;
        auto high = low ? (*this)(*node.children[2]) : low;
        if (!high) {
            return high;
        }
        auto above = compare(node, ">=", *x, *low);
        auto below = above ? compare(node, "<=", *x, *high) : above;
        if (!below) {
            return below;
        }
        return truthOf((node.text == "not" ? "(not (" : "((") + above->sql + " and " + below->sql +
                       "))");
    }

    Result<SqlValue> in(const Node& node) const {
        auto x = (*this)(*node.children[0]);
        if (!x) {
            return x;
        }
        std::string any;
        for (std::size_t k = 1; k < node.children.size(); ++k) {
            auto member = (*this)(*node.children[k]);
            auto equal = member ? compare(*node.children[k], "=", *x, *member) : member;
            if (!equal) {
                return equal;
            }
            any += (any.empty() ? "" : " or ") + equal->sql;
        }
        return truthOf((node.text == "not" ? "(not (" : "((") + any + "))");
    }

    Result<SqlValue> isNull(const Node& node) const {
        auto x = (*this)(*node.children[0]);
        if (!x) {
            return x;
        }
        return truthOf("(" + (x->type == Type::Truth ? x->number() : x->sql) +
                       (node.text == "not" ? " is not null)" : " is null)"));
    }

    Result<SqlValue> cases(const Node& node) const {
        const std::size_t branches = node.children.size() / 2;
        std::vector<std::string> conditions;
        std::vector<SqlValue> values;
        for (std::size_t k = 0; k <= branches; ++k) {
            if (k < branches) {
                auto condition = truth(*node.children[2 * k]);
                if (!condition) {
                    return tl::make_unexpected(condition.error());
                }
                conditions.push_back(*std::move(condition));
            }
            auto value = (*this)(k < branches ? *node.children[2 * k + 1] : *node.children.back());
            if (!value) {
                return value;
            }
            values.push_back(*std::move(value));
        }
        const auto isText = [](const SqlValue& v) { return v.type == Type::Text; };
        const bool text = std::any_of(values.begin(), values.end(), isText);
        std::string out = "(case";
        for (std::size_t k = 0; k < values.size(); ++k) {
            if (text && !isText(values[k]) && values[k].type != Type::Null) {
                return at(node, ErrorCode::WrongType, "the branches mix texts and numbers");
            }
            const std::string value = values[k].type == Type::Null ? "null"
                                      : text                       ? values[k].sql
                                                                   : values[k].number();
            out += k < conditions.size() ? " when " + conditions[k] + " then " + value
                                         : " else " + value + " end)";
        }
        return SqlValue{text ? Type::Text : Type::Number, out};
    }

    Result<SqlValue> call(const Node& node) const {
        const auto& wide = columnFunctions();
        if (std::any_of(wide.begin(), wide.end(),
                        [&](const ColumnFunction& f) { return node.text == f.name; })) {
            return otherRows(node);
        }
        const auto& functions = rowFunctions();
        const auto function =
            std::find_if(functions.begin(), functions.end(),
                         [&](const RowFunction& f) { return node.text == f.name; });
        if (function == functions.end()) {
            return at(node, ErrorCode::UnknownName, "there is no function ‘" + node.text + "’");
        }
        if (node.children.size() < function->least || node.children.size() > function->most) {
            return at(node, ErrorCode::Syntax, "‘" + node.text + "’ takes other values than these",
                      function->summary);
        }
        std::vector<std::string> values;
        for (const auto& child : node.children) {
            auto value = numeric(*child);
            if (!value) {
                return value;
            }
            values.push_back(value->number());
        }
        // Some are written with their values several times over: within each other they grow fast.
        constexpr std::size_t kLongest = 100'000;
        if (std::any_of(values.begin(), values.end(),
                        [](const std::string& one) { return one.size() > kLongest; })) {
            return at(node, ErrorCode::TooLarge,
                      "‘" + node.text + "’ of this is longer than a statement may be", words_.view);
        }
        auto sql = functionSql(node.text, values);
        if (!sql) {
            return at(node, ErrorCode::BadSetting,
                      "‘" + node.text + "’ is not asked of " + words_.engine, words_.view);
        }
        return numberOf(*std::move(sql));
    }

    const SqlNames& names_;
    const LeftWords& words_;
};

}  // namespace

std::string SqlValue::number() const {
    if (type == Type::Truth) {
        return "cast(case when " + sql + " then 1 when not " + sql +
               " then 0 end as double "
               "precision)";
    }
    return sql;
}

std::string sqlNumber(double value) {
    return "cast(" + exactNumber(value) + " as double precision)";
}

Result<SqlValue> sqlOf(const Expression& expression, const SqlNames& names,
                       const LeftWords& words) {
    return Writer(names, words)(expression.root());
}

}  // namespace rapporto
