#include "core/study/shape_text.h"

#include "core/base/format.h"
#include "core/base/typed_text.h"
#include "core/data/grouping.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

/// Cuts at `mark` outside of quotes and brackets.
std::vector<std::string> cutAt(const std::string& text, char mark) {
    std::vector<std::string> parts(1);
    char quote = 0;
    int depth = 0;
    for (const char c : text) {
        if (quote != 0) {
            quote = c == quote ? '\0' : quote;
        } else if (c == '"' || c == '\'') {
            quote = c;
        } else {
            depth += c == '(' ? 1 : c == ')' ? -1 : 0;
        }
        if (c == mark && quote == 0 && depth == 0) {
            parts.emplace_back();
        } else {
            parts.back() += c;
        }
    }
    for (std::string& part : parts) {
        part = trimmed(part);
    }
    return parts;
}

/// A name as typed: bare or in double quotes.
Result<std::string> nameIn(const std::string& text, const std::string& where) {
    if (text.empty()) {
        return refuse(ErrorCode::Syntax, "a name is missing", where);
    }
    if (text.front() != '"') {
        return text;
    }
    const auto parsed = Expression::parse(text);
    if (!parsed || !parsed->isName()) {
        return refuse(ErrorCode::Syntax, "‘" + text + "’ is no name", where,
                      "A name in quotes ends with a quote.");
    }
    return parsed->root().text;
}

std::string written(const std::string& name) {
    const bool plain = name.find_first_of(",=\"'()\n") == std::string::npos &&
                       name.find(" at ") == std::string::npos && trimmed(name) == name;
    return plain ? name : quotedName(name);
}

std::vector<std::pair<std::size_t, std::string>> linesOf(const std::string& text) {
    std::vector<std::pair<std::size_t, std::string>> lines;
    std::size_t number = 0;
    for (const std::string& line : cutAt(text, '\n')) {
        ++number;
        if (!line.empty()) {
            lines.emplace_back(number, line);
        }
    }
    return lines;
}

/// “name = rest”, cut at the first equals sign.
Result<std::pair<std::string, std::string>> definition(const std::string& line,
                                                       const std::string& where,
                                                       const std::string& example) {
    const auto parts = cutAt(line, '=');
    if (parts.size() < 2) {
        return refuse(ErrorCode::Syntax, "‘" + line + "’ has no ‘=’", where,
                      "A line reads: " + example + ".");
    }
    const auto name = nameIn(parts[0], where);
    if (!name) {
        return tl::make_unexpected(name.error());
    }
    return std::pair{*name, trimmed(line.substr(line.find('=', parts[0].size()) + 1))};
}

}  // namespace

Result<std::vector<KeyPair>> readKeys(const std::string& text) {
    std::vector<KeyPair> keys;
    if (trimmed(text).empty()) {
        return keys;
    }
    for (const std::string& part : cutAt(text, ',')) {
        const auto sides = cutAt(part, '=');
        if (sides.size() > 2) {
            return refuse(ErrorCode::Syntax, "‘" + part + "’ has two equals signs", "the keys",
                          "Write: here = there.");
        }
        const auto here = nameIn(sides.front(), "the keys");
        const auto there = nameIn(sides.back(), "the keys");
        if (!here || !there) {
            return tl::make_unexpected((here ? there : here).error());
        }
        keys.push_back({*here, *there});
    }
    return keys;
}

std::string keysText(const std::vector<KeyPair>& keys) {
    std::vector<std::string> parts;
    for (const KeyPair& key : keys) {
        parts.push_back(key.here == key.there ? written(key.here)
                                              : written(key.here) + " = " + written(key.there));
    }
    return joinedNames(parts);
}

Result<std::vector<std::string>> readNames(const std::string& text) {
    std::vector<std::string> names;
    if (trimmed(text).empty()) {
        return names;
    }
    for (const std::string& part : cutAt(text, ',')) {
        const auto name = nameIn(part, "the names");
        if (!name) {
            return tl::make_unexpected(name.error());
        }
        names.push_back(*name);
    }
    return names;
}

