#include "core/base/format.h"
#include "core/expression/expression.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <chrono>
#include <cmath>
#include <limits>
#include <unordered_map>

namespace rapporto {
namespace {

constexpr double kNone = std::numeric_limits<double>::quiet_NaN();

/// A value in every row, or one constant for all.
struct Value {
    enum class Type : std::uint8_t { Number, Truth, Text, Null };

    Type type = Type::Null;
    bool constant = false;
    double number = kNone;               // constant number or truth
    std::string text;                    // constant text
    std::vector<double> numbers;         // owned cells …
    std::optional<Column> column;        // … or a column's, shared
    const Variable* variable = nullptr;  // of a bare name: its labels serve comparisons

    [[nodiscard]] double at(std::size_t row) const {
        return constant || type == Type::Null ? number
                                              : (column ? column->numbers()[row] : numbers[row]);
    }
};

/// The cells of a value in one form: a pointer and a stride of 0 or 1.
struct Cells {
    const double* data;
    std::size_t stride;

    double operator[](std::size_t i) const { return data[i * stride]; }
};

Cells cellsOf(const Value& value) {
    if (value.constant || value.type == Value::Type::Null) {
        return {&value.number, 0};
    }
    return {value.column ? value.column->numbers().data() : value.numbers.data(), 1};
}

tl::unexpected<Refusal> at(const Node& node, ErrorCode code, std::string what,
                           std::string help = {}) {
    return refuse(code, std::move(what), fmt::format("position {}", node.position), std::move(help),
                  {node.text});
}

/// Days since 1970-01-01 of “2015”, “2015-06” (their first days) or “2015-06-30”.
std::optional<double> dayOf(const std::string& text) {
    int year = 0;
    unsigned month = 1;
    unsigned day = 1;
    const auto digits = [&](std::size_t from, std::size_t count, auto& into) {
        const char* first = text.data() + from;
        const auto read = std::from_chars(first, first + count, into);
        return read.ec == std::errc() && read.ptr == first + count;
    };
    const bool shaped = (text.size() == 4 || (text.size() == 7 && text[4] == '-') ||
                         (text.size() == 10 && text[4] == '-' && text[7] == '-')) &&
                        digits(0, 4, year) && (text.size() < 7 || digits(5, 2, month)) &&
                        (text.size() < 10 || digits(8, 2, day));
    const std::chrono::year_month_day date{std::chrono::year(year), std::chrono::month(month),
                                           std::chrono::day(day)};
    if (!shaped || !date.ok()) {
        return std::nullopt;
    }
    return static_cast<double>(std::chrono::sys_days(date).time_since_epoch().count());
}

class Evaluator {
  public:
    explicit Evaluator(const Scope& scope) : scope_(scope) {}

    std::vector<Loss> losses;

    /// What the whole expression settles when a function over columns is its outermost part.
    std::optional<Measure> measure;
    std::vector<Level> levels;

    Result<Value> operator()(const Node& node) {
        switch (node.kind) {
            case Node::Kind::Number:
                return constantNumber(node.number);
            case Node::Kind::Null:
                return Value{};
            case Node::Kind::Text: {
                Value value;
                value.type = Value::Type::Text;
                value.constant = true;
                value.text = node.text;
                return value;
            }
            case Node::Kind::Name:
                return name(node);
            case Node::Kind::Unary:
                return unary(node);
            case Node::Kind::Binary:
                return binary(node);
            case Node::Kind::Call:
                return call(node, nullptr);
            case Node::Kind::Over:
                return call(*node.children[0], &node);
            case Node::Kind::Between:
                return between(node);
            case Node::Kind::In:
                return in(node);
            case Node::Kind::IsNull:
                return isNull(node);
            case Node::Kind::Case:
                return cases(node);
        }
        return Value{};
    }

    /// Text cells as codes into one list; numbers with labels do not come here.
    Column textColumn(const std::string& title, const Value& value) const {
        if (value.column) {
            return value.column->renamed(title);
        }
        return Column::ofTexts(title, std::vector<std::int32_t>(scope_.rows, 0), {value.text});
    }

