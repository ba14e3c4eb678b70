#include "core/left/statement.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <cctype>
#include <charconv>
#include <stdexcept>

namespace rapporto {
namespace {

using Kind = StatementNode::Kind;

struct Token {
    enum class Kind : std::uint8_t { Word, Name, Text, Number, Sign, End };

    Kind kind = Kind::End;
    std::string text;
    double number = 0.0;
    std::size_t at = 0;  ///< Where it begins.
};

/// What is met and was not awaited; it leaves parseStatement() as a refusal.
struct Unread : std::runtime_error {
    using std::runtime_error::runtime_error;
};

bool isWordCharacter(char c) {
    return std::isalnum(static_cast<unsigned char>(c)) != 0 || c == '_';
}

/// What stands between quotation marks; a doubled mark is one.
///
/// @param slashed  a backslash takes the sign after it as it is.
std::string unquoted(std::string_view sql, std::size_t& at, bool slashed = false) {
    const char mark = sql[at++];
    std::string out;
    for (; at < sql.size(); ++at) {
        if (slashed && sql[at] == '\\' && at + 1 < sql.size()) {
            ++at;
        } else if (sql[at] == mark) {
            if (at + 1 >= sql.size() || sql[at + 1] != mark) {
                ++at;
                return out;
            }
            ++at;
        }
        out += sql[at];
    }
    throw Unread("a quotation mark that never closes");
}

Token numberAt(std::string_view sql, std::size_t& at) {
    Token out{Token::Kind::Number, {}};
    const auto [end, error] = std::from_chars(sql.data() + at, sql.data() + sql.size(), out.number);
    if (error != std::errc()) {
        throw Unread("a number that is none");
    }
    at = static_cast<std::size_t>(end - sql.data());
    return out;
}

std::string signAt(std::string_view sql, std::size_t& at) {
    const std::string_view two = sql.substr(at, 2);
    const std::size_t length = two == "<=" || two == ">=" || two == "<>" ? 2 : 1;
    at += length;
    return std::string(two.substr(0, length));
}

Token wordAt(std::string_view sql, std::size_t& at) {
    const std::size_t from = at;
    while (at < sql.size() && isWordCharacter(sql[at])) {
        ++at;
    }
    return {Token::Kind::Word, std::string(sql.substr(from, at - from))};
}

Token tokenAt(std::string_view sql, std::size_t& at) {
    const char c = sql[at];
    if (c == '\'') {
        return {Token::Kind::Text, unquoted(sql, at)};
    }
    if (sql.substr(at, 2) == "e'") {
        ++at;
        return {Token::Kind::Text, unquoted(sql, at, true)};
    }
    if (c == '"') {
        return {Token::Kind::Name, unquoted(sql, at)};
    }
    if (std::isdigit(static_cast<unsigned char>(c)) != 0) {
        return numberAt(sql, at);
    }
    return isWordCharacter(c) ? wordAt(sql, at) : Token{Token::Kind::Sign, signAt(sql, at)};
}

std::vector<Token> tokensOf(std::string_view sql) {
    std::vector<Token> out;
    for (std::size_t at = 0; at < sql.size();) {
        if (std::isspace(static_cast<unsigned char>(sql[at])) != 0) {
            ++at;
            continue;
        }
        const std::size_t from = at;
        out.push_back(tokenAt(sql, at));
        out.back().at = from;
    }
    out.emplace_back();
    out.back().at = sql.size();
    return out;
}

StatementNode nodeOf(Kind kind, std::string text, std::vector<StatementNode> children) {
    StatementNode out;
    out.kind = kind;
    out.text = std::move(text);
    out.children = std::move(children);
    return out;
}

StatementNode truthOf(bool value) {
    StatementNode out;
    out.kind = Kind::Truth;
    out.number = value ? 1.0 : 0.0;
    return out;
}

/// Words that end a value: none of them is the name of a column.
bool isKept(const std::string& word) {
    constexpr std::array<std::string_view, 20> kKept = {
        "from", "where", "group", "having", "limit", "offset", "join", "on",      "as",   "and",
        "or",   "not",   "when",  "then",   "else",  "end",    "is",   "collate", "case", "select"};
    return std::find(kKept.begin(), kKept.end(), word) != kKept.end();
}

/// Descends through a statement, one function a rank of binding.
class Parser {
  public:
    explicit Parser(std::string_view sql) : sql_(sql), tokens_(tokensOf(sql)) {}

