#include "core/describe/recode.h"

#include "core/base/format.h"
#include "core/base/typed_text.h"
#include "core/describe/summary.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

std::string quotedText(const std::string& text) {
    std::string out = "'";
    for (const char c : text) {
        out += c == '\'' ? "''" : std::string(1, c);
    }
    return out + "'";
}

struct Condition {
    std::string text;      ///< Empty: everything that is left.
    bool missing = false;  ///< Of missing values.
};

/// The left side of a line as a condition on the variable.
Result<Condition> conditionOf(const std::string& from, const std::string& name, bool text,
                              const std::string& where) {
    const auto bad = [&](const std::string& what) {
        return refuse(ErrorCode::Syntax, what, where,
                      text ? "Write a value, several with commas, “missing” or “else”."
                           : "Write a number, “3 to 5”, “< 20”, “>= 60”, “missing” or “else”.");
    };
    if (from == "missing") {
        return Condition{name + " is null", true};
    }
    if (from == "else") {
        return Condition{};
    }
    if (!text) {
        for (const char* sign : {"<=", ">=", "<>", "<", ">", "="}) {
            if (from.starts_with(sign)) {
                const auto bound = numberIn(from.substr(std::string(sign).size()));
                return bound ? Result<Condition>(
                                   Condition{name + " " + sign + " " + exactNumber(*bound)})
                             : bad("‘" + from + "’ has no number after its sign");
            }
        }
        if (const auto to = from.find(" to "); to != std::string::npos) {
            const auto low = numberIn(from.substr(0, to));
            const auto high = numberIn(from.substr(to + 4));
            if (!low || !high) {
                return bad("‘" + from + "’ is no range of numbers");
            }
            if (*low > *high) {
                return bad("the range ‘" + from + "’ ends before it starts");
            }
            return Condition{name + " between " + exactNumber(*low) + " and " + exactNumber(*high)};
        }
    }
    std::vector<std::string> values;
    std::size_t start = 0;
    while (start <= from.size()) {
        const auto comma = std::min(from.find(',', start), from.size());
        const std::string one = trimmed(from.substr(start, comma - start));
        if (one.empty()) {
            return bad("‘" + from + "’ names an empty value");
        }
        if (text) {
            values.push_back(quotedText(one));
        } else if (const auto value = numberIn(one)) {
            values.push_back(exactNumber(*value));
        } else {
            return bad("‘" + one + "’ is no number");
        }
        start = comma + 1;
    }
    if (values.size() == 1) {
        return Condition{name + " = " + values.front()};
    }
    return Condition{name + " in (" + joinedNames(values) + ")"};
}

}  // namespace

