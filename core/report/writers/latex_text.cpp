#include "core/report/writers/latex_text.h"

#include <fmt/format.h>

#include <cstdint>
#include <map>

namespace rapporto {
namespace {

const std::map<char32_t, const char*>& commands() {
    static const std::map<char32_t, const char*> kCommands = {
        {U'\\', "\\textbackslash{}"},
        {U'{', "\\{"},
        {U'}', "\\}"},
        {U'$', "\\$"},
        {U'&', "\\&"},
        {U'#', "\\#"},
        {U'_', "\\_"},
        {U'%', "\\%"},
        {U'~', "\\textasciitilde{}"},
        {U'^', "\\textasciicircum{}"},
        {U'"', "\\textquotedbl{}"},
        {U'<', "\\textless{}"},
        {U'>', "\\textgreater{}"},
        {U'|', "\\textbar{}"},
        {U'`', "\\textasciigrave{}"},
        {U'\'', "\\textquotesingle{}"},
        {U'\u00A0', "~"},
        {U'\u202F', "\\,"},
        {U'\u2009', "\\,"},
        {U'−', "$-$"},
        {U'×', "$\\times$"},
        {U'·', "$\\cdot$"},
        {U'±', "$\\pm$"},
        {U'≤', "$\\le$"},
        {U'≥', "$\\ge$"},
        {U'≠', "$\\ne$"},
        {U'≈', "$\\approx$"},
        {U'→', "$\\to$"},
        {U'←', "$\\leftarrow$"},
        {U'√', "$\\surd$"},
        {U'∞', "$\\infty$"},
        {U'Σ', "$\\Sigma$"},
        {U'Φ', "$\\Phi$"},
        {U'Δ', "$\\Delta$"},
        {U'α', "$\\alpha$"},
        {U'β', "$\\beta$"},
        {U'γ', "$\\gamma$"},
        {U'δ', "$\\delta$"},
        {U'ε', "$\\varepsilon$"},
        {U'η', "$\\eta$"},
        {U'θ', "$\\theta$"},
        {U'κ', "$\\kappa$"},
        {U'λ', "$\\lambda$"},
        {U'μ', "$\\mu$"},
        {U'ν', "$\\nu$"},
        {U'π', "$\\pi$"},
        {U'ρ', "$\\rho$"},
        {U'σ', "$\\sigma$"},
        {U'τ', "$\\tau$"},
        {U'φ', "$\\varphi$"},
        {U'χ', "$\\chi$"},
        {U'ω', "$\\omega$"},
        {U'⁰', "\\textsuperscript{0}"},
        {U'¹', "\\textsuperscript{1}"},
        {U'²', "\\textsuperscript{2}"},
        {U'³', "\\textsuperscript{3}"},
        {U'⁴', "\\textsuperscript{4}"},
        {U'⁵', "\\textsuperscript{5}"},
        {U'⁶', "\\textsuperscript{6}"},
        {U'⁷', "\\textsuperscript{7}"},
        {U'⁸', "\\textsuperscript{8}"},
        {U'⁹', "\\textsuperscript{9}"},
        {U'⁻', "\\textsuperscript{$-$}"},
        {U'½', "\\textonehalf{}"},
        {U'…', "\\dots{}"},
        {U'–', "--"},
        {U'—', "---"},
        {U'“', "\\textquotedblleft{}"},
        {U'”', "\\textquotedblright{}"},
        {U'‘', "\\textquoteleft{}"},
        {U'’', "\\textquoteright{}"},
        {U'„', "\\quotedblbase{}"},
        {U'€', "\\texteuro{}"},
        {U'°', "\\textdegree{}"},
        {U'§', "\\textsection{}"},
        {U'´', "\\textasciiacute{}"},
        {U'\u2003', "\\quad{}"},
        {U'◉', "$\\circledcirc$"},
        {U'◇', "$\\diamond$"},
        {U'●', "$\\bullet$"},
        {U'○', "$\\circ$"},
        {U'◆', "$\\diamond$"},
        {U'■', "\\rule{.5em}{.5em}"},
        {U'◐', "$\\circ$"},
        {U'△', "$\\triangle$"},
        {U'▲', "$\\triangle$"},
    };
    return kCommands;
}

/// The letter that begins at `at`, which moves behind it; a byte that begins none stands for
/// itself as U+FFFD.
char32_t nextLetter(const std::string& text, std::size_t& at) {
    const auto byte = [&](std::size_t i) {
        return i < text.size() ? static_cast<unsigned char>(text[i]) : 0U;
    };
    const unsigned first = byte(at);
    const int more = first < 0x80U    ? 0
                     : first >= 0xF0U ? 3
                     : first >= 0xE0U ? 2
                     : first >= 0xC0U ? 1
                                      : -1;
    if (more < 0) {
        ++at;
        return U'\uFFFD';
    }
    char32_t letter = more == 0 ? first : first & (0x3FU >> static_cast<unsigned>(more));
    for (int i = 1; i <= more; ++i) {
        const unsigned next = byte(at + static_cast<std::size_t>(i));
        if ((next & 0xC0U) != 0x80U) {
            at += static_cast<std::size_t>(i);
            return U'\uFFFD';
        }
        letter = (letter << 6U) | (next & 0x3FU);
    }
    at += static_cast<std::size_t>(more) + 1;
    return letter;
}

/// Letters that eight-bit fonts of the T1 encoding have.
bool isLatin(char32_t letter) {
    return (letter >= 0xC0 && letter <= 0x17F && letter != 0xD7 && letter != 0xF7) ||
           letter == 0xDF;
}

}  // namespace

std::string latexText(const std::string& text) {
    std::string out;
    for (std::size_t at = 0; at < text.size();) {
        const std::size_t from = at;
        const char32_t letter = nextLetter(text, at);
        if (const auto command = commands().find(letter); command != commands().end()) {
            out += command->second;
        } else if (letter < 0x20) {
            out += ' ';
        } else if (letter < 0x7F || isLatin(letter)) {
            out += text.substr(from, at - from);
        } else {
            out += fmt::format("\\letter{{{:04X}}}", static_cast<std::uint32_t>(letter));
        }
    }
    return out;
}

std::string latexMath(const std::string& sign) {
    return sign == "−"                  ? "-"
           : sign == "=" || sign == "+" ? sign
                                        : "\\text{" + latexText(sign) + "}";
}

}  // namespace rapporto
