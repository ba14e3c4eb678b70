#include "core/io/dressed_numbers.h"

#include "core/io/csv_guess.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>

namespace rapporto {
namespace {

constexpr std::array<std::string_view, 8> kSpaces = {" ",      "\t",     "\n",     "\r",
                                                     "\u00a0", "\u202f", "\u2009", "\ufeff"};
constexpr std::array<std::string_view, 20> kBefore = {
    "€",   "$",   "£",   "¥",   "₹",   "₽", "₺",   "₩",   "₣",   "EUR",
    "USD", "GBP", "CHF", "JPY", "SEK", "NOK", "DKK", "PLN", "CZK", "fl"};
constexpr std::array<std::string_view, 18> kUnits = {"%", "‰",   "kg", "g",  "t", "km",
                                                     "m", "cm",  "mm", "ha", "l", "h",
                                                     "s", "min", "d",  "°C", "a", "kt"};

bool takeFront(std::string_view& text, std::string_view what) {
    if (what.empty() || !text.starts_with(what)) {
        return false;
    }
    text.remove_prefix(what.size());
    return true;
}

/// Every kind of space between digits as one mark: none of them is kept.
std::string withoutInnerSpaces(std::string_view text) {
    std::string out(text);
    for (const std::string_view space : kSpaces) {
        for (std::size_t at = out.find(space); at != std::string::npos; at = out.find(space, at)) {
            out.replace(at, space.size(), "\x01");
        }
    }
    return out;
}

std::string withMark(std::string_view cell, const std::string& mark) {
    std::string out(cell);
    if (mark == " ") {
        return withoutInnerSpaces(cell);
    }
    if (mark == "'") {
        for (const std::string_view quote : {std::string_view("'"), std::string_view("’")}) {
            for (std::size_t at = out.find(quote); at != std::string::npos;
                 at = out.find(quote, at)) {
                out.replace(at, quote.size(), "\x01");
            }
        }
        return out;
    }
    if (!mark.empty()) {
        std::replace(out.begin(), out.end(), mark.front(), '\x01');
    }
    return out;
}

bool takeSign(std::string_view& cell) {
    return takeFront(cell, "-") || takeFront(cell, "−") || takeFront(cell, "–");
}

/// What stands before the number; behind letters there may be a full stop.
std::optional<std::string> takeBefore(std::string_view& cell) {
    for (const std::string_view sign : kBefore) {
        std::string_view rest = cell;
        if (takeFront(rest, sign)) {
            takeFront(rest, ".");
            cell = withoutOuterSpaces(rest);
            return std::string(sign);
        }
    }
    return std::nullopt;
}

/// What may stand after a number: a known sign or unit, or one word after a space.
bool isUnit(std::string_view after, bool spaced) {
    const auto is = [&](std::string_view one) { return one == after; };
    if (std::any_of(kUnits.begin(), kUnits.end(), is) ||
        std::any_of(kBefore.begin(), kBefore.end(), is)) {
        return true;
    }
    return spaced && after.size() <= 8 &&
           std::all_of(after.begin(), after.end(), [](unsigned char c) {
               return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || c >= 0x80 || c == '/';
           });
}

/// Where the number ends: digits, marks, the decimal mark, an exponent.
std::size_t numberEnd(std::string_view cell, char decimal) {
    std::size_t end = 0;
    const auto isDigit = [&](std::size_t i) {
        return i < cell.size() && cell[i] >= '0' && cell[i] <= '9';
    };
    while (end < cell.size() &&
           (isDigit(end) || cell[end] == decimal || (cell[end] == '\x01' && isDigit(end + 1)))) {
        ++end;
    }
    if (end > 0 && end < cell.size() && (cell[end] == 'e' || cell[end] == 'E')) {
        const std::size_t sign =
            end + 1 < cell.size() && (cell[end + 1] == '-' || cell[end + 1] == '+') ? 1 : 0;
        if (isDigit(end + 1 + sign)) {
            end += 1 + sign;
            while (isDigit(end)) {
                ++end;
            }
        }
    }
    return end;
}

/// A mark was seen with more than one in a number, or beside the decimal mark: nobody writes a
/// decimal mark so.
bool isPlain(const std::vector<std::string>& texts, const NumberDress& dress) {
    if (dress.mark == " " || dress.mark == "'") {
        return true;
    }
    if (dress.mark.empty()) {
        // Some number of digits after the mark other than three: no mark between thousands.
        return std::any_of(texts.begin(), texts.end(), [&](const std::string& text) {
            const auto at = text.find(dress.decimal);
            const auto end = text.find_first_not_of("0123456789", at + 1);
            return at != std::string::npos &&
                   (end == std::string::npos ? text.size() : end) - at - 1 != 3;
        });
    }
    return std::any_of(texts.begin(), texts.end(), [&](const std::string& text) {
        const auto marks = std::count(text.begin(), text.end(), dress.mark.front());
        return marks > 1 || (marks == 1 && text.find(dress.decimal) != std::string::npos);
    });
}

DressedNumbers readAs(const std::vector<std::string>& texts, NumberDress dress) {
    DressedNumbers out;
    std::map<std::string, std::size_t> units;
    for (const std::string& text : texts) {
        std::string unit;
        out.values.push_back(dressedNumber(text, dress, unit));
        if (out.values.back() && !unit.empty()) {
            ++units[unit];
        }
    }
    const auto most =
        std::max_element(units.begin(), units.end(),
                         [](const auto& a, const auto& b) { return a.second < b.second; });
    if (most != units.end()) {
        // Numbers in one unit and numbers in another are not one column.
        dress.unit = most->first;
        for (std::size_t i = 0; i < texts.size(); ++i) {
            std::string unit;
            if (dressedNumber(texts[i], dress, unit) && !unit.empty() && unit != dress.unit) {
                out.values[i].reset();
            }
        }
    }
    out.dress = dress;
    return out;
}

}  // namespace

std::string NumberDress::words() const {
    std::string out;
    if (!mark.empty()) {
        out += mark == " " ? std::string("spaces") : fmt::format("‘{}’", mark);
        out += fmt::format(" between thousands, ‘{}’ before decimals", decimal);
    }
    if (!unit.empty()) {
        out += fmt::format("{}‘{}’ taken off", out.empty() ? "" : ", ", unit);
    }
    return out;
}

std::string_view withoutOuterSpaces(std::string_view text) {
    for (bool more = true; more;) {
        more = false;
        for (const std::string_view space : kSpaces) {
            while (text.starts_with(space)) {
                text.remove_prefix(space.size());
                more = true;
            }
            while (text.ends_with(space)) {
                text.remove_suffix(space.size());
                more = true;
            }
        }
    }
    return text;
}

std::optional<double> dressedNumber(std::string_view cell, const NumberDress& dress,
                                    std::string& unit) {
    cell = withoutOuterSpaces(cell);
    bool negative = false;
    if (cell.starts_with("(") && cell.ends_with(")")) {
        negative = true;
        cell = withoutOuterSpaces(cell.substr(1, cell.size() - 2));
    }
    bool signedFirst = takeSign(cell);
    cell = withoutOuterSpaces(cell);
    if (auto before = takeBefore(cell)) {
        unit = *before;
    }
    if (!signedFirst) {
        signedFirst = takeSign(cell);
        cell = withoutOuterSpaces(cell);
    }
    if (negative && signedFirst) {
        return std::nullopt;
    }
    negative = negative || signedFirst;
    const std::string marked = withMark(cell, dress.mark);
    const std::size_t end = numberEnd(marked, dress.decimal);
    const auto value = parseNumber(std::string_view(marked).substr(0, end), dress.decimal, '\x01');
    if (!value || end == 0) {
        return std::nullopt;
    }
    // What follows, as it is written.
    std::string after = marked.substr(end);
    std::replace(after.begin(), after.end(), '\x01', ' ');
    const std::string_view word = withoutOuterSpaces(after);
    if (!word.empty()) {
        if (!unit.empty() || !isUnit(word, word.size() < after.size())) {
            return std::nullopt;
        }
        unit = std::string(word);
    }
    return negative ? -*value : *value;
}

std::optional<DressedNumbers> undressed(const std::vector<std::string>& texts, char decimal) {
    const auto digits = std::count_if(texts.begin(), texts.end(), [](const std::string& text) {
        return text.find_first_of("0123456789") != std::string::npos;
    });
    if (texts.empty() || digits * 5 < std::ssize(texts) * 4) {
        return std::nullopt;
    }
    const char other = decimal == ',' ? '.' : ',';
    std::vector<NumberDress> tries;
    for (const char mark : {decimal, other}) {
        const char second = mark == ',' ? '.' : ',';
        for (const std::string& thousands :
             {std::string(), std::string(1, second), std::string(" "), std::string("'")}) {
            tries.push_back({mark, thousands, ""});
        }
    }
    std::optional<DressedNumbers> best;
    std::ptrdiff_t most = 0;
    for (const NumberDress& dress : tries) {
        // The file’s decimal mark is given up for a clear case alone.
        if (dress.decimal != decimal && !isPlain(texts, dress)) {
            continue;
        }
        // A look at the first ones spares most columns the rest.
        constexpr std::size_t kLook = 200;
        if (texts.size() > 2 * kLook) {
            const auto first = readAs({texts.begin(), texts.begin() + kLook}, dress).values;
            if (std::count(first.begin(), first.end(), std::nullopt) * 2 > std::ssize(first)) {
                continue;
            }
        }
        DressedNumbers found = readAs(texts, dress);
        const auto read = std::count_if(found.values.begin(), found.values.end(),
                                        [](const auto& value) { return value.has_value(); });
        if (read > most) {
            most = read;
            best = std::move(found);
        }
    }
    return most * 5 >= std::ssize(texts) * 4 ? best : std::nullopt;
}

}  // namespace rapporto
