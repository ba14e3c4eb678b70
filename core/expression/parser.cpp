#include "core/base/format.h"
#include "core/expression/expression.h"

#include <fast_float/fast_float.h>
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cctype>

namespace rapporto {
namespace {

using NodePtr = std::shared_ptr<const Node>;

struct Token {
    enum class Kind : std::uint8_t { Number, Text, Name, Word, Mark, End };

    Kind kind = Kind::End;
    std::string text;
    double number = 0.0;
    std::size_t position = 0;
    bool quoted = false;  ///< A name in quotes is a variable, whatever it spells.
};

constexpr std::array kReserved = {"and",  "or",   "not",  "between", "in",   "is",
                                  "null", "case", "when", "then",    "else", "end"};

bool isWordStart(char c) {
    return std::isalpha(static_cast<unsigned char>(c)) != 0 || c == '_' ||
           (static_cast<unsigned char>(c) & 0x80U) != 0;
}

bool isWordPart(char c) {
    return isWordStart(c) || std::isdigit(static_cast<unsigned char>(c)) != 0;
}

std::string lowerCase(std::string s) {
    std::transform(s.begin(), s.end(), s.begin(),
                   [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
    return s;
}

tl::unexpected<Refusal> syntax(std::size_t position, std::string what, std::string help = {}) {
    return refuse(ErrorCode::Syntax, std::move(what), fmt::format("position {}", position),
                  std::move(help));
}

Result<std::vector<Token>> tokens(const std::string& text) {
    std::vector<Token> found;
    for (std::size_t i = 0; i < text.size();) {
        const char c = text[i];
        if (std::isspace(static_cast<unsigned char>(c)) != 0) {
            ++i;
            continue;
        }
        Token token;
        token.position = i + 1;
        if (std::isdigit(static_cast<unsigned char>(c)) != 0 ||
            (c == '.' && i + 1 < text.size() &&
             std::isdigit(static_cast<unsigned char>(text[i + 1])) != 0)) {
            token.kind = Token::Kind::Number;
            const auto [end, error] =
                fast_float::from_chars(text.data() + i, text.data() + text.size(), token.number);
            if (error != std::errc() || !(std::abs(token.number) < 1e308)) {
                return syntax(i + 1, "this number cannot be read");
            }
            i = static_cast<std::size_t>(end - text.data());
        } else if (c == '\'' || c == '"') {
            token.kind = c == '\'' ? Token::Kind::Text : Token::Kind::Name;
            token.quoted = true;
            for (++i;; ++i) {
                if (i >= text.size()) {
                    return syntax(token.position, "a quotation mark opens and never closes");
                }
                if (text[i] != c) {
                    token.text += text[i];
                } else if (i + 1 < text.size() && text[i + 1] == c) {
                    token.text += text[i++];
                } else {
                    ++i;
                    break;
                }
            }
        } else if (isWordStart(c)) {
            const std::size_t from = i;
            while (i < text.size() && isWordPart(text[i])) {
                ++i;
            }
            token.text = text.substr(from, i - from);
            const std::string lower = lowerCase(token.text);
            token.kind = Token::Kind::Name;
            if (std::find(kReserved.begin(), kReserved.end(), lower) != kReserved.end()) {
                token.kind = Token::Kind::Word;
                token.text = lower;
            }
        } else {
            static const std::array<std::string, 14> kMarks = {
                "<>", "<=", ">=", "<", ">", "=", "+", "-", "*", "/", "(", ")", ",", "≠"};
            const auto mark = std::find_if(kMarks.begin(), kMarks.end(), [&](const std::string& m) {
                return text.compare(i, m.size(), m) == 0;
            });
            if (mark == kMarks.end()) {
                const bool notEqual = text.compare(i, 2, "!=") == 0;
                return syntax(i + 1, fmt::format("‘{}’ means nothing here", c),
                              notEqual ? "Write <> for “differs from”." : "");
            }
            token.kind = Token::Kind::Mark;
            token.text = *mark;
            i += mark->size();
        }
        found.push_back(std::move(token));
    }
    Token end;
    end.position = text.size() + 1;
    found.push_back(end);
    return found;
}

NodePtr make(Node::Kind kind, std::string text, std::size_t position,
             std::vector<NodePtr> children) {
    auto node = std::make_shared<Node>();
    node->kind = kind;
    node->text = std::move(text);
    node->position = position;
    node->children = std::move(children);
    return node;
}

bool isTrend(const Node& node) {
    return node.text == "trend" && node.children.size() == 1 &&
           node.children.front()->kind == Node::Kind::Number &&
           node.children.front()->number == 0.0;
}

bool isExtract(const Node& node) {
    return node.text == "extract" && node.children.size() == 2 &&
           node.children.back()->kind == Node::Kind::Text;
}

/// Recursive descent, loosest binding first.
class Parser {
  public:
    explicit Parser(std::vector<Token> list) : list_(std::move(list)) {}

    Result<NodePtr> all() {
        auto node = disjunction();
        if (node && now().kind != Token::Kind::End) {
            return syntax(now().position, "‘" + shown() + "’ is one too many here",
                          "An operator may be missing before it.");
        }
        return node;
    }

  private:
    const Token& now() const { return list_[at_]; }

    std::string shown() const {
        return now().kind == Token::Kind::Number ? exactNumber(now().number)
               : now().kind == Token::Kind::End  ? std::string("the end")
                                                 : now().text;
    }

    bool isWord(const char* word) const {
        return now().kind == Token::Kind::Word && now().text == word;
    }

    bool isMark(const char* mark) const {
        return now().kind == Token::Kind::Mark && now().text == mark;
    }

    bool takeWord(const char* word) { return isWord(word) && (++at_, true); }

    bool takeMark(const char* mark) { return isMark(mark) && (++at_, true); }

    tl::unexpected<Refusal> expected(const std::string& what) const {
        return syntax(now().position,
                      what + " is expected here, not " +
                          (now().kind == Token::Kind::End ? "the end" : "‘" + shown() + "’"));
    }

    using Rule = Result<NodePtr> (Parser::*)();

    Result<NodePtr> chain(Rule inner, const std::vector<std::string>& operators, bool words) {
        auto left = (this->*inner)();
        while (left) {
            const bool fits =
                now().kind == (words ? Token::Kind::Word : Token::Kind::Mark) &&
                std::find(operators.begin(), operators.end(), now().text) != operators.end();
            if (!fits) {
                break;
            }
            const Token op = now();
            ++at_;
            auto right = (this->*inner)();
            if (!right) {
                return right;
            }
            left = make(Node::Kind::Binary, op.text, op.position, {*left, *right});
        }
        return left;
    }

    /// Counts a level of nesting while it lives. Each costs stack in whoever walks the tree.
    struct Level {
        explicit Level(std::size_t& levels) : levels_(levels) { ++levels_; }

        ~Level() { --levels_; }

        Level(const Level&) = delete;
        Level& operator=(const Level&) = delete;

        [[nodiscard]] bool isTooDeep() const { return levels_ > kMostLevels; }

      private:
        static constexpr std::size_t kMostLevels = 240;  // Two for a pair of brackets.
        std::size_t& levels_;
    };

    tl::unexpected<Refusal> tooDeep() const {
        return syntax(now().position, "this is nested too deeply",
                      "Derive its parts as variables of their own.");
    }

    Result<NodePtr> disjunction() {
        const Level level(levels_);
        return level.isTooDeep() ? Result<NodePtr>(tooDeep())
                                 : chain(&Parser::conjunction, {"or"}, true);
    }

    Result<NodePtr> conjunction() { return chain(&Parser::negation, {"and"}, true); }

    Result<NodePtr> negation() {
        const std::size_t position = now().position;
        if (takeWord("not")) {
            const Level level(levels_);
            auto inner = level.isTooDeep() ? Result<NodePtr>(tooDeep()) : negation();
            return inner ? make(Node::Kind::Unary, "not", position, {*inner}) : inner;
        }
        return predicate();
    }

    Result<NodePtr> predicate() {
        auto left = sum();
        if (!left) {
            return left;
        }
        const Token op = now();
        if (op.kind == Token::Kind::Mark &&
            (op.text == "=" || op.text == "<>" || op.text == "<" || op.text == "<=" ||
             op.text == ">" || op.text == ">=" || op.text == "≠")) {
            ++at_;
            auto right = sum();
            return right ? make(Node::Kind::Binary, op.text == "≠" ? "<>" : op.text, op.position,
                                {*left, *right})
                         : right;
        }
        if (takeWord("is")) {
            const bool negated = takeWord("not");
            if (!takeWord("null")) {
                return expected("‘null’");
            }
            return make(Node::Kind::IsNull, negated ? "not" : "", op.position, {*left});
        }
        const bool negated = takeWord("not");
        if (takeWord("between")) {
            auto low = sum();
            if (!low) {
                return low;
            }
            if (!takeWord("and")) {
                return expected("‘and’ with the upper end");
            }
            auto high = sum();
            return high ? make(Node::Kind::Between, negated ? "not" : "", op.position,
                               {*left, *low, *high})
                        : high;
        }
        if (takeWord("in")) {
            if (!takeMark("(")) {
                return expected("‘(’");
            }
            std::vector<NodePtr> children = {*left};
            if (auto rest = arguments(children); !rest) {
                return tl::make_unexpected(rest.error());
            }
            return make(Node::Kind::In, negated ? "not" : "", op.position, std::move(children));
        }
        if (negated) {
            return expected("‘between’ or ‘in’");
        }
        return left;
    }

    Result<NodePtr> sum() { return chain(&Parser::product, {"+", "-"}, false); }

    Result<NodePtr> product() { return chain(&Parser::sign, {"*", "/"}, false); }

    Result<NodePtr> sign() {
        const std::size_t position = now().position;
        const Level level(levels_);
        if (level.isTooDeep()) {
            return tooDeep();
        }
        if (takeMark("+")) {
            return sign();
        }
        if (takeMark("-")) {
            auto inner = sign();
            if (inner && (*inner)->kind == Node::Kind::Number) {
                auto negative = std::make_shared<Node>(**inner);
                negative->number = -negative->number;
                negative->position = position;
                return NodePtr(negative);
            }
            return inner ? make(Node::Kind::Unary, "-", position, {*inner}) : inner;
        }
        return primary();
    }

    /// After the opening parenthesis: a list up to and with the closing one.
    Result<void> arguments(std::vector<NodePtr>& into) {
        do {
            auto one = disjunction();
            if (!one) {
                return tl::make_unexpected(one.error());
            }
            into.push_back(*one);
        } while (takeMark(","));
        if (!takeMark(")")) {
            return expected("‘,’ or ‘)’");
        }
        return {};
    }

    Result<NodePtr> primary() {
        const Token token = now();
        if (++operands_ > kMostOperands) {
            return syntax(token.position, "this is longer than an expression may be",
                          "Derive its parts as variables of their own.");
        }
        switch (token.kind) {
            case Token::Kind::Number: {
                ++at_;
                auto node = std::make_shared<Node>();
                node->kind = Node::Kind::Number;
                node->number = token.number;
                node->position = token.position;
                return NodePtr(node);
            }
            case Token::Kind::Text:
                ++at_;
                return make(Node::Kind::Text, token.text, token.position, {});
            case Token::Kind::Name: {
                ++at_;
                if (token.quoted || !takeMark("(")) {
                    return make(Node::Kind::Name, token.text, token.position, {});
                }
                std::vector<NodePtr> children;
                if (lowerCase(token.text) == "extract" && isFieldFrom()) {
                    return extracted(token.position);
                }
                if (lowerCase(token.text) == "trend" && takeMark(")")) {
                    // It reads the layout alone; functions over columns have a first argument.
                    return make(Node::Kind::Call, "trend", token.position, {zero(token.position)});
                }
                if (!takeMark(")")) {
                    if (auto rest = arguments(children); !rest) {
                        return tl::make_unexpected(rest.error());
                    }
                }
                return partitioned(make(Node::Kind::Call, lowerCase(token.text), token.position,
                                        std::move(children)));
            }
            case Token::Kind::Word:
                if (takeWord("null")) {
                    return make(Node::Kind::Null, "", token.position, {});
                }
                if (takeWord("case")) {
                    return caseExpression(token.position);
                }
                break;
            case Token::Kind::Mark:
                if (takeMark("(")) {
                    auto inner = disjunction();
                    if (inner && !takeMark(")")) {
                        return expected("‘)’");
                    }
                    return inner;
                }
                break;
            case Token::Kind::End:
                break;
        }
        return expected("a value");
    }

    static NodePtr zero(std::size_t position) { return make(Node::Kind::Number, "", position, {}); }

    /// “month from”: two bare words in a row.
    [[nodiscard]] bool isFieldFrom() const {
        const Token& after = list_[std::min(at_ + 1, list_.size() - 1)];
        return now().kind == Token::Kind::Name && !now().quoted &&
               after.kind == Token::Kind::Name && !after.quoted && lowerCase(after.text) == "from";
    }

    /// `extract(month from t)`, after its opening parenthesis: a call of the value and the field.
    Result<NodePtr> extracted(std::size_t position) {
        const Token field = now();
        at_ += 2;
        auto of = disjunction();
        if (!of) {
            return of;
        }
        if (!takeMark(")")) {
            return expected("‘)’");
        }
        return make(Node::Kind::Call, "extract", position,
                    {*of, make(Node::Kind::Text, lowerCase(field.text), field.position, {})});
    }

    bool takeName(const char* word) {
        return now().kind == Token::Kind::Name && !now().quoted && lowerCase(now().text) == word &&
               (++at_, true);
    }

    /// After a call: `over (partition by …)`, or nothing. The words stay free as names.
    Result<NodePtr> partitioned(NodePtr call) {
        const bool follows = now().kind == Token::Kind::Name && !now().quoted &&
                             lowerCase(now().text) == "over" &&
                             list_[at_ + 1].kind == Token::Kind::Mark && list_[at_ + 1].text == "(";
        if (!follows) {
            return call;
        }
        const std::size_t position = now().position;
        at_ += 2;
        std::vector<NodePtr> children = {std::move(call)};
        if (takeMark(")")) {
            return children.front();  // over (): all rows.
        }
        if (!takeName("partition") || !takeName("by")) {
            return expected("‘partition by’");
        }
        do {
            if (now().kind != Token::Kind::Name) {
                return expected("the name of a variable");
            }
            children.push_back(make(Node::Kind::Name, now().text, now().position, {}));
            ++at_;
        } while (takeMark(","));
        if (!takeMark(")")) {
            return expected("‘,’ or ‘)’");
        }
        return make(Node::Kind::Over, "over", position, std::move(children));
    }

    /// Children: condition, value, condition, value, …, otherwise.
    Result<NodePtr> caseExpression(std::size_t position) {
        std::vector<NodePtr> children;
        while (takeWord("when")) {
            auto condition = disjunction();
            if (!condition) {
                return condition;
            }
            if (!takeWord("then")) {
                return expected("‘then’");
            }
            auto value = disjunction();
            if (!value) {
                return value;
            }
            children.insert(children.end(), {*condition, *value});
        }
        if (children.empty()) {
            return expected("‘when’");
        }
        if (takeWord("else")) {
            auto value = disjunction();
            if (!value) {
                return value;
            }
            children.push_back(*value);
        } else {
            children.push_back(make(Node::Kind::Null, "", position, {}));
        }
        if (!takeWord("end")) {
            return expected("‘when’, ‘else’ or ‘end’");
        }
        return make(Node::Kind::Case, "", position, std::move(children));
    }

    std::vector<Token> list_;
    std::size_t at_ = 0;
    static constexpr std::size_t kMostOperands = 1000;  // A sum of as many is as deep a tree.
    std::size_t operands_ = 0;
    std::size_t levels_ = 0;
};

int tightness(const Node& node) {
    if (node.kind == Node::Kind::Binary) {
        const std::string& op = node.text;
        return op == "or"               ? 1
               : op == "and"            ? 2
               : op == "+" || op == "-" ? 5
               : op == "*" || op == "/" ? 6
                                        : 4;
    }
    if (node.kind == Node::Kind::Unary) {
        return node.text == "not" ? 3 : 7;
    }
    const bool predicate = node.kind == Node::Kind::Between || node.kind == Node::Kind::In ||
                           node.kind == Node::Kind::IsNull;
    return predicate ? 4 : 9;
}

std::string spelled(const Node& node);

std::string inside(const Node& child, int least) {
    const std::string text = spelled(child);
    return tightness(child) < least ? "(" + text + ")" : text;
}

std::string listed(const Node& node, std::size_t from) {
    std::string text;
    for (std::size_t i = from; i < node.children.size(); ++i) {
        text += (i > from ? ", " : "") + spelled(*node.children[i]);
    }
    return text;
}

/// What two parts make, from the first of all on: a sum of a thousand parts is a tree as deep.
std::string chained(const Node& node) {
    const auto leastOf = [](const Node& of) {
        const int own = tightness(of);
        return own == 4 ? 5 : own;  // One comparison within another takes brackets.
    };
    std::vector<const Node*> chain = {&node};
    for (const Node* left = node.children[0].get();
         left->kind == Node::Kind::Binary && tightness(*left) >= leastOf(*chain.back());
         left = left->children[0].get()) {
        chain.push_back(left);
    }
    std::string text = inside(*chain.back()->children[0], leastOf(*chain.back()));
    for (auto next = chain.rbegin(); next != chain.rend(); ++next) {
        text += " " + (*next)->text + " " + inside(*(*next)->children[1], tightness(**next) + 1);
    }
    return text;
}

std::string spelled(const Node& node) {
    const auto child = [&](std::size_t i) -> const Node& { return *node.children[i]; };
    const std::string negated = node.text == "not" ? "not " : "";
    switch (node.kind) {
        case Node::Kind::Number:
            return exactNumber(node.number);
        case Node::Kind::Null:
            return "null";
        case Node::Kind::Name:
            return quotedName(node.text);
        case Node::Kind::Text: {
            std::string text = "'";
            for (const char c : node.text) {
                text += c == '\'' ? "''" : std::string(1, c);
            }
            return text + "'";
        }
        case Node::Kind::Unary:
            return (node.text == "not" ? "not " : "-") +
                   inside(child(0), node.text == "not" ? 3 : 7);
        case Node::Kind::Binary:
            return chained(node);
        case Node::Kind::Call:
            return isTrend(node) ? std::string("trend()")
                   : isExtract(node)
                       ? "extract(" + child(1).text + " from " + spelled(child(0)) + ")"
                       : node.text + "(" + listed(node, 0) + ")";
        case Node::Kind::Over:
            return spelled(child(0)) + " over (partition by " + listed(node, 1) + ")";
        case Node::Kind::Between:
            return inside(child(0), 5) + " " + negated + "between " + inside(child(1), 5) +
                   " and " + inside(child(2), 5);
        case Node::Kind::In:
            return inside(child(0), 5) + " " + negated + "in (" + listed(node, 1) + ")";
        case Node::Kind::IsNull:
            return inside(child(0), 5) + " is " + negated + "null";
        case Node::Kind::Case: {
            std::string text = "case";
            for (std::size_t i = 0; i + 1 < node.children.size(); i += 2) {
                text += " when " + spelled(child(i)) + " then " + spelled(child(i + 1));
            }
            return text + " else " + spelled(*node.children.back()) + " end";
        }
    }
    return {};
}

void collect(const Node& node, std::set<std::string>& names) {
    if (node.kind == Node::Kind::Name) {
        names.insert(node.text);
    }
    for (const auto& child : node.children) {
        collect(*child, names);
    }
}

NodePtr renamedTree(const NodePtr& node, const std::string& from, const std::string& to) {
    auto copy = std::make_shared<Node>(*node);
    if (copy->kind == Node::Kind::Name && copy->text == from) {
        copy->text = to;
    }
    for (auto& child : copy->children) {
        child = renamedTree(child, from, to);
    }
    return copy;
}

}  // namespace

Result<Expression> Expression::parse(const std::string& text) {
    auto list = tokens(text);
    if (!list) {
        return tl::make_unexpected(list.error());
    }
    if (list->size() == 1) {
        return syntax(1, "the expression is empty");
    }
    auto root = Parser(*std::move(list)).all();
    if (!root) {
        return tl::make_unexpected(root.error());
    }
    Expression expression;
    expression.root_ = *root;
    return expression;
}

Expression Expression::of(const Node& node) {
    Expression expression;
    expression.root_ = std::make_shared<const Node>(node);
    return expression;
}

std::string Expression::canonical() const { return spelled(*root_); }

std::string canonicalText(const std::string& text) {
    const auto parsed = Expression::parse(text);
    return parsed ? parsed->canonical() : text;
}

std::set<std::string> Expression::names() const {
    std::set<std::string> found;
    collect(*root_, found);
    return found;
}

std::string quotedName(const std::string& name) {
    const bool plain =
        !name.empty() && isWordStart(name.front()) &&
        std::all_of(name.begin(), name.end(), &isWordPart) &&
        std::find(kReserved.begin(), kReserved.end(), lowerCase(name)) == kReserved.end();
    if (plain) {
        return name;
    }
    std::string text = "\"";
    for (const char c : name) {
        text += c == '"' ? "\"\"" : std::string(1, c);
    }
    return text + "\"";
}

std::string renamedIn(const std::string& text, const std::string& from, const std::string& to) {
    const auto expression = Expression::parse(text);
    if (!expression || !expression->names().contains(from)) {
        return text;
    }
    const auto root = std::make_shared<Node>(expression->root());
    return spelled(*renamedTree(root, from, to));
}

}  // namespace rapporto