std::string namesText(const std::vector<std::string>& names) {
    std::vector<std::string> parts;
    std::transform(names.begin(), names.end(), std::back_inserter(parts), &written);
    return joinedNames(parts);
}

Result<std::vector<Derived>> readColumns(const std::string& text) {
    std::vector<Derived> columns;
    for (const auto& [number, line] : linesOf(text)) {
        const std::string where = fmt::format("line {}", number);
        const auto parts = definition(line, where, "mean_age = avg(age)");
        if (!parts) {
            return tl::make_unexpected(parts.error());
        }
        if (const auto parsed = Expression::parse(parts->second); !parsed) {
            Refusal refusal = parsed.error();
            refusal.where = where + ", " + refusal.where;
            return tl::make_unexpected(refusal);
        }
        columns.push_back({parts->first, parts->second, {}});
    }
    return columns;
}

std::string columnsText(const std::vector<Derived>& columns) {
    std::string text;
    for (const Derived& column : columns) {
        text += (text.empty() ? "" : "\n") + written(column.name) + " = " + column.expression;
    }
    return text;
}

Result<std::vector<LongVariable>> readLongVariables(const std::string& text) {
    std::vector<LongVariable> variables;
    for (const auto& [place, line] : linesOf(text)) {
        const std::string where = fmt::format("line {}", place);
        const std::string example = "yield = yield_2019 at 2019, yield_2020 at 2020";
        const auto parts = definition(line, where, example);
        if (!parts) {
            return tl::make_unexpected(parts.error());
        }
        LongVariable variable{parts->first, {}};
        for (const std::string& part : cutAt(parts->second, ',')) {
            const auto at = part.rfind(" at ");
            if (at == std::string::npos) {
                return refuse(ErrorCode::Syntax, "‘" + part + "’ does not say at which moment",
                              where, "A line reads: " + example + ".");
            }
            const auto column = nameIn(trimmed(part.substr(0, at)), where);
            if (!column) {
                return tl::make_unexpected(column.error());
            }
            const std::string moment = trimmed(part.substr(at + 4));
            const auto number = numberIn(moment);  // A word names a moment as well.
            variable.columns.push_back({*column, number ? Key(*number) : Key(moment)});
        }
        variables.push_back(std::move(variable));
    }
    return variables;
}

std::string longVariablesText(const std::vector<LongVariable>& variables) {
    std::string text;
    for (const LongVariable& variable : variables) {
        std::vector<std::string> parts;
        for (const ColumnAt& one : variable.columns) {
            parts.push_back(written(one.column) + " at " + keyText(one.at));
        }
        text += (text.empty() ? "" : "\n") + written(variable.name) + " = " + joinedNames(parts);
    }
    return text;
}

std::vector<KeyPair> likelyKeys(const Table& here, const Table& there) {
    std::vector<KeyPair> common;
    for (const Column& column : here.columns) {
        const int at = there.find(column.name());
        if (at < 0 || there.columns[static_cast<std::size_t>(at)].isText() != column.isText()) {
            continue;
        }
        const Grouping groups = groupBy(there.columns[static_cast<std::size_t>(at)], false);
        if (static_cast<std::size_t>(groups.count) == there.rows() && there.rows() > 0) {
            return {{column.name(), column.name()}};
        }
        common.push_back({column.name(), column.name()});
    }
    return common;
}

std::vector<Derived> likelyColumns(const Table& table, const std::vector<std::string>& by) {
    std::vector<Derived> columns;
    if (!by.empty()) {
        columns.push_back({"rows", "count(" + quotedName(by.front()) + ")", {}});
    }
    for (const Variable& v : table.variables) {
        const bool measured = v.measure == Measure::Quantity || v.measure == Measure::Count ||
                              v.measure == Measure::YesNo;
        if (measured && std::find(by.begin(), by.end(), v.name) == by.end()) {
            columns.push_back({v.name, "avg(" + quotedName(v.name) + ")", {}});
        }
    }
    return columns;
}

}  // namespace rapporto