    Statement whole() {
        Statement out = statement();
        if (tokens_[at_].kind != Token::Kind::End) {
            unread();
        }
        return out;
    }

  private:
    [[noreturn]] void unread() const {
        const Token& token = tokens_[at_];
        throw Unread(token.kind == Token::Kind::End ? "its end" : "‘" + token.text + "’");
    }

    [[nodiscard]] bool is(const char* text, std::size_t ahead = 0) const {
        const Token& token = tokens_[std::min(at_ + ahead, tokens_.size() - 1)];
        return (token.kind == Token::Kind::Word || token.kind == Token::Kind::Sign) &&
               token.text == text;
    }

    bool take(const char* text) {
        const bool found = is(text);
        at_ += found ? 1 : 0;
        return found;
    }

    void need(const char* text) {
        if (!take(text)) {
            unread();
        }
    }

    std::string word() {
        if (tokens_[at_].kind != Token::Kind::Word && tokens_[at_].kind != Token::Kind::Name) {
            unread();
        }
        return tokens_[at_++].text;
    }

    std::size_t count() {
        if (tokens_[at_].kind != Token::Kind::Number) {
            unread();
        }
        return static_cast<std::size_t>(tokens_[at_++].number);
    }

    Statement statement() {
        const std::size_t first = tokens_[at_].at;
        Statement out = clauses();
        out.text = std::string(sql_.substr(first, tokens_[at_].at - first));
        return out;
    }

    Statement clauses() {
        need("select");
        Statement out;
        do {
            out.items.push_back(item());
        } while (take(","));
        need("from");
        out.from = source();
        if (take("join")) {
            Statement::Joined joined{source(), {}, {}};
            need("on");
            joined.right = primary();
            need("=");
            joined.left = primary();
            out.join = std::move(joined);
        }
        if (take("where")) {
            out.where = value();
        }
        if (take("group")) {
            need("by");
            do {
                out.groupBy.push_back(value());
            } while (take(","));
        }
        if (take("having")) {
            out.having = value();
        }
        // Rows are told in the order of the table, and none are passed over.
        if (take("limit")) {
            out.limit = count();
        }
        if (take("offset")) {
            if (count() != 0) {
                unread();
            }
            need("rows");
        }
        return out;
    }

    StatementSource source() {
        StatementSource out;
        if (take("(")) {
            out.inner = std::make_shared<const Statement>(statement());
            need(")");
        } else {
            out.table = word();
        }
        if (tokens_[at_].kind == Token::Kind::Word && !isKept(tokens_[at_].text)) {
            out.alias = word();
        }
        return out;
    }

    Statement::Item item() {
        Statement::Item out{value(), {}};
        if (take("as")) {
            out.name = word();
        } else if (out.value.kind == Kind::Column) {
            out.name = out.value.text;
        }
        return out;
    }

    StatementNode value() {
        return chain({"or"}, [this] { return conjunction(); });
    }

    StatementNode conjunction() {
        return chain({"and"}, [this] { return negation(); });
    }

    StatementNode negation() {
        return take("not") ? nodeOf(Kind::Not, {}, {negation()}) : comparison();
    }

    template <class Next>
    StatementNode chain(std::initializer_list<const char*> operators, const Next& next) {
        StatementNode out = next();
        for (bool more = true; more;) {
            more = false;
            for (const char* one : operators) {
                if (take(one)) {
                    out = joined(std::move(out), one, next());
                    more = true;
                    break;
                }
            }
        }
        return out;
    }

    /// A list of conditions is one node, however long: what comes after descends by rank alone.
    static StatementNode joined(StatementNode left, const std::string& by, StatementNode right) {
        const bool flat = by == "and" || by == "or";
        if (flat && left.kind == Kind::Binary && left.text == by) {
            left.children.push_back(std::move(right));
            return left;
        }
        std::vector<StatementNode> both;
        both.push_back(std::move(left));
        both.push_back(std::move(right));
        return nodeOf(Kind::Binary, by, std::move(both));
    }