    /// Any value as a column of its own.
    Column columnOf(const Value& value) const {
        if (value.type == Value::Type::Text) {
            return textColumn("", value);
        }
        if (value.column) {
            return *value.column;
        }
        const bool one = value.constant || value.type == Value::Type::Null;
        return Column::ofNumbers(
            "", one ? std::vector<double>(scope_.rows, value.number) : value.numbers);
    }

  private:
    static Value constantNumber(double x) {
        Value value;
        value.type = Value::Type::Number;
        value.constant = true;
        value.number = x;
        return value;
    }

    Result<Value> name(const Node& node) const {
        const NamedColumn found = scope_.find(node.text);
        if (found.column == nullptr) {
            const auto near = nearestName(node.text, scope_.names);
            return at(node, ErrorCode::UnknownName, "there is no variable ‘" + node.text + "’",
                      near ? "Did you mean ‘" + *near + "’?" : "");
        }
        Value value;
        value.type = found.column->isText() ? Value::Type::Text : Value::Type::Number;
        value.column = *found.column;
        value.variable = found.variable;
        return value;
    }

    Result<Value> numeric(const Node& node, const char* forWhat) {
        return asNumber((*this)(node), node, forWhat);
    }

    static Result<Value> asNumber(Result<Value> value, const Node& node, const char* forWhat) {
        if (value && value->type == Value::Type::Text) {
            return at(node, ErrorCode::WrongType,
                      (node.kind == Node::Kind::Name ? "‘" + node.text + "’ holds"
                                                     : std::string("this is")) +
                          " text, where " + forWhat + " needs a number");
        }
        return value;
    }

    Result<Value> truth(const Node& node, const char* forWhat) {
        return asTruth((*this)(node), node, forWhat);
    }

    static Result<Value> asTruth(Result<Value> found, const Node& node, const char* forWhat) {
        auto value = asNumber(std::move(found), node, forWhat);
        if (value && value->type == Value::Type::Number && value->variable != nullptr &&
            value->variable->measure == Measure::YesNo) {
            value->type = Value::Type::Truth;
        }
        if (value && value->type == Value::Type::Number) {
            return at(node, ErrorCode::WrongType,
                      fmt::format("{} needs a condition, and this is a number", forWhat),
                      "Compare it with something, as in x > 0.");
        }
        return value;
    }

    template <class F>
    Value map2(Value::Type type, const Value& a, const Value& b, F f) const {
        Value out;
        out.type = type;
        const Cells x = cellsOf(a);
        const Cells y = cellsOf(b);
        if (x.stride == 0 && y.stride == 0) {
            out.constant = true;
            out.number = f(x[0], y[0]);
            return out;
        }
        out.numbers.resize(scope_.rows);
        for (std::size_t i = 0; i < scope_.rows; ++i) {
            out.numbers[i] = f(x[i], y[i]);
        }
        return out;
    }

    template <class F>
    Value map1(Value::Type type, const Value& a, F f) const {
        return map2(type, a, a, [f](double x, double /*same*/) { return f(x); });
    }

    Result<Value> unary(const Node& node) {
        if (node.text == "not") {
            auto inner = truth(*node.children[0], "‘not’");
            return inner ? Result<Value>(
                               map1(Value::Type::Truth, *inner, [](double x) { return 1.0 - x; }))
                         : inner;
        }
        auto inner = numeric(*node.children[0], "a minus sign");
        return inner ? Result<Value>(map1(Value::Type::Number, *inner, [](double x) { return -x; }))
                     : inner;
    }

    /// A sum of a thousand parts is a tree as deep: it is walked up from its first part.
    Result<Value> binary(const Node& node) {
        std::vector<const Node*> chain;
        const Node* first = &node;
        for (; first->kind == Node::Kind::Binary; first = first->children[0].get()) {
            chain.push_back(first);
        }
        auto value = (*this)(*first);
        for (auto next = chain.rbegin(); value && next != chain.rend(); ++next) {
            value = combined(**next, *std::move(value));
        }
        return value;
    }

