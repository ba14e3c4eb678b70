#include "core/io/csv_guess.h"

#include "core/base/format.h"
#include "core/data/text_index.h"
#include "core/io/dressed_numbers.h"

#include <fast_float/fast_float.h>
#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <cstring>
#include <map>
#include <set>

namespace rapporto {
namespace {

std::string_view trimmed(std::string_view s) {
    const auto from = s.find_first_not_of(" \t");
    return from == std::string_view::npos ? std::string_view()
                                          : s.substr(from, s.find_last_not_of(" \t") - from + 1);
}

void appendUtf8(std::string& out, std::uint32_t c) {
    if (c < 0x80) {
        out += static_cast<char>(c);
    } else if (c < 0x800) {
        out += static_cast<char>(0xC0U | (c >> 6U));
        out += static_cast<char>(0x80U | (c & 0x3FU));
    } else if (c < 0x10000) {
        out += static_cast<char>(0xE0U | (c >> 12U));
        out += static_cast<char>(0x80U | ((c >> 6U) & 0x3FU));
        out += static_cast<char>(0x80U | (c & 0x3FU));
    } else {
        out += static_cast<char>(0xF0U | (c >> 18U));
        out += static_cast<char>(0x80U | ((c >> 12U) & 0x3FU));
        out += static_cast<char>(0x80U | ((c >> 6U) & 0x3FU));
        out += static_cast<char>(0x80U | (c & 0x3FU));
    }
}

// Looks at the first megabyte: a file in another encoding shows itself long before that.
bool looksUtf8(std::string_view s) {
    for (std::size_t i = 0; i < s.size();) {
        // Eight at a time while all are ASCII.
        std::uint64_t eight = 0;
        if (i + 8 <= s.size()) {
            std::memcpy(&eight, s.data() + i, 8);
            if ((eight & 0x8080808080808080U) == 0) {
                i += 8;
                continue;
            }
        }
        const auto c = static_cast<unsigned char>(s[i]);
        const std::size_t more = c < 0x80              ? 0
                                 : (c & 0xE0U) == 0xC0 ? 1
                                 : (c & 0xF0U) == 0xE0 ? 2
                                 : (c & 0xF8U) == 0xF0 ? 3
                                                       : 9;
        if (more == 9) {
            return false;
        }
        for (std::size_t k = 1; k <= more && i + k < s.size(); ++k) {
            if ((static_cast<unsigned char>(s[i + k]) & 0xC0U) != 0x80) {
                return false;
            }
        }
        i += more + 1;
    }
    return true;
}

void decodeUtf16(std::string_view bytes, bool littleEndian, std::string& out) {
    const auto unit = [&](std::size_t i) {
        const auto a = static_cast<unsigned char>(bytes[i]);
        const auto b = static_cast<unsigned char>(bytes[i + 1]);
        return static_cast<std::uint32_t>(littleEndian ? a | (b << 8U) : b | (a << 8U));
    };
    for (std::size_t i = 0; i + 1 < bytes.size(); i += 2) {
        std::uint32_t c = unit(i);
        if (c >= 0xD800 && c < 0xDC00 && i + 3 < bytes.size()) {
            c = 0x10000 + ((c - 0xD800) << 10U) + (unit(i + 2) - 0xDC00);
            i += 2;
        }
        appendUtf8(out, c);
    }
}

// The 32 places where windows-1252 differs from ISO-8859-1.
constexpr std::array<std::uint16_t, 32> kWindows1252 = {
    0x20AC, 0x81,   0x201A, 0x0192, 0x201E, 0x2026, 0x2020, 0x2021, 0x02C6, 0x2030, 0x0160,
    0x2039, 0x0152, 0x8D,   0x017D, 0x8F,   0x90,   0x2018, 0x2019, 0x201C, 0x201D, 0x2022,
    0x2013, 0x2014, 0x02DC, 0x2122, 0x0161, 0x203A, 0x0153, 0x9D,   0x017E, 0x0178};

// Words that commonly stand for “no answer”; taken as such only in an otherwise numeric column.
bool isMissingWord(std::string_view cell) {
    static const std::set<std::string, std::less<>> kWords = {
        "na", "n/a", "n.a.", "nan", "null", "none", "missing", ".",      "-",
        "--", "?",   "#n/a", "..",  "…",    "–",    "refused", "unknown"};
    std::string lower(cell);
    std::transform(lower.begin(), lower.end(), lower.begin(),
                   [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
    return kWords.contains(lower);
}

// Share of records that have as many cells as the most common count; 0 when that count is 1.
double consistency(const std::vector<std::vector<std::string>>& records, std::size_t& cells) {
    std::map<std::size_t, std::size_t> counts;
    for (const auto& record : records) {
        ++counts[record.size()];
    }
    const auto most = std::max_element(counts.begin(), counts.end(),
                                       [](auto& a, auto& b) { return a.second < b.second; });
    cells = most == counts.end() ? 0 : most->first;
    return cells < 2 ? 0.0
                     : static_cast<double>(most->second) / static_cast<double>(records.size());
}

char guessDelimiter(std::string_view text, char quote) {
    char best = ',';
    double bestScore = 0.0;
    for (const char candidate : {',', ';', '\t', '|'}) {
        std::size_t cells = 0;
        const double share = consistency(firstRecords(text, candidate, quote, 60), cells);
        // A decimal comma makes a second consistent cut; more cells alone must not win over it.
        const double score = share * share +
                             0.002 * static_cast<double>(std::min<std::size_t>(cells, 40)) +
                             (candidate == ';' || candidate == '\t' ? 0.1 : 0.0);
        if (share > 0.0 && score > bestScore) {
            bestScore = score;
            best = candidate;
        }
    }
    return best;
}

char guessDecimal(const std::vector<std::vector<std::string>>& records, char delimiter) {
    if (delimiter == ',') {
        bool quotedCommas = false;
        std::size_t points = 0;
        for (const auto& record : records) {
            for (const auto& cell : record) {
                quotedCommas = quotedCommas || (cell.find(',') != std::string::npos &&
                                                parseNumber(trimmed(cell), ',', std::nullopt));
                points += parseNumber(trimmed(cell), '.', std::nullopt) &&
                                  cell.find('.') != std::string::npos
                              ? 1U
                              : 0U;
            }
        }
        return quotedCommas && points == 0 ? ',' : '.';
    }
    std::size_t commas = 0;
    std::size_t points = 0;
    for (const auto& record : records) {
        for (const auto& cell : record) {
            const auto s = trimmed(cell);
            commas += s.find(',') != std::string_view::npos && parseNumber(s, ',', std::nullopt);
            points += s.find('.') != std::string_view::npos && parseNumber(s, '.', std::nullopt);
        }
    }
    return commas > points ? ',' : '.';
}

bool guessHeader(const std::vector<std::vector<std::string>>& records, const ReaderOptions& o) {
    if (records.empty()) {
        return false;
    }
    std::set<std::string> seen;
    std::size_t repeated = 0;
    for (const auto& cell : records.front()) {
        if (parseNumber(trimmed(cell), *o.decimal, o.thousands)) {
            return false;
        }
        repeated += seen.insert(cell).second || cell.empty() ? 0U : 1U;
    }
    if (records.size() == 1) {
        return true;
    }
    for (std::size_t r = 1; r < records.size(); ++r) {
        for (const auto& cell : records[r]) {
            if (parseNumber(trimmed(cell), *o.decimal, o.thousands)) {
                return true;
            }
        }
    }
    return repeated == 0;
}

struct Numbers {
    std::size_t valid = 0;
    std::size_t missing = 0;
    bool whole = true;
    bool zeroOne = true;
    double low = 0.0;
    double high = 0.0;
};

Numbers lookAt(std::span<const double> cells) {
    Numbers found;
    for (const double x : cells) {
        if (std::isnan(x)) {
            ++found.missing;
            continue;
        }
        found.low = found.valid == 0 ? x : std::min(found.low, x);
        found.high = found.valid == 0 ? x : std::max(found.high, x);
        ++found.valid;
        found.whole = found.whole && x == std::floor(x);
        found.zeroOne = found.zeroOne && (x == 0.0 || x == 1.0);
    }
    return found;
}

// −9, −99, −8 … among values that are otherwise not negative, or 99, 999 far above the rest.
std::vector<Key> suspectedCodes(std::span<const double> cells, const Numbers& all) {
    std::vector<Key> codes;
    if (all.valid < 10 || all.low >= 0.0) {
        return codes;
    }
    std::map<double, std::size_t> negative;
    for (const double x : cells) {
        if (x < 0.0) {
            ++negative[x];
            if (negative.size() > 3) {
                return {};
            }
        }
    }
    for (const auto& [value, count] : negative) {
        const double size = -value;
        const bool usual = size == 1 || size == 7 || size == 8 || size == 9 || size == 77 ||
                           size == 88 || size == 99 || size == 98 || size == 999 || size == 998 ||
                           size == 9999;
        if (usual) {
            codes.emplace_back(value);
        }
    }
    return codes.size() == negative.size() ? codes : std::vector<Key>();
}

Measure measureOf(const Numbers& seen, std::span<const double> cells,
                  const std::vector<Key>& suspected) {
    if (seen.valid == 0 || !seen.whole) {
        return Measure::Quantity;
    }
    if (suspected.empty()) {
        return seen.zeroOne ? Measure::YesNo
                            : (seen.low >= 0.0 ? Measure::Count : Measure::Quantity);
    }
    double high = 0.0;
    for (const double x : cells) {
        high = std::isnan(x) ? high : std::max(high, x);
    }
    return high <= 1.0 ? Measure::YesNo : Measure::Count;
}

std::string numberReason(const Numbers& seen) {
    if (seen.valid == 0) {
        return "no value in any row";
    }
    std::string kind = seen.zeroOne ? "only 0 and 1" : seen.whole ? "whole numbers" : "numbers";
    std::string text = countText(seen.valid) + " " + (seen.zeroOne ? "values, " : "") + kind;
    if (!seen.zeroOne) {
        text += " from " + shortNumber(seen.low) + " to " + shortNumber(seen.high);
    }
    return text + (seen.missing > 0 ? "; " + countText(seen.missing) + " blank" : "");
}

Settled numberColumn(const Column& raw, std::string extra) {
    const Numbers seen = lookAt(raw.numbers());
    Settled out{raw, {}, {}};
    out.evidence.suspected = suspectedCodes(raw.numbers(), seen);
    out.variable.name = raw.name();
    out.variable.measure = measureOf(seen, raw.numbers(), out.evidence.suspected);
    out.evidence.reason = numberReason(seen) + extra;
    if (!out.evidence.suspected.empty()) {
        std::string codes;
        for (const Key& key : out.evidence.suspected) {
            codes += (codes.empty() ? "" : ", ") + shortNumber(std::get<double>(key));
        }
        out.evidence.suggestion = codes + " looks like a code for “no answer”";
    }
    return out;
}

/// Marks stand between groups of three digits before the decimal mark.
bool isGrouped(std::string_view cell, char decimal, char thousands) {
    if (!cell.empty() && (cell.front() == '-' || cell.front() == '+')) {
        cell.remove_prefix(1);
    }
    const std::string_view whole = cell.substr(0, cell.find(decimal));
    if (whole.size() < cell.size() &&
        cell.substr(whole.size()).find(thousands) != std::string_view::npos) {
        return false;
    }
    std::size_t digits = 0;
    bool first = true;
    for (const char c : whole) {
        if (c == thousands) {
            if (first ? digits < 1 || digits > 3 : digits != 3) {
                return false;
            }
            first = false;
            digits = 0;
        } else if (c < '0' || c > '9') {
            return false;
        } else {
            ++digits;
        }
    }
    return first || digits == 3;
}

/// The mark between thousands where some column has it in every number that is long enough, and
/// reads as numbers with it alone.
std::optional<char> guessThousands(const std::vector<std::vector<std::string>>& records,
                                   char decimal) {
    const char mark = decimal == '.' ? ',' : '.';
    std::size_t columns = 0;
    for (const auto& record : records) {
        columns = std::max(columns, record.size());
    }
    for (std::size_t j = 0; j < columns; ++j) {
        std::size_t marked = 0;
        bool all = true;
        for (std::size_t r = 1; r < records.size() && all; ++r) {
            if (j >= records[r].size() || trimmed(records[r][j]).empty()) {
                continue;
            }
            const auto cell = trimmed(records[r][j]);
            all = parseNumber(cell, decimal, mark).has_value();
            marked += cell.find(mark) != std::string_view::npos ? 1U : 0U;
        }
        if (all && marked > 0) {
            return mark;
        }
    }
    return std::nullopt;
}

bool isNoAnswer(const std::string& text, const ReaderOptions& options) {
    const std::string_view cell = withoutOuterSpaces(text);
    return isMissingWord(cell) ||
           std::find(options.missing.begin(), options.missing.end(), cell) != options.missing.end();
}

/// The texts that say something, and how many cells say each.
struct Said {
    std::vector<std::string> texts;
    std::vector<std::size_t> uses;
};

Said saidIn(const Column& raw, const ReaderOptions& options) {
    std::vector<std::size_t> uses(raw.texts().size(), 0);
    for (const std::int32_t code : raw.codes()) {
        if (code >= 0) {
            ++uses[static_cast<std::size_t>(code)];
        }
    }
    Said out;
    for (std::size_t i = 0; i < uses.size(); ++i) {
        if (uses[i] > 0 && !isNoAnswer(raw.texts()[i], options)) {
            out.texts.push_back(raw.texts()[i]);
            out.uses.push_back(uses[i]);
        }
    }
    return out;
}

/// Numbers in a dress: marks between thousands, signs and units around them.
std::optional<Settled> asDressed(const Column& raw, const ReaderOptions& options) {
    const Said said = saidIn(raw, options);
    const auto found = undressed(said.texts, *options.decimal);
    if (!found || std::any_of(found->values.begin(), found->values.end(),
                              [](const auto& value) { return !value; })) {
        return std::nullopt;
    }
    std::map<std::string, double, std::less<>> valueOf;
    for (std::size_t i = 0; i < said.texts.size(); ++i) {
        valueOf.emplace(said.texts[i], *found->values[i]);
    }
    std::vector<double> values(raw.texts().size(), std::nan(""));
    for (std::size_t i = 0; i < values.size(); ++i) {
        const auto at = valueOf.find(raw.texts()[i]);
        values[i] = at == valueOf.end() ? values[i] : at->second;
    }
    std::vector<double> cells;
    cells.reserve(raw.size());
    for (const std::int32_t code : raw.codes()) {
        cells.push_back(code < 0 ? std::nan("") : values[static_cast<std::size_t>(code)]);
    }
    const std::string words = found->dress.words();
    Settled out = numberColumn(Column::ofNumbers(raw.name(), std::move(cells)),
                               words.empty() ? "" : "; read with " + words);
    out.variable.unit = found->dress.unit;
    return out;
}

/// What stands between a column and its being numbers.
void noteAlmostNumbers(const Column& raw, const ReaderOptions& options, Settled& out) {
    const Said said = saidIn(raw, options);
    const auto found = undressed(said.texts, *options.decimal);
    if (!found) {
        return;
    }
    std::vector<std::pair<std::size_t, std::string>> odd;
    std::size_t cells = 0;
    std::size_t inWay = 0;
    for (std::size_t i = 0; i < said.texts.size(); ++i) {
        cells += said.uses[i];
        if (!found->values[i]) {
            inWay += said.uses[i];
            odd.emplace_back(said.uses[i], said.texts[i]);
        }
    }
    if (inWay * 5 > cells) {
        return;
    }
    std::stable_sort(odd.begin(), odd.end(),
                     [](const auto& a, const auto& b) { return a.first > b.first; });
    std::string names;
    for (const auto& [uses, text] : odd) {
        out.evidence.inTheWay.push_back(text);
        if (names.size() < 60) {
            names += fmt::format("{}‘{}’{}", names.empty() ? "" : ", ", text,
                                 uses > 1 ? fmt::format(" ×{}", uses) : "");
        }
    }
    out.evidence.suggestion = "almost all are numbers; in the way: " + names;
}

/// Spaces around texts are slips of entering; the cells that differ by them alone are one level.
Column withoutSpaces(const Column& raw, std::size_t& touched) {
    std::vector<std::int32_t> becomes;
    TextIndex index;
    for (const std::string& text : raw.texts()) {
        const std::string_view plain = withoutOuterSpaces(text);
        touched += plain.size() < text.size() ? 1U : 0U;
        becomes.push_back(plain.empty() ? -1 : index.add(plain));
    }
    if (touched == 0) {
        return raw;
    }
    std::vector<std::int32_t> codes(raw.codes().begin(), raw.codes().end());
    for (std::int32_t& code : codes) {
        code = code < 0 ? code : becomes[static_cast<std::size_t>(code)];
    }
    return Column::ofTexts(raw.name(), std::move(codes), index.take());
}

// Numbers but for a few cells that hold missing words: those become missing, and are counted.
std::optional<Settled> asNumbers(const Column& raw, const ReaderOptions& options) {
    const auto& texts = raw.texts();
    std::vector<std::size_t> uses(texts.size(), 0);
    for (const std::int32_t code : raw.codes()) {
        if (code >= 0) {
            ++uses[static_cast<std::size_t>(code)];
        }
    }
    std::vector<double> values(texts.size(), std::nan(""));
    std::size_t numbers = 0;
    std::string words;
    Variable variable;
    for (std::size_t i = 0; i < texts.size(); ++i) {
        if (const auto value =
                parseNumber(trimmed(texts[i]), *options.decimal, options.thousands)) {
            if (isBeyondNumbers(trimmed(texts[i]))) {
                return std::nullopt;
            }
            values[i] = *value;
            numbers += uses[i];
        } else if (isNoAnswer(texts[i], options)) {
            words += fmt::format("{}‘{}’ ×{}", words.empty() ? "" : ", ", texts[i], uses[i]);
        } else {
            return std::nullopt;
        }
    }
    if (numbers == 0) {
        return std::nullopt;
    }
    std::vector<double> cells;
    cells.reserve(raw.size());
    for (const std::int32_t code : raw.codes()) {
        cells.push_back(code < 0 ? std::nan("") : values[static_cast<std::size_t>(code)]);
    }
    return numberColumn(Column::ofNumbers(raw.name(), std::move(cells)),
                        words.empty() ? "" : ", among them " + words + " read as missing");
}

std::optional<Settled> asYesNo(const Column& raw) {
    // In the languages that tables come in; capitals of letters without accents are seen to.
    static const std::vector<std::array<const char*, 2>> kPairs = {
        {"no", "yes"},          {"n", "y"},     {"false", "true"},  {"f", "t"},
        {"nein", "ja"},         {"n", "j"},     {"falsch", "wahr"}, {"non", "oui"},
        {"faux", "vrai"},       {"no", "sí"},   {"no", "si"},       {"no", "sì"},
        {"falso", "vero"},      {"não", "sim"}, {"nao", "sim"},     {"falso", "verdadero"},
        {"falso", "verdadeiro"}};
    const auto& texts = raw.texts();
    if (texts.size() != 2) {
        return std::nullopt;
    }
    const auto lower = [](std::string s) {
        std::transform(s.begin(), s.end(), s.begin(),
                       [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
        return s;
    };
    for (const auto& [no, yes] : kPairs) {
        for (const std::size_t first : {0U, 1U}) {
            if (lower(texts[first]) != no || lower(texts[1 - first]) != yes) {
                continue;
            }
            std::vector<double> cells;
            for (const std::int32_t code : raw.codes()) {
                cells.push_back(code < 0 ? std::nan("")
                                         : (static_cast<std::size_t>(code) == first ? 0.0 : 1.0));
            }
            Settled out = numberColumn(Column::ofNumbers(raw.name(), std::move(cells)), "");
            out.variable.levels = {{Key(0.0), texts[first]}, {Key(1.0), texts[1 - first]}};
            out.evidence.reason = fmt::format("only ‘{}’ and ‘{}’", texts[first], texts[1 - first]);
            return out;
        }
    }
    return std::nullopt;
}

std::optional<Settled> asDates(const Column& raw) {
    const auto& texts = raw.texts();
    for (const bool dayFirst : {true, false}) {
        std::vector<double> values;
        for (const auto& text : texts) {
            const auto date = parseDate(trimmed(text), dayFirst);
            if (!date) {
                break;
            }
            values.push_back(*date);
        }
        if (values.size() != texts.size() || texts.empty()) {
            continue;
        }
        // Open when the other order reads every cell as well, and differently.
        bool open = false;
        for (const auto& text : texts) {
            const auto other = parseDate(trimmed(text), !dayFirst);
            if (!other) {
                open = false;
                break;
            }
            open = open || *other != *parseDate(trimmed(text), dayFirst);
        }
        std::vector<double> cells;
        for (const std::int32_t code : raw.codes()) {
            cells.push_back(code < 0 ? std::nan("") : values[static_cast<std::size_t>(code)]);
        }
        Settled out = numberColumn(Column::ofNumbers(raw.name(), std::move(cells)), "");
        out.variable.measure = Measure::Date;
        out.evidence = {"every cell reads as a date", "", {}};
        if (open) {
            out.evidence.suggestion = "day or month first is open: read as day first";
        }
        return out;
    }
    return std::nullopt;
}

}  // namespace

bool isBeyondNumbers(std::string_view cell) {
    constexpr std::size_t kAlwaysHeld = 15;
    if (!cell.empty() && (cell.front() == '-' || cell.front() == '+')) {
        cell.remove_prefix(1);
    }
    if (cell.size() <= kAlwaysHeld ||
        cell.find_first_not_of("0123456789") != std::string_view::npos) {
        return false;
    }
    const auto first = cell.find_first_not_of('0');
    cell.remove_prefix(first == std::string_view::npos ? cell.size() : first);
    double value = 0.0;
    const auto read = fast_float::from_chars(cell.data(), cell.data() + cell.size(), value);
    return cell.size() > kAlwaysHeld &&
           (read.ec != std::errc() || fmt::format("{:.0f}", value) != cell);
}

std::optional<double> parseNumber(std::string_view cell, char decimal,
                                  std::optional<char> thousands) {
    std::string cleaned;
    if (thousands && cell.find(*thousands) != std::string_view::npos) {
        if (!isGrouped(cell, decimal, *thousands)) {
            return std::nullopt;
        }
        cleaned = cell;
        std::erase(cleaned, *thousands);
        cell = cleaned;
    }
    if (!cell.empty() && cell.front() == '+') {
        cell.remove_prefix(1);
    }
    if (cell.empty()) {
        return std::nullopt;
    }
    const char first = cell.front() == '-' && cell.size() > 1 ? cell[1] : cell.front();
    if ((first < '0' || first > '9') && first != decimal) {
        return std::nullopt;
    }
    double value = 0.0;
    const auto [end, error] = fast_float::from_chars_advanced(
        cell.data(), cell.data() + cell.size(), value,
        fast_float::parse_options(fast_float::chars_format::general, decimal));
    if (error != std::errc() || end != cell.data() + cell.size() || !std::isfinite(value)) {
        return std::nullopt;
    }
    return value;
}

std::vector<std::vector<std::string>> firstRecords(std::string_view text, char delimiter,
                                                   char quote, std::size_t most) {
    std::vector<std::vector<std::string>> records;
    std::vector<std::string> record;
    std::string cell;
    bool quoted = false;
    for (std::size_t i = 0; i <= text.size() && records.size() < most; ++i) {
        const bool end = i == text.size();
        const char c = end ? '\n' : text[i];
        if (quoted && !end) {
            if (c != quote) {
                cell += c;
            } else if (i + 1 < text.size() && text[i + 1] == quote) {
                cell += quote;
                ++i;
            } else {
                quoted = false;
            }
        } else if (c == quote && cell.empty()) {
            quoted = true;
        } else if (c == delimiter && !end) {
            record.push_back(std::exchange(cell, {}));
        } else if (c == '\n' || c == '\r') {
            if (!record.empty() || !cell.empty()) {
                record.push_back(std::exchange(cell, {}));
                records.push_back(std::exchange(record, {}));
            }
        } else {
            cell += c;
        }
    }
    return records;
}

Result<Decoded> decodeText(std::string_view bytes, const std::optional<std::string>& encoding,
                           std::string& storage) {
    const bool bom8 = bytes.starts_with("\xEF\xBB\xBF");
    const bool bomLittle = bytes.starts_with("\xFF\xFE");
    const bool bomBig = bytes.starts_with("\xFE\xFF");
    std::string name = encoding.value_or("");
    if (name.empty()) {
        const bool zeros = bytes.size() > 3 && (bytes[1] == '\0' || bytes[0] == '\0');
        name = bomLittle || bomBig || zeros ? "UTF-16"
               : looksUtf8(bytes)           ? "UTF-8"
                                            : "windows-1252";
    }
    if (name == "UTF-8") {
        return Decoded{bytes.substr(bom8 ? 3 : 0), name};
    }
    storage.clear();
    if (name == "UTF-16") {
        const bool little = bomLittle || (!bomBig && bytes.size() > 1 && bytes[1] == '\0');
        decodeUtf16(bytes.substr(bomLittle || bomBig ? 2 : 0), little, storage);
    } else if (name == "ISO-8859-1" || name == "windows-1252") {
        storage.reserve(bytes.size() + bytes.size() / 16);
        for (const char ch : bytes) {
            const auto c = static_cast<unsigned char>(ch);
            const bool special = name == "windows-1252" && c >= 0x80 && c < 0xA0;
            appendUtf8(storage, special ? kWindows1252[c - 0x80U] : c);
        }
    } else {
        return refuse(ErrorCode::BadSetting, "the encoding ‘" + name + "’ is not known", "reader",
                      "Use UTF-8, UTF-16, ISO-8859-1 or windows-1252.");
    }
    return Decoded{storage, name};
}

ReaderOptions guessOptions(std::string_view text, ReaderOptions options) {
    text = text.substr(0, 256U * 1024U);
    for (std::size_t i = 0; i < options.skip && !text.empty(); ++i) {
        const auto end = text.find('\n');
        text.remove_prefix(end == std::string_view::npos ? text.size() : end + 1);
    }
    if (!options.delimiter) {
        options.delimiter = guessDelimiter(text, options.quote);
    }
    const auto records = firstRecords(text, *options.delimiter, options.quote, 200);
    if (!options.decimal) {
        options.decimal = guessDecimal(records, *options.delimiter);
        if (options.decimal == options.thousands) {
            options.decimal = *options.thousands == '.' ? ',' : '.';
        }
    }
    if (!options.thousands) {
        options.thousands = guessThousands(records, *options.decimal);
    }
    if (!options.header) {
        options.header = guessHeader(records, options);
    }
    return options;
}

Settled settleTexts(const Column& given, const ReaderOptions& options) {
    std::size_t spaced = 0;
    const Column raw = options.keepSpaces ? given : withoutSpaces(given, spaced);
    Settled out{raw, {}, {}};
    out.variable.name = raw.name();
    const std::size_t distinct = raw.texts().size();
    const std::size_t filled = raw.size() - raw.countMissing();
    const bool groups = distinct <= 20 || distinct * 3 <= filled;
    out.variable.measure = groups ? Measure::Groups : Measure::Text;
    out.evidence.reason =
        fmt::format("{} in {}", plural(distinct, "different text", "different texts"),
                    plural(filled, "row", "rows"));
    if (spaced > 0) {
        out.evidence.reason +=
            fmt::format("; spaces around {} taken off", plural(spaced, "text", "texts"));
    }
    return out;
}

Settled settleColumn(const Column& raw, const ReaderOptions& options) {
    if (!raw.isText()) {
        return numberColumn(raw, "");
    }
    if (auto numbers = asNumbers(raw, options)) {
        return *std::move(numbers);
    }
    if (auto yesNo = asYesNo(raw)) {
        return *std::move(yesNo);
    }
    if (auto dates = asDates(raw)) {
        return *std::move(dates);
    }
    const bool beyond =
        std::any_of(raw.texts().begin(), raw.texts().end(),
                    [](const std::string& text) { return isBeyondNumbers(trimmed(text)); });
    if (auto numbers = beyond ? std::nullopt : asDressed(raw, options)) {
        return *std::move(numbers);
    }
    Settled out = settleTexts(raw, options);
    if (beyond) {
        out.evidence.reason +=
            "; whole numbers longer than a number holds: read as texts, so that none becomes "
            "another";
    } else {
        noteAlmostNumbers(raw, options, out);
    }
    return out;
}

std::optional<double> parseDate(std::string_view s, bool dayFirst) {
    using namespace std::chrono;
    std::vector<int> parts;
    std::vector<std::string> words;
    std::string marks;
    for (std::size_t i = 0; i < s.size();) {
        const auto c = static_cast<unsigned char>(s[i]);
        if (std::isdigit(c) != 0) {
            int value = 0;
            std::size_t digits = 0;
            while (i < s.size() && std::isdigit(static_cast<unsigned char>(s[i])) != 0) {
                value = value * 10 + (s[i] - '0');
                ++i;
                if (++digits > 4) {
                    return std::nullopt;
                }
            }
            parts.push_back(value);
        } else if (std::isalpha(c) != 0) {
            std::string word;
            while (i < s.size() && std::isalpha(static_cast<unsigned char>(s[i])) != 0) {
                word += static_cast<char>(std::tolower(static_cast<unsigned char>(s[i])));
                ++i;
            }
            words.push_back(word);
        } else {
            marks += s[i++];
        }
    }
    const auto days = [](int y, int m, int d) -> std::optional<double> {
        const year_month_day date{year{y}, month{static_cast<unsigned>(m)},
                                  day{static_cast<unsigned>(d)}};
        if (y < 1000 || m < 1 || d < 1 || !date.ok()) {
            return std::nullopt;
        }
        return static_cast<double>(sys_days(date).time_since_epoch().count());
    };
    if (words.size() == 1 && parts.size() == 2 && parts[0] >= 1000) {
        const int k = parts[1];
        if (words[0] == "q" && k >= 1 && k <= 4) {
            return days(parts[0], 3 * k - 2, 1);
        }
        if (words[0] == "h" && (k == 1 || k == 2)) {
            return days(parts[0], 6 * k - 5, 1);
        }
        if (words[0] == "w" && k >= 1 && k <= 53) {
            // ISO 8601: week 1 holds 4 January; weeks begin on Monday.
            const sys_days fourth = sys_days(year{parts[0]} / January / 4);
            const auto monday = fourth - (weekday{fourth} - Monday);
            return static_cast<double>(
                (monday + std::chrono::days{7 * (k - 1)}).time_since_epoch().count());
        }
        return std::nullopt;
    }
    if (words.size() == 1 && parts.size() == 2) {
        static const std::array<const char*, 12> kMonths = {
            "jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"};
        for (std::size_t m = 0; m < kMonths.size(); ++m) {
            if (words[0].starts_with(kMonths[m])) {
                return days(parts[1], static_cast<int>(m) + 1, parts[0]);
            }
        }
        return std::nullopt;
    }
    if (!words.empty() || parts.size() < 2) {
        return std::nullopt;
    }
    if (parts.size() == 2) {
        return parts[0] >= 1000 && marks == "-" ? days(parts[0], parts[1], 1) : std::nullopt;
    }
    if (parts.size() != 3) {
        return std::nullopt;
    }
    if (marks == "--" && parts[0] >= 1000) {
        return days(parts[0], parts[1], parts[2]);
    }
    if (marks == "//") {
        return dayFirst ? days(parts[2], parts[1], parts[0]) : days(parts[2], parts[0], parts[1]);
    }
    return marks == ".." ? days(parts[2], parts[1], parts[0]) : std::nullopt;
}

}  // namespace rapporto