Result<Recoding> recodingOf(const Frame& frame, const std::string& variable,
                            const std::vector<RecodeLine>& lines) {
    const Column* column = frame.column(variable);
    if (column == nullptr) {
        return refuse(ErrorCode::UnknownName, "there is no variable ‘" + variable + "’");
    }
    const std::string name = quotedName(variable);
    Recoding out;
    out.rows.assign(lines.size(), 0);
    std::string whens;
    std::string otherwise;
    bool ended = false;
    std::size_t words = 0;
    std::size_t numbers = 0;
    bool same = false;
    std::vector<std::int32_t> decidedBy(frame.rows(), -1);
    std::vector<std::pair<std::string, std::string>> parts;
    for (std::size_t k = 0; k < lines.size(); ++k) {
        const std::string from = trimmed(lines[k].from);
        const std::string becomes = trimmed(lines[k].becomes);
        const std::string where = fmt::format("line {}", k + 1);
        if (from.empty() && becomes.empty()) {
            continue;
        }
        if (from.empty() || becomes.empty()) {
            return refuse(ErrorCode::Syntax,
                          from.empty() ? "it says what comes, not from what"
                                       : "‘" + from + "’ has nothing to become",
                          where, "“missing” and “same” are answers, too.");
        }
        if (ended) {
            return refuse(ErrorCode::Syntax, "“else” has taken all that is left before it", where,
                          "Put “else” last.");
        }
        const auto condition = conditionOf(from, name, column->isText(), where);
        if (!condition) {
            return tl::make_unexpected(condition.error());
        }
        std::string value;
        if (becomes == "missing") {
            value = "null";
        } else if (becomes == "same") {
            value = name;
            same = true;
        } else if (const auto number = numberIn(becomes)) {
            value = exactNumber(*number);
            ++numbers;
        } else {
            value = quotedText(becomes);
            ++words;
        }
        parts.emplace_back(condition->text, value);
        if (condition->text.empty()) {
            // What is missing stays missing unless a line says otherwise.
            otherwise = value;
            ended = true;
            for (std::size_t i = 0; i < frame.rows(); ++i) {
                if (decidedBy[i] < 0 && !column->isMissing(i)) {
                    decidedBy[i] = static_cast<std::int32_t>(k);
                }
            }
        } else {
            const auto holds = frame.evaluateText(condition->text);
            if (!holds) {
                return tl::make_unexpected(holds.error());
            }
            std::size_t hit = 0;
            for (std::size_t i = 0; i < frame.rows(); ++i) {
                if (holds->column.numbers()[i] == 1.0) {
                    ++hit;
                    decidedBy[i] = decidedBy[i] < 0 ? static_cast<std::int32_t>(k) : decidedBy[i];
                }
            }
            const auto mine = static_cast<std::size_t>(
                std::count(decidedBy.begin(), decidedBy.end(), static_cast<std::int32_t>(k)));
            if (hit > mine) {
                out.notes.push_back(fmt::format("{} of ‘{}’ {} taken by an earlier line.",
                                                plural(hit - mine, "row", "rows"), from,
                                                hit - mine == 1 ? "is" : "are"));
            }
        }
    }
    if (parts.empty()) {
        return refuse(ErrorCode::NoTerms, "nothing is recoded yet", "",
                      "Say what a value becomes.");
    }
    if (words > 0 && (numbers > 0 || (same && !column->isText()))) {
        return refuse(ErrorCode::WrongType, "numbers and words cannot stand in one variable", "",
                      "Make all of them words, or all of them numbers.");
    }
    for (std::size_t i = 0; i < frame.rows(); ++i) {
        if (decidedBy[i] >= 0) {
            ++out.rows[static_cast<std::size_t>(decidedBy[i])];
        } else if (!column->isMissing(i)) {
            ++out.untouched;
        }
    }
    for (const auto& [condition, value] : parts) {
        whens += condition.empty() ? "" : " when " + condition + " then " + value;
    }
    if (!otherwise.empty()) {
        whens += " when " + name + " is not null then " + otherwise;
    }
    out.expression = "case" + whens + " end";
    for (std::size_t k = 0; k < lines.size(); ++k) {
        if (!trimmed(lines[k].from).empty() && out.rows[k] == 0) {
            out.notes.push_back("‘" + trimmed(lines[k].from) + "’ takes no row.");
        }
    }
    if (out.untouched > 0) {
        out.notes.push_back(fmt::format(
            "{} with a value that no line names {} missing; “else” "
            "would take {}.",
            plural(out.untouched, "row", "rows"), out.untouched == 1 ? "becomes" : "become",
            out.untouched == 1 ? "it" : "them"));
    }
    return out;
}

std::vector<RecodeLine> recodeProposal(const Frame& frame, const std::string& variable) {
    std::vector<RecodeLine> lines;
    const Column* column = frame.column(variable);
    if (column == nullptr) {
        return lines;
    }
    const Variable& v = *frame.variable(variable);
    constexpr std::size_t kFew = 12;
    const auto levels = levelsOf(*column, v);
    if (column->isText() || levels.size() <= kFew) {
        for (std::size_t k = 0; k < std::min(levels.size(), 4 * kFew); ++k) {
            lines.push_back({levels[k].value, ""});
        }
        return lines;
    }
    std::vector<double> present;
    std::copy_if(column->numbers().begin(), column->numbers().end(), std::back_inserter(present),
                 [](double x) { return !std::isnan(x); });
    const Summary s = summarise(present);
    lines.push_back({"< " + exactNumber(s.lowerQuartile), "1"});
    lines.push_back({"< " + exactNumber(s.median), "2"});
    lines.push_back({"< " + exactNumber(s.upperQuartile), "3"});
    lines.push_back({"else", "4"});
    return lines;
}

}  // namespace rapporto