    StatementNode comparison() {
        StatementNode left = sum();
        for (const char* one : {"<=", ">=", "<>", "=", "<", ">"}) {
            if (take(one)) {
                StatementNode right = sum();
                if (take("collate")) {
                    word();  // Texts are put in order by code points, always.
                }
                return nodeOf(Kind::Binary, one, {std::move(left), std::move(right)});
            }
        }
        if (take("is")) {
            const bool present = take("not");
            need("null");
            StatementNode out = nodeOf(Kind::IsNull, {}, {std::move(left)});
            return present ? nodeOf(Kind::Not, {}, {std::move(out)}) : out;
        }
        return left;
    }

    StatementNode sum() {
        return chain({"+", "-"}, [this] { return product(); });
    }

    StatementNode product() {
        return chain({"*", "/"}, [this] { return signedValue(); });
    }

    StatementNode signedValue() {
        return take("-") ? nodeOf(Kind::Minus, {}, {signedValue()}) : primary();
    }

    StatementNode primary() {
        const Token& token = tokens_[at_];
        switch (token.kind) {
            case Token::Kind::Number: {
                ++at_;
                StatementNode out;
                out.kind = Kind::Number;
                out.number = token.number;
                return out;
            }
            case Token::Kind::Text:
                ++at_;
                return nodeOf(Kind::Text, token.text, {});
            case Token::Kind::Name:
                return column();
            case Token::Kind::Word:
                return worded();
            case Token::Kind::Sign:
                break;
            case Token::Kind::End:
                unread();
        }
        if (take("*")) {
            return nodeOf(Kind::Star, {}, {});
        }
        need("(");
        StatementNode out = value();
        need(")");
        return out;
    }

    StatementNode column() {
        StatementNode out = nodeOf(Kind::Column, word(), {});
        if (take(".")) {
            out.of = out.text;
            if (take("*")) {
                out.kind = Kind::Star;
                out.text.clear();
            } else {
                out.text = word();
            }
        }
        return out;
    }

    StatementNode worded() {
        if (take("case")) {
            return cases();
        }
        if (take("null")) {
            return {};
        }
        if (is("true") || is("false")) {
            return truthOf(word() == "true");
        }
        if (is("cast") && is("(", 1)) {
            return cast();
        }
        if (!is("(", 1)) {
            return isKept(tokens_[at_].text) ? (unread(), StatementNode()) : column();
        }
        StatementNode out = nodeOf(Kind::Call, word(), {});
        need("(");
        out.distinct = take("distinct");
        if (!is(")")) {
            do {
                out.children.push_back(value());
            } while (take(","));
        }
        need(")");
        // Counts the rows of each part in the order of the table.
        if (take("over")) {
            need("(");
            need("partition");
            need("by");
            out.children.assign(1, value());
            need(")");
        }
        return out;
    }

    StatementNode cast() {
        need("cast");
        need("(");
        StatementNode inner = value();
        need("as");
        const std::string type = word();
        if (type == "double") {
            need("precision");
        }
        need(")");
        if (inner.kind == Kind::Null && type == "boolean") {
            return inner;
        }
        return nodeOf(type == "text" ? Kind::ToText : Kind::ToNumber, {}, {std::move(inner)});
    }

    StatementNode cases() {
        StatementNode out = nodeOf(Kind::Case, {}, {});
        std::optional<StatementNode> of;
        if (!is("when")) {
            of = value();
        }
        while (take("when")) {
            StatementNode when = value();
            need("then");
            out.children.push_back(of ? nodeOf(Kind::Binary, "=", {*of, std::move(when)})
                                      : std::move(when));
            out.children.push_back(value());
        }
        out.children.push_back(take("else") ? value() : StatementNode());
        need("end");
        return out;
    }

    std::string_view sql_;
    std::vector<Token> tokens_;
    std::size_t at_ = 0;
};

}  // namespace

Result<Statement> parseStatement(std::string_view sql) {
    try {
        return Parser(sql).whole();
    } catch (const Unread& unread) {
        return refuse(ErrorCode::Syntax,
                      fmt::format("the statement was not read on at {}", unread.what()),
                      std::string(sql));
    }
}

}  // namespace rapporto