    /// @param left  of the first of its two parts.
    Result<Value> combined(const Node& node, Value left) {
        const std::string& op = node.text;
        if (op == "and" || op == "or") {
            return logical(node, std::move(left), op == "and");
        }
        if (op.find_first_of("=<>") != std::string::npos) {
            auto b = (*this)(*node.children[1]);
            return b ? compare(node, op, left, *b) : b;
        }
        const std::string what = "‘" + op + "’";
        auto a = asNumber(std::move(left), *node.children[0], what.c_str());
        if (!a) {
            return a;
        }
        auto b = numeric(*node.children[1], what.c_str());
        return b ? arithmetic(op.front(), *a, *b) : b;
    }

    Value arithmetic(char op, const Value& a, const Value& b) {
        constexpr auto kNumber = Value::Type::Number;
        switch (op) {
            case '+':
                return map2(kNumber, a, b, [](double x, double y) { return kept(x + y); });
            case '-':
                return map2(kNumber, a, b, [](double x, double y) { return kept(x - y); });
            case '*':
                return map2(kNumber, a, b, [](double x, double y) { return kept(x * y); });
            default:
                break;
        }
        std::size_t lost = 0;
        Value quotient = map2(kNumber, a, b, [&lost](double x, double y) {
            lost += y == 0.0 && !std::isnan(x) ? 1U : 0U;
            return y == 0.0 ? kNone : kept(x / y);
        });
        lose("division by zero", lost);
        return quotient;
    }

    /// Overflow has no value: it becomes missing, as the column's contract asks.
    static double kept(double x) { return std::isinf(x) ? kNone : x; }

    Result<Value> logical(const Node& node, Value left, bool isAnd) {
        auto a = asTruth(std::move(left), *node.children[0], isAnd ? "‘and’" : "‘or’");
        if (!a) {
            return a;
        }
        auto b = truth(*node.children[1], isAnd ? "‘and’" : "‘or’");
        if (!b) {
            return b;
        }
        // Kleene: false decides an “and”, true an “or”, whatever the other is.
        const double decisive = isAnd ? 0.0 : 1.0;
        return map2(Value::Type::Truth, *a, *b, [decisive](double x, double y) {
            if (x == decisive || y == decisive) {
                return decisive;
            }
            return std::isnan(x) || std::isnan(y) ? kNone : 1.0 - decisive;
        });
    }

    template <class T>
    static bool holds(const std::string& op, const T& x, const T& y) {
        return op == "="    ? x == y
               : op == "<>" ? x != y
               : op == "<"  ? x < y
               : op == "<=" ? x <= y
               : op == ">"  ? x > y
                            : x >= y;
    }

    Result<Value> compare(const Node& node, const std::string& op, Value& a, Value& b) {
        if (!a.constant && a.type == Value::Type::Number && b.type == Value::Type::Text) {
            return compareLabels(node, op, a, b);
        }
        if (!b.constant && b.type == Value::Type::Number && a.type == Value::Type::Text) {
            const std::string mirrored = op == "<"    ? ">"
                                         : op == ">"  ? "<"
                                         : op == "<=" ? ">="
                                         : op == ">=" ? "<="
                                                      : op;
            return compareLabels(node, mirrored, b, a);
        }
        const bool textA = a.type == Value::Type::Text;
        const bool textB = b.type == Value::Type::Text;
        if (textA != textB && a.type != Value::Type::Null && b.type != Value::Type::Null) {
            return at(node, ErrorCode::WrongType, "a text and a number cannot be compared",
                      "Texts stand in single quotes, numbers bare.");
        }
        if (textA && textB) {
            return compareTexts(op, a, b);
        }
        const auto truthOf = [&](auto holding) {
            return map2(Value::Type::Truth, a, b, [holding](double x, double y) {
                return std::isnan(x) || std::isnan(y) ? kNone : (holding(x, y) ? 1.0 : 0.0);
            });
        };
        return op == "="    ? truthOf(std::equal_to<>())
               : op == "<>" ? truthOf(std::not_equal_to<>())
               : op == "<"  ? truthOf(std::less<>())
               : op == "<=" ? truthOf(std::less_equal<>())
               : op == ">"  ? truthOf(std::greater<>())
                            : truthOf(std::greater_equal<>());
    }

