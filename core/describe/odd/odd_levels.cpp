// Levels of a grouping that are one level spelled twice.
#include "core/base/format.h"
#include "core/describe/odd/looking.h"
#include "core/describe/odd/spelling.h"

#include <algorithm>
#include <map>
#include <set>

namespace rapporto::odd {
namespace {

struct Spelled {
    std::string text;
    std::string plain;
    std::size_t count = 0;
    std::int32_t code = 0;
};

std::string quoted(const std::string& text) { return "“" + text + "”"; }

std::vector<std::string> words(const std::string& text) {
    std::vector<std::string> out(1);
    for (const char c : text) {
        if (c == ' ' || c == '-' || c == '_' || c == '/') {
            out.emplace_back();
        } else {
            out.back().push_back(c);
        }
    }
    return out;
}

/// “zone a” and “zone b”, “satisfied” and “dissatisfied” are two names however alike they look.
bool isOtherName(const std::string& a, const std::string& b) {
    const auto one = words(a);
    const auto two = words(b);
    for (std::size_t w = 0; one.size() == two.size() && w < one.size(); ++w) {
        if (one[w] != two[w] && std::min(lengthOf(one[w]), lengthOf(two[w])) <= 2) {
            return true;
        }
    }
    const std::string& longer = a.size() > b.size() ? a : b;
    const std::string& shorter = a.size() > b.size() ? b : a;
    return longer.size() >= shorter.size() + 2 &&
           (longer.ends_with(shorter) || longer.starts_with(shorter));
}

/// Rare beside frequent, long enough for a letter not to be the name, and without a number in it:
/// “North 1” and “North 2” are two.
bool isSlipOf(const Spelled& rare, const Spelled& frequent) {
    const std::size_t length = std::min(lengthOf(rare.plain), lengthOf(frequent.plain));
    if (rare.count > 2 && rare.count * 50 > frequent.count) {
        return false;
    }
    if (frequent.count < 8 * rare.count || frequent.count < 8 || length < 4) {
        return false;
    }
    if (numbersIn(rare.plain) != numbersIn(frequent.plain) ||
        isOtherName(rare.plain, frequent.plain)) {
        return false;
    }
    return slipsBetween(rare.plain, frequent.plain) <= (length >= 9 ? 2U : 1U);
}

Oddity tell(const Variable& variable, const Column& column,
            const std::vector<std::uint32_t>& sample, const Spelled& stays,
            const std::vector<const Spelled*>& rest, const std::string& how) {
    Oddity odd;
    odd.kind = OddKind::AlikeLevels;
    odd.variables = {variable.name};
    odd.values.emplace_back(stays.text);
    std::set<std::int32_t> codes;
    std::vector<std::string> names;
    for (const Spelled* one : rest) {
        odd.values.emplace_back(one->text);
        codes.insert(one->code);
        names.push_back(quoted(one->text) + " (" + countText(one->count) + ")");
    }
    for (const std::uint32_t row : sample) {
        if (codes.contains(column.codes()[row])) {
            ++odd.count;
            if (odd.rows.size() < kMostRows) {
                odd.rows.push_back(row);
            }
        }
    }
    odd.title =
        quoted(rest.front()->text) + " beside " + quoted(stays.text) + " in " + variable.shown();
    odd.text = joinedNames(names) + (rest.size() == 1 ? " differs" : " differ") + " from " +
               quoted(stays.text) + " (" + countText(stays.count) + ") " + how +
               ". Each spelling counts as a level of its own.";
    return odd;
}

}  // namespace

void findInLevels(const Column& column, const Variable& variable,
                  const std::vector<std::uint32_t>& sample, std::vector<Oddity>& out) {
    constexpr std::size_t kMostLevels = 3000;
    std::vector<std::size_t> counts(column.texts().size(), 0);
    std::size_t n = 0;
    for (const std::uint32_t row : sample) {
        if (column.codes()[row] >= 0) {
            ++counts[static_cast<std::size_t>(column.codes()[row])];
            ++n;
        }
    }
    std::vector<Spelled> levels;
    for (std::size_t k = 0; k < counts.size(); ++k) {
        if (counts[k] > 0) {
            levels.push_back({column.texts()[k], plainSpelling(column.texts()[k]), counts[k],
                              static_cast<std::int32_t>(k)});
        }
    }
    if (levels.size() < 2) {
        if (column.size() >= 2) {
            Oddity odd;
            odd.kind = OddKind::Constant;
            odd.variables = {variable.name};
            odd.count = n;
            odd.title = variable.shown() + (levels.empty() ? " holds nothing" : " never varies");
            odd.text = levels.empty() ? std::string("No row of the sample has a value.")
                                      : "Every row says " + quoted(levels.front().text) +
                                            ": it can explain nothing.";
            out.push_back(std::move(odd));
        }
        return;
    }
    // Names of their own are no levels.
    if (levels.size() > kMostLevels || levels.size() * 3 > n) {
        return;
    }
    std::stable_sort(levels.begin(), levels.end(),
                     [](const Spelled& a, const Spelled& b) { return a.count > b.count; });
    std::map<std::string, std::vector<const Spelled*>> same;
    for (const Spelled& level : levels) {
        same[level.plain].push_back(&level);
    }
    std::vector<bool> told(levels.size(), false);
    const auto place = [&](const Spelled* one) {
        return static_cast<std::size_t>(one - levels.data());
    };
    for (const Spelled& level : levels) {
        const auto& all = same[level.plain];
        if (all.size() > 1 && all.front() == &level) {
            const std::vector<const Spelled*> rest(all.begin() + 1, all.end());
            out.push_back(
                tell(variable, column, sample, level, rest, "by case, spaces or accents alone"));
            for (const Spelled* one : all) {
                told[place(one)] = true;
            }
        }
    }
    for (std::size_t f = 0; f < levels.size(); ++f) {
        std::vector<const Spelled*> rest;
        for (std::size_t r = f + 1; r < levels.size(); ++r) {
            if (!told[r] && isSlipOf(levels[r], levels[f])) {
                rest.push_back(&levels[r]);
                told[r] = true;
            }
        }
        if (!rest.empty()) {
            out.push_back(tell(variable, column, sample, levels[f], rest, "by a letter or two"));
        }
    }
}

}  // namespace rapporto::odd
