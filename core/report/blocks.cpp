#include "core/report/blocks.h"

#include "core/base/markup.h"
#include "core/report/fixed_words.h"

#include <algorithm>
#include <cctype>
#include <cmath>

namespace rapporto {
namespace {

constexpr const char* kThin = "\u202F";

/// The number that begins at `at`, which nothing of a word or of another number stands before: how
/// far it goes, and where its mark is (npos: none). Zero long: none begins there.
struct NumberPlace {
    std::size_t length = 0;
    std::size_t mark = std::string::npos;
    bool bare = false;  ///< Begins with its mark.
};

bool isDigit(char c) { return c >= '0' && c <= '9'; }

/// A letter of any script, or what joins names and dates.
bool isOfWord(const std::string& text, std::size_t at) {
    const auto c = static_cast<unsigned char>(text[at]);
    return std::isalnum(c) != 0 || c == '_' || c == '/' || c == ':' || c == '.' || c >= 0xC3U;
}

/// Signs, quotes and dashes begin with bytes that letters of Latin names do not have.
bool endsWord(const std::string& text, std::size_t at) {
    if (at == 0) {
        return true;
    }
    const auto before = static_cast<unsigned char>(text[at - 1]);
    if ((before & 0xC0U) != 0x80U) {
        return !isOfWord(text, at - 1);
    }
    std::size_t start = at - 1;
    while (start > 0 && (static_cast<unsigned char>(text[start]) & 0xC0U) == 0x80U) {
        --start;
    }
    const auto lead = static_cast<unsigned char>(text[start]);
    // General punctuation and signs, and “×”: never letters.
    return lead == 0xE2U || lead == 0xC2U || text.compare(start, at - start, "×") == 0;
}

NumberPlace numberAt(const std::string& text, std::size_t at) {
    NumberPlace place;
    std::size_t end = at;
    std::size_t digits = 0;
    const auto read = [&] {
        while (end < text.size() && isDigit(text[end])) {
            ++end;
            ++digits;
        }
    };
    read();
    while (digits > 0 && text.compare(end, 3, kThin) == 0 && end + 3 < text.size() &&
           isDigit(text[end + 3])) {
        end += 3;
        read();
    }
    place.bare = digits == 0;
    if (end + 1 < text.size() && text[end] == '.' && isDigit(text[end + 1])) {
        place.mark = end - at;
        ++end;
        read();
    }
    if (digits == 0) {
        return {};
    }
    // “1.2.3”, “12.03.2020”, “3a” are no numbers.
    const bool further = end < text.size() &&
                         ((text[end] == '.' && end + 1 < text.size() && isDigit(text[end + 1])) ||
                          (text[end] != '.' && isOfWord(text, end) && text[end] != ':'));
    if (further) {
        return {};
    }
    place.length = end - at;
    return place;
}

}  // namespace

bool ReportBlock::hasRule(std::size_t row) const {
    return std::find(rules.begin(), rules.end(), row) != rules.end();
}

std::size_t ReportBlock::columns() const {
    std::size_t most = 0;
    for (const CellRow& row : cells) {
        std::size_t here = 0;
        for (const Cell& cell : row) {
            here += static_cast<std::size_t>(cell.span);
        }
        most = std::max(most, here);
    }
    return most;
}

bool ReportBlock::holdsSentences() const {
    constexpr std::size_t kSentence = 40;  // Letters; the longest number with its interval is 30.
    const auto body = cells.begin() + static_cast<std::ptrdiff_t>(std::min(heads, cells.size()));
    return std::any_of(body, cells.end(), [](const CellRow& row) {
        return std::any_of(row.begin() + (row.empty() ? 0 : 1), row.end(), [](const Cell& cell) {
            return cell.span == 1 && !cell.value && cell.text.size() > kSentence;
        });
    });
}

std::vector<MathRow> brokenEquation(const MathRow& row, double room, double size) {
    std::vector<MathRow> lines(1);
    double used = 0.0;
    for (std::size_t i = 0; i < row.size(); ++i) {
        // A sign goes along with what stands up to the next one.
        double needed = 0.0;
        if (row[i].kind == MathPiece::Kind::Sign) {
            std::size_t end = i;
            do {
                needed += wordsWidth(row[end].text, size) + 0.35 * size;
                ++end;
            } while (end < row.size() && row[end].kind != MathPiece::Kind::Sign);
        }
        if (needed > 0.0 && used + needed > room && !lines.back().empty()) {
            lines.emplace_back();
            used = 2.0 * size;
        }
        used += std::max(wordsWidth(row[i].text, size), wordsWidth(row[i].beneath, 0.75 * size)) +
                0.35 * size;
        lines.back().push_back(row[i]);
    }
    return lines;
}

double headRoom(const std::string& words, double size) {
    constexpr double kEms = 5.5;  // Long heads break into lines of about this many letters’ width.
    double longest = 0.0;
    for (std::size_t at = 0; at < words.size();) {
        const std::size_t end = std::min(words.find(' ', at), words.size());
        longest = std::max(longest, wordsWidth(words.substr(at, end - at), size));
        at = end + 1;
    }
    return std::min(wordsWidth(words, size), std::max(longest, kEms * size));
}

std::vector<double> ReportBlock::columnWidths(double size) const {
    std::vector<double> widths(columns(), 0.0);
    for (std::size_t r = 0; r < cells.size(); ++r) {
        std::size_t at = 0;
        for (const Cell& cell : cells[r]) {
            if (cell.span == 1) {
                widths[at] = std::max(widths[at], r < heads ? 1.12 * headRoom(cell.text, size)
                                                            : wordsWidth(cell.text, size));
            }
            at += static_cast<std::size_t>(cell.span);
        }
    }
    return widths;
}

std::vector<double> sharedWidths(const std::vector<double>& natural, double room, double gap) {
    const auto count = static_cast<double>(natural.size());
    const double even = (room - gap * (count - 1.0)) / count;
    std::vector<double> widths;
    double spare = room - gap * (count - 1.0);
    double wanting = 0.0;
    for (const double one : natural) {
        widths.push_back(std::min(one, even));
        spare -= widths.back();
        wanting += std::sqrt(std::max(0.0, one - even));
    }
    for (std::size_t c = 0; c < widths.size() && wanting > 0.0; ++c) {
        widths[c] += spare * std::sqrt(std::max(0.0, natural[c] - even)) / wanting;
    }
    return widths;
}

void ReportSheet::put(ReportBlock::Kind kind, std::string text, std::string part) {
    ReportBlock block;
    block.kind = kind;
    block.text = std::move(text);
    block.part = std::move(part);
    add(std::move(block));
}

std::string ReportSheet::word(const std::string& english) const {
    return fixedWord(english, language_);
}

void ReportSheet::tableCaption(const std::string& words) {
    put(ReportBlock::Kind::Caption,
        "**" + word("Table") + " " + std::to_string(++tables_) + ".** " + words, "caption");
}

void ReportSheet::figureCaption(const std::string& words) {
    put(ReportBlock::Kind::Caption,
        "**" + word("Figure") + " " + std::to_string(++figures_) + ".** " + words, "caption");
}

void ReportSheet::addFigure(Drawing drawing, const std::string& shows) {
    ReportBlock block;
    block.kind = ReportBlock::Kind::Figure;
    block.figure = std::move(drawing);
    block.text = shows;
    add(std::move(block));
}

void ReportSheet::addNumbered(ReportBlock block) {
    const std::size_t end = block.text.find(".** ");
    if (block.kind == ReportBlock::Kind::Caption && end != std::string::npos) {
        const std::string words = block.text.substr(end + 4);
        if (block.text.starts_with("**" + word("Figure") + " ")) {
            figureCaption(words);
        } else {
            tableCaption(words);
        }
        return;
    }
    add(std::move(block));
}

void dress(std::vector<ReportBlock>& blocks, const ReportDress& how) {
    for (ReportBlock& block : blocks) {
        if (block.part != "text") {
            block.text = dressed(block.text, how);
        }
        for (CellRow& row : block.cells) {
            for (Cell& cell : row) {
                cell.text = dressed(cell.text, how);
                if (how.decimal == "," && cell.text.starts_with("[")) {
                    // “[0,1, 0,2]” would be three numbers, or four.
                    cell.text = replacedAll(cell.text, ", ", "; ");
                }
            }
        }
        for (MathPiece& piece : block.equation) {
            piece.text = dressed(piece.text, how);
            piece.beneath = dressed(piece.beneath, how);
        }
        for (Drawing::Shape& shape : block.figure.shapes) {
            shape.words = dressed(shape.words, how);
        }
    }
}

std::string dressed(const std::string& text, const ReportDress& dress) {
    if (dress == ReportDress{.language = dress.language}) {
        return text;
    }
    std::string out;
    for (std::size_t at = 0; at < text.size();) {
        const bool begins = isDigit(text[at]) || text[at] == '.';
        const NumberPlace place = begins && endsWord(text, at) ? numberAt(text, at) : NumberPlace{};
        if (place.length == 0) {
            // Past the whole of a word, so that its tail is not read as a number.
            const std::size_t from = at++;
            while (begins && at < text.size() && isOfWord(text, at)) {
                ++at;
            }
            out += text.substr(from, at - from);
            continue;
        }
        std::string number = text.substr(at, place.length);
        if (place.mark != std::string::npos) {
            number = (place.bare && dress.decimal != "." ? "0" : "") +
                     number.substr(0, place.mark) + dress.decimal + number.substr(place.mark + 1);
        }
        for (std::size_t thin = number.find(kThin); thin != std::string::npos;
             thin = number.find(kThin, thin + dress.thousands.size())) {
            number.replace(thin, 3, dress.thousands);
        }
        out += number;
        at += place.length;
    }
    return out;
}

}  // namespace rapporto