    Value compareTexts(const std::string& op, const Value& a, const Value& b) const {
        const Column x = textColumn("", a);
        const Column y = textColumn("", b);
        Value out;
        out.type = Value::Type::Truth;
        out.numbers.resize(scope_.rows);
        // Against a constant each distinct text is compared once.
        const Column& many = a.constant ? y : x;
        if (a.constant || b.constant) {
            std::vector<double> byText;
            for (const auto& text : many.texts()) {
                byText.push_back(
                    holds(op, a.constant ? a.text : text, b.constant ? b.text : text) ? 1.0 : 0.0);
            }
            for (std::size_t i = 0; i < scope_.rows; ++i) {
                const std::int32_t code = many.codes()[i];
                out.numbers[i] = code < 0 ? kNone : byText[static_cast<std::size_t>(code)];
            }
            return out;
        }
        for (std::size_t i = 0; i < scope_.rows; ++i) {
            out.numbers[i] = x.isMissing(i) || y.isMissing(i)
                                 ? kNone
                                 : (holds(op, x.texts()[static_cast<std::size_t>(x.codes()[i])],
                                          y.texts()[static_cast<std::size_t>(y.codes()[i])])
                                        ? 1.0
                                        : 0.0);
        }
        return out;
    }

    /// A number whose levels carry labels, against a label: zone = 'Ridge'.
    Result<Value> compareLabels(const Node& node, const std::string& op, const Value& numbers,
                                const Value& text) const {
        std::vector<std::string> labels;
        if (numbers.variable != nullptr && text.constant && (op == "=" || op == "<>")) {
            for (const Level& level : numbers.variable->levels) {
                if (level.label == text.text && std::holds_alternative<double>(level.value)) {
                    const double code = std::get<double>(level.value);
                    return map1(Value::Type::Truth, numbers, [code, &op](double x) {
                        return std::isnan(x) ? kNone : (holds(op, x, code) ? 1.0 : 0.0);
                    });
                }
                labels.push_back(level.label);
            }
        }
        if (numbers.variable != nullptr && text.constant &&
            numbers.variable->measure == Measure::Date) {
            if (const auto day = dayOf(text.text)) {
                return map1(Value::Type::Truth, numbers, [day, &op](double x) {
                    return std::isnan(x) ? kNone : (holds(op, x, *day) ? 1.0 : 0.0);
                });
            }
            return at(node, ErrorCode::WrongType, "‘" + text.text + "’ is no date",
                      "Write a date as '2015-06-30', '2015-06' or '2015'.");
        }
        const auto near = nearestName(text.text, labels);
        return at(
            node, ErrorCode::WrongType,
            labels.empty() ? "a text and a number cannot be compared"
                           : "there is no level ‘" + text.text + "’",
            near ? "Did you mean ‘" + *near + "’?" : "Texts stand in single quotes, numbers bare.");
    }

    Result<Value> between(const Node& node) {
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
        const bool negated = node.text == "not";
        return map2(Value::Type::Truth, *above, *below, [negated](double a, double b) {
            const double both =
                a == 0.0 || b == 0.0 ? 0.0 : (std::isnan(a) || std::isnan(b) ? kNone : 1.0);
            return negated ? 1.0 - both : both;
        });
    }

