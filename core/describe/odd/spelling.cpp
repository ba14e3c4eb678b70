#include "core/describe/odd/spelling.h"

#include <algorithm>
#include <array>
#include <cstdint>
#include <vector>

namespace rapporto::odd {
namespace {

std::vector<char32_t> letters(std::string_view text) {
    std::vector<char32_t> out;
    for (std::size_t i = 0; i < text.size();) {
        const auto lead = static_cast<unsigned char>(text[i]);
        const std::size_t length = lead < 0x80 ? 1 : lead < 0xE0 ? 2 : lead < 0xF0 ? 3 : 4;
        char32_t c = length == 1   ? lead
                     : length == 2 ? lead & 0x1FU
                     : length == 3 ? lead & 0x0FU
                                   : lead & 0x07U;
        for (std::size_t k = 1; k < length && i + k < text.size(); ++k) {
            c = (c << 6U) | (static_cast<unsigned char>(text[i + k]) & 0x3FU);
        }
        out.push_back(c);
        i += length;
    }
    return out;
}

/// U+00C0 to U+017F as the letters they are built on; ‘.’: stays as it is.
constexpr std::string_view kBuiltOn =
    "aaaaaaaceeeeiiiidnooooo.ouuuuytsaaaaaaaceeeeiiiidnooooo.ouuuuyty"
    "aaaaaaccccccccddddeeeeeeeeeegggggggghhhhiiiiiiiiiiiijjkkklllllll"
    "lllnnnnnnnnnoooooooorrrrrrssssssssttttttuuuuuuuuuuuuwwyyyzzzzzzs";
static_assert(kBuiltOn.size() == 0x180 - 0xC0);

void append(std::string& out, char32_t c) {
    const auto put = [&](std::uint32_t byte) { out.push_back(static_cast<char>(byte)); };
    if (c < 0x80) {
        put(c);
    } else if (c < 0x800) {
        put(0xC0U | (c >> 6U));
        put(0x80U | (c & 0x3FU));
    } else if (c < 0x10000) {
        put(0xE0U | (c >> 12U));
        put(0x80U | ((c >> 6U) & 0x3FU));
        put(0x80U | (c & 0x3FU));
    } else {
        put(0xF0U | (c >> 18U));
        put(0x80U | ((c >> 12U) & 0x3FU));
        put(0x80U | ((c >> 6U) & 0x3FU));
        put(0x80U | (c & 0x3FU));
    }
}

/// Small letters of Greek and Cyrillic for their capitals.
char32_t smallOf(char32_t c) {
    if ((c >= 0x0391 && c <= 0x03A9) || (c >= 0x0410 && c <= 0x042F)) {
        return c + 0x20;
    }
    return c >= 0x0400 && c <= 0x040F ? c + 0x50 : c;
}

bool isSpace(char32_t c) {
    return c == ' ' || (c >= 0x09 && c <= 0x0D) || c == 0xA0 || c == 0x3000 || c == 0xFEFF ||
           (c >= 0x2000 && c <= 0x200B) || c == 0x202F || c == 0x205F;
}

}  // namespace

std::string plainSpelling(std::string_view text) {
    std::string out;
    bool space = false;
    for (const char32_t c : letters(text)) {
        if (isSpace(c)) {
            space = true;
            continue;
        }
        if (c >= 0x0300 && c <= 0x036F) {
            continue;  // An accent by itself.
        }
        if (space && !out.empty()) {
            out.push_back(' ');
        }
        space = false;
        if (c >= 'A' && c <= 'Z') {
            out.push_back(static_cast<char>(c - 'A' + 'a'));
        } else if (c == 0xDF) {
            out += "ss";
        } else if (c >= 0xC0 && c < 0x180 && kBuiltOn[c - 0xC0] != '.') {
            out.push_back(kBuiltOn[c - 0xC0]);
        } else {
            append(out, smallOf(c));
        }
    }
    return out;
}

std::size_t lengthOf(std::string_view text) { return letters(text).size(); }

std::string numbersIn(std::string_view text) {
    std::string out;
    for (const char c : text) {
        if (c >= '0' && c <= '9') {
            out.push_back(c);
        } else if (!out.empty() && out.back() != ' ') {
            out.push_back(' ');
        }
    }
    if (!out.empty() && out.back() != ' ') {
        out.push_back(' ');
    }
    return out;
}

std::size_t slipsBetween(std::string_view a, std::string_view b) {
    constexpr std::size_t kMost = 3;
    const auto x = letters(a);
    const auto y = letters(b);
    if (std::max(x.size(), y.size()) - std::min(x.size(), y.size()) >= kMost) {
        return kMost;
    }
    std::array<std::vector<std::size_t>, 3> row;
    for (auto& one : row) {
        one.assign(y.size() + 1, 0);
    }
    for (std::size_t j = 0; j <= y.size(); ++j) {
        row[0][j] = j;
    }
    for (std::size_t i = 1; i <= x.size(); ++i) {
        auto& now = row[i % 3];
        const auto& before = row[(i + 2) % 3];
        const auto& earlier = row[(i + 1) % 3];
        now[0] = i;
        for (std::size_t j = 1; j <= y.size(); ++j) {
            const std::size_t change = x[i - 1] == y[j - 1] ? 0 : 1;
            now[j] = std::min({before[j] + 1, now[j - 1] + 1, before[j - 1] + change});
            if (i > 1 && j > 1 && x[i - 1] == y[j - 2] && x[i - 2] == y[j - 1]) {
                now[j] = std::min(now[j], earlier[j - 2] + 1);
            }
        }
    }
    return std::min(row[x.size() % 3][y.size()], kMost);
}

}  // namespace rapporto::odd
