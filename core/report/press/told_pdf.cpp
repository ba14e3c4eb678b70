#include "core/report/press/told_pdf.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cstdint>
#include <map>
#include <optional>
#include <string_view>

namespace rapporto {
namespace {

/// Code points of UTF-8; what is none stands as a replacement.
std::vector<std::uint32_t> codePoints(std::string_view text) {
    constexpr std::uint32_t kReplacement = 0xFFFD;
    std::vector<std::uint32_t> out;
    for (std::size_t i = 0; i < text.size();) {
        const auto first = static_cast<unsigned char>(text[i++]);
        const int more = first < 0x80 ? 0 : first >= 0xF0 ? 3 : first >= 0xE0 ? 2 : 1;
        std::uint32_t code = more == 0 ? first : first & (0x3FU >> more);
        for (int k = 0; k < more; ++k) {
            const bool goesOn =
                i < text.size() && (static_cast<unsigned char>(text[i]) & 0xC0U) == 0x80U;
            code = goesOn ? code << 6U | (static_cast<unsigned char>(text[i++]) & 0x3FU)
                          : kReplacement;
            if (!goesOn) {
                break;
            }
        }
        out.push_back(code);
    }
    return out;
}

/// A text of a document: UTF-16 in hexadecimal.
std::string pdfText(std::string_view text) {
    std::string out = "<FEFF";
    for (const std::uint32_t code : codePoints(text)) {
        if (code >= 0x10000) {
            const std::uint32_t rest = code - 0x10000;
            out += fmt::format("{:04X}{:04X}", 0xD800 + (rest >> 10U), 0xDC00 + (rest & 0x3FFU));
        } else {
            out += fmt::format("{:04X}", code);
        }
    }
    return out + ">";
}

std::optional<std::size_t> numberAt(std::string_view text, std::size_t from) {
    std::size_t value = 0;
    const char* begin = text.data() + std::min(from, text.size());
    const auto [end, error] = std::from_chars(begin, text.data() + text.size(), value);
    return error == std::errc() && end != begin ? std::optional(value) : std::nullopt;
}

/// Where the objects of a document with one plain table of them stand.
class Objects {
  public:
    static std::optional<Objects> of(const std::string& pdf) {
        const std::size_t said = pdf.rfind("startxref\n");
        const auto table = said == std::string::npos ? std::nullopt : numberAt(pdf, said + 10);
        if (!table || *table >= pdf.size() || pdf.compare(*table, 7, "xref\n0 ") != 0) {
            return std::nullopt;
        }
        Objects out;
        out.table_ = *table;
        const auto count = numberAt(pdf, *table + 7);
        const std::size_t line = pdf.find('\n', *table + 7);
        constexpr std::size_t kEntry = 20;
        if (!count || line == std::string::npos || line + 1 + *count * kEntry > pdf.size()) {
            return std::nullopt;
        }
        for (std::size_t object = 1; object < *count; ++object) {
            const std::size_t entry = line + 1 + object * kEntry;
            const auto at = numberAt(pdf, entry);
            if (!at || pdf[entry + 17] != 'n') {
                continue;
            }
            const std::string head = std::to_string(object) + " 0 obj\n";
            const std::size_t end = pdf.find("\nendobj", *at);
            if (*at >= pdf.size() || pdf.compare(*at, head.size(), head) != 0 ||
                end == std::string::npos) {
                return std::nullopt;
            }
            out.bodies_[object] =
                std::string_view(pdf).substr(*at + head.size(), end - *at - head.size());
        }
        const std::size_t trailer = pdf.find("trailer\n<<", line);
        const std::size_t end = pdf.find("startxref", line);
        if (trailer == std::string::npos || end != said) {
            return std::nullopt;
        }
        out.trailer_ = pdf.substr(trailer + 10, pdf.rfind(">>", end) - trailer - 10);
        return out;
    }

    [[nodiscard]] const std::map<std::size_t, std::string_view>& bodies() const { return bodies_; }

    [[nodiscard]] std::size_t table() const { return table_; }

    [[nodiscard]] const std::string& trailer() const { return trailer_; }

  private:
    std::map<std::size_t, std::string_view> bodies_;
    std::size_t table_ = 0;
    std::string trailer_;  ///< What it says between its brackets.
};

/// A dictionary with entries more.
std::string with(std::string_view dictionary, const std::string& entries) {
    const std::size_t end = dictionary.rfind(">>");
    return std::string(dictionary.substr(0, end)) + entries + ">>";
}

bool isFigure(std::string_view body) {
    return body.starts_with("<< /Type /StructElem\n") &&
           body.find("/S /Figure\n") != std::string_view::npos;
}

}  // namespace

std::string toldPdf(std::string pdf, const PdfTold& told) {
    const auto objects = Objects::of(pdf);
    if (!objects) {
        return pdf;
    }
    std::map<std::size_t, std::string> changed;
    std::vector<std::size_t> figures;
    for (const auto& [object, body] : objects->bodies()) {
        if (body.starts_with("<< /Type /Catalog\n")) {
            changed[object] =
                with(body, "   /MarkInfo << /Marked true >>\n   /Lang " + pdfText(told.language) +
                               "\n   /ViewerPreferences << /DisplayDocTitle true >>\n");
        } else if (isFigure(body)) {
            figures.push_back(object);
        }
    }
    // Where they are counted otherwise than here, no words are better than wrong ones.
    for (std::size_t k = 0; figures.size() == told.alternatives.size() && k < figures.size(); ++k) {
        if (!told.alternatives[k].empty()) {
            changed[figures[k]] = with(objects->bodies().at(figures[k]),
                                       "   /Alt " + pdfText(told.alternatives[k]) + "\n");
        }
    }
    std::string later;
    std::string table = "xref\n";
    for (const auto& [object, body] : changed) {
        table += fmt::format("{} 1\n{:010} 00000 n \n", object, pdf.size() + later.size());
        later += fmt::format("{} 0 obj\n{}\nendobj\n", object, body);
    }
    const std::size_t at = pdf.size() + later.size();
    const std::string trailer = "trailer\n<<" + objects->trailer() + "   /Prev " +
                                std::to_string(objects->table()) + "\n>>\n";
    return pdf + later + table + trailer + "startxref\n" + std::to_string(at) + "\n%%EOF\n";
}

}  // namespace rapporto