    Result<Value> in(const Node& node) {
        auto x = (*this)(*node.children[0]);
        if (!x) {
            return x;
        }
        Value found = constantNumber(0.0);
        for (std::size_t k = 1; k < node.children.size(); ++k) {
            auto member = (*this)(*node.children[k]);
            auto equal = member ? compare(*node.children[k], "=", *x, *member) : member;
            if (!equal) {
                return equal;
            }
            found = map2(Value::Type::Truth, found, *equal, [](double a, double b) {
                return a == 1.0 || b == 1.0 ? 1.0 : (std::isnan(a) || std::isnan(b) ? kNone : 0.0);
            });
        }
        found.type = Value::Type::Truth;
        return node.text == "not"
                   ? map1(Value::Type::Truth, found, [](double a) { return 1.0 - a; })
                   : found;
    }

    Result<Value> isNull(const Node& node) {
        auto x = (*this)(*node.children[0]);
        if (!x) {
            return x;
        }
        const bool negated = node.text == "not";
        if (x->type == Value::Type::Text) {
            const Column column = textColumn("", *x);
            Value out;
            out.type = Value::Type::Truth;
            out.numbers.resize(scope_.rows);
            for (std::size_t i = 0; i < scope_.rows; ++i) {
                out.numbers[i] = column.isMissing(i) != negated ? 1.0 : 0.0;
            }
            return out;
        }
        return map1(Value::Type::Truth, *x,
                    [negated](double v) { return std::isnan(v) != negated ? 1.0 : 0.0; });
    }

    Result<Value> cases(const Node& node) {
        const std::size_t branches = node.children.size() / 2;
        std::vector<Value> conditions;
        std::vector<Value> values;
        for (std::size_t k = 0; k < branches; ++k) {
            auto condition = truth(*node.children[2 * k], "‘when’");
            if (!condition) {
                return condition;
            }
            conditions.push_back(*std::move(condition));
            auto value = (*this)(*node.children[2 * k + 1]);
            if (!value) {
                return value;
            }
            values.push_back(*std::move(value));
        }
        auto otherwise = (*this)(*node.children.back());
        if (!otherwise) {
            return otherwise;
        }
        values.push_back(*std::move(otherwise));
        const auto isText = [](const Value& v) { return v.type == Value::Type::Text; };
        const bool text = std::any_of(values.begin(), values.end(), isText);
        for (std::size_t k = 0; k < values.size(); ++k) {
            if (text && !isText(values[k]) && values[k].type != Value::Type::Null) {
                return at(node, ErrorCode::WrongType, "the branches mix texts and numbers");
            }
        }
        const auto branchOf = [&](std::size_t row) {
            std::size_t k = 0;
            while (k < branches && conditions[k].at(row) != 1.0) {
                ++k;
            }
            return k;
        };
        return text ? textCases(values, branchOf) : numberCases(values, branchOf);
    }

    template <class F>
    Value numberCases(const std::vector<Value>& values, F branchOf) const {
        Value out;
        out.type = Value::Type::Number;
        out.numbers.resize(scope_.rows);
        for (std::size_t i = 0; i < scope_.rows; ++i) {
            out.numbers[i] = values[branchOf(i)].at(i);
        }
        return out;
    }

    template <class F>
    Value textCases(const std::vector<Value>& values, F branchOf) const {
        std::vector<std::string> texts;
        std::unordered_map<std::string, std::int32_t> index;
        std::vector<std::int32_t> codes(scope_.rows, -1);
        std::vector<std::optional<Column>> columns;
        for (const Value& value : values) {
            columns.push_back(value.type == Value::Type::Null
                                  ? std::nullopt
                                  : std::optional(textColumn("", value)));
        }
        for (std::size_t i = 0; i < scope_.rows; ++i) {
            const auto& column = columns[branchOf(i)];
            if (column && !column->isMissing(i)) {
                const std::string& text =
                    column->texts()[static_cast<std::size_t>(column->codes()[i])];
                const auto [place, fresh] =
                    index.emplace(text, static_cast<std::int32_t>(texts.size()));
                if (fresh) {
                    texts.push_back(text);
                }
                codes[i] = place->second;
            }
        }
        Value out;
        out.type = Value::Type::Text;
        out.column = Column::ofTexts("", std::move(codes), std::move(texts));
        return out;
    }

    Result<Value> call(const Node& node, const Node* over) {
        const auto& wide = columnFunctions();
        const auto columnFunction = std::find_if(
            wide.begin(), wide.end(), [&](const ColumnFunction& f) { return node.text == f.name; });
        if (columnFunction != wide.end()) {
            return columnCall(*columnFunction, node, over);
        }
        const auto& functions = rowFunctions();
        const auto function =
            std::find_if(functions.begin(), functions.end(),
                         [&](const RowFunction& f) { return node.text == f.name; });
        if (function == functions.end()) {
            std::vector<std::string> known;
            for (const RowFunction& f : functions) {
                known.emplace_back(f.name);
            }
            for (const ColumnFunction& f : wide) {
                known.emplace_back(f.name);
            }
            const auto near = nearestName(node.text, known);
            return at(node, ErrorCode::UnknownName, "there is no function ‘" + node.text + "’",
                      near ? "Did you mean ‘" + *near + "’?" : "");
        }
        if (over != nullptr) {
            return at(*over, ErrorCode::Syntax,
                      "‘" + node.text + "’ reads one row at a time: ‘over’ means nothing after it");
        }
        if (node.children.size() < function->least || node.children.size() > function->most) {
            return at(node, ErrorCode::Syntax,
                      fmt::format("‘{}’ takes {} {}, not {}", node.text,
                                  function->least == function->most
                                      ? std::to_string(function->least)
                                      : fmt::format("{} to {}", function->least, function->most),
                                  function->most == 1 ? "value" : "values", node.children.size()));
        }
        std::vector<Value> values;
        for (const auto& child : node.children) {
            auto value = numeric(*child, ("‘" + node.text + "’").c_str());
            if (!value) {
                return value;
            }
            values.push_back(*std::move(value));
        }
        measure.reset();
        levels.clear();
        return apply(*function, values);
    }

    void lose(const std::string& cause, std::size_t rows) {
        const auto known = std::find_if(losses.begin(), losses.end(),
                                        [&](const Loss& l) { return l.cause == cause; });
        if (known != losses.end()) {
            known->rows += rows;
        } else if (rows > 0) {
            losses.push_back({cause, rows});
        }
    }

    Result<Value> columnCall(const ColumnFunction& function, const Node& node, const Node* over) {
        const std::size_t least = function.least + (function.takesWord ? 2 : 1);
        const std::size_t most = function.most + (function.takesWord ? 2 : 1);
        if (node.children.size() < least || node.children.size() > most) {
            const bool several =
                most > 1 && node.children.size() > 1 && (node.text == "min" || node.text == "max");
            return at(node, ErrorCode::Syntax,
                      fmt::format("‘{}’ takes {}, not {}", node.text,
                                  least == most ? plural(least, "value", "values")
                                                : fmt::format("{} to {} values", least, most),
                                  node.children.size()),
                      several || node.text == "min" ? "The smallest of several is ‘least’."
                      : node.text == "max"          ? "The largest of several is ‘greatest’."
                                                    : function.summary);
        }
        auto of = function.takesText ? (*this)(*node.children[0])
                                     : numeric(*node.children[0], ("‘" + node.text + "’").c_str());
        if (!of) {
            return of;
        }
        const Column column = columnOf(*of);
        ColumnCall call{column, of->variable, {}, {}, nullptr, nullptr};
        for (std::size_t k = 1; k < node.children.size(); ++k) {
            const auto setting = (*this)(*node.children[k]);
            if (!setting) {
                return setting;
            }
            const bool word = setting->type == Value::Type::Text;
            if (!setting->constant || (word && !function.takesWord)) {
                return at(*node.children[k], ErrorCode::WrongType,
                          "‘" + node.text + "’ needs a fixed number here");
            }
            word ? void(call.word = setting->text) : call.settings.push_back(setting->number);
            if (!word && function.takesWord) {
                call.word = exactNumber(setting->number);
            }
        }
        std::optional<Grouping> groups;
        if (over != nullptr) {
            auto cut = partition(function, *over);
            if (!cut) {
                return tl::make_unexpected(cut.error());
            }
            groups = *std::move(cut);
            call.groups = &*groups;
        }
        if (function.needsLayout) {
            if (!scope_.timeOrder) {
                return at(node, ErrorCode::BadSetting, "‘" + node.text + "’ needs rows in time");
            }
            const Result<TimeOrder>& order = scope_.timeOrder();
            if (!order) {
                return at(node, order.error().code, "‘" + node.text + "’: " + order.error().what,
                          order.error().help);
            }
            call.order = &*order;
        }
        auto found = function.apply(call);
        if (!found) {
            return at(node, found.error().code, "‘" + node.text + "’: " + found.error().what,
                      found.error().help);
        }
        for (const Loss& loss : found->losses) {
            lose(loss.cause, loss.rows);
        }
        measure = found->measure;
        levels = found->levels;
        Value out;
        out.type = found->isTruth           ? Value::Type::Truth
                   : found->column.isText() ? Value::Type::Text
                                            : Value::Type::Number;
        out.column = found->column;
        return out;
    }

    Result<Grouping> partition(const ColumnFunction& function, const Node& over) const {
        if (!function.partitions) {
            return at(over, ErrorCode::Syntax,
                      fmt::format("‘over’ means nothing after ‘{}’", function.name));
        }
        std::optional<Grouping> groups;
        for (std::size_t k = 1; k < over.children.size(); ++k) {
            const auto by = name(*over.children[k]);
            if (!by) {
                return tl::make_unexpected(by.error());
            }
            const Grouping one = groupBy(*by->column, true);
            groups = groups ? splitBy(*groups, one) : one;
        }
        return *groups;
    }

    Value apply(const RowFunction& function, const std::vector<Value>& values) {
        std::size_t lost = 0;
        std::vector<Cells> cells;
        bool constant = true;
        for (const Value& value : values) {
            cells.push_back(cellsOf(value));
            constant = constant && cells.back().stride == 0;
        }
        Value out;
        out.type = Value::Type::Number;
        std::vector<double> arguments(values.size());
        const std::size_t rows = constant ? 1 : scope_.rows;
        out.numbers.resize(rows);
        for (std::size_t i = 0; i < rows; ++i) {
            bool missing = false;
            for (std::size_t k = 0; k < cells.size(); ++k) {
                arguments[k] = cells[k][i];
                missing = missing || std::isnan(arguments[k]);
            }
            out.numbers[i] = missing && !function.seesMissing
                                 ? kNone
                                 : function.apply(arguments.data(), arguments.size());
            lost += !missing && std::isnan(out.numbers[i]) ? 1U : 0U;
        }
        if (function.loss != nullptr) {
            lose(function.loss, lost);
        }
        if (constant) {
            out.constant = true;
            out.number = out.numbers[0];
        }
        return out;
    }

    const Scope& scope_;
};

}  // namespace

Result<Evaluated> evaluate(const Expression& expression, const Scope& scope) {
    Evaluator evaluator(scope);
    auto value = evaluator(expression.root());
    if (!value) {
        return tl::make_unexpected(value.error());
    }
    const std::string title = expression.canonical();
    Evaluated out{evaluator.columnOf(*value).renamed(title),
                  value->type == Value::Type::Truth,
                  0,
                  evaluator.losses,
                  {},
                  {}};
    for (const Loss& loss : out.losses) {
        out.undefined += loss.rows;
    }
    const Node::Kind outermost = expression.root().kind;
    if (outermost == Node::Kind::Call || outermost == Node::Kind::Over) {
        out.measure = evaluator.measure;
        out.levels = evaluator.levels;
    }
    return out;
}

}  // namespace rapporto
