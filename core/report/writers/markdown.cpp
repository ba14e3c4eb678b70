// A report as Markdown with pipe tables; figures stand beside it as SVG.
#include "core/base/markup.h"
#include "core/report/writers/writer.h"

#include <algorithm>
#include <cctype>

namespace rapporto {
namespace {

using Kind = ReportBlock::Kind;

/// Texts of a study may come from a stranger: in the page they stay texts, neither markup nor
/// links.
std::string inMarkdown(const std::string& text, bool inTable = false) {
    std::string out;
    for (std::size_t i = 0; i < text.size(); ++i) {
        const char c = text[i];
        const char next = i + 1 < text.size() ? text[i + 1] : ' ';
        const std::string_view rest = std::string_view(text).substr(i);
        const bool tag = std::isalpha(static_cast<unsigned char>(next)) != 0 || next == '/' ||
                         next == '!' || next == '?';
        if (c == '<' && tag) {
            out += "&lt;";
        } else if (c == '[' || c == '`' || c == '\\') {
            out += '\\';
            out += c;
        } else if (c == '|' && inTable) {
            out += "\\|";
        } else if (c == '\n' || c == '\r') {
            out += ' ';
        } else if (rest.starts_with("://")) {
            out += ":&#47;/";
            i += 2;
        } else if (rest.starts_with("www.")) {
            out += "www&#46;";
            i += 3;
        } else {
            out += c;
        }
    }
    return out;
}

std::string tableOf(const ReportBlock& block) {
    const std::size_t columns = block.columns();
    std::string out;
    for (std::size_t r = 0; r < block.cells.size(); ++r) {
        out += "|";
        for (const Cell& cell : block.cells[r]) {
            out += " " + inMarkdown(cell.text, true) + " |";
            for (int more = 1; more < cell.span; ++more) {
                out += " |";
            }
        }
        out += "\n";
        if (r == 0) {
            out += "|---|";
            for (std::size_t c = 1; c < columns; ++c) {
                out += "---:|";
            }
            out += "\n";
        }
    }
    return out;
}

std::string equationOf(const MathRow& row) {
    std::string out = ">";
    for (const MathPiece& piece : row) {
        out += " " + inMarkdown(piece.text) +
               (piece.beneath.empty() ? "" : " " + inMarkdown(piece.beneath));
    }
    return out + "\n";
}

}  // namespace

Result<WrittenReport> writeMarkdown(const ReportPages& pages, const std::string& stem) {
    WrittenReport written;
    std::string& out = written.bytes;
    out = "# " + inMarkdown(pages.title) + "\n";
    if (!pages.subtitle.empty()) {
        out += "\n*" + inMarkdown(withoutMarks(pages.subtitle)) + "*\n";
    }
    if (!pages.byline.empty()) {
        out += "\n" + inMarkdown(pages.byline) + "\n";
    }
    Kind before = Kind::Paragraph;
    for (const ReportBlock& b : pages.blocks) {
        out += b.kind == Kind::Bullet && before == Kind::Bullet ? "" : "\n";
        before = b.kind;
        switch (b.kind) {
            case Kind::Heading:
                out += "## " + inMarkdown(b.text) + "\n";
                break;
            case Kind::Paragraph:
            case Kind::Caption:
            case Kind::Reference:
                out += inMarkdown(b.text) + "\n";
                break;
            case Kind::Bullet:
                out += "- " + inMarkdown(b.text) + "\n";
                break;
            case Kind::Note:
                out += "*" + inMarkdown(withoutMarks(b.text)) + "*\n";
                break;
            case Kind::Equation:
                out += equationOf(b.equation);
                break;
            case Kind::Figure: {
                const std::string name =
                    stem + "-figure-" + std::to_string(written.beside.size() + 1) + ".svg";
                written.beside.push_back({name, svgOf(b.figure, "STIX, 'STIX Two Text', serif")});
                out += "![" + inMarkdown(withoutMarks(b.text)) + "](<" + name + ">)\n";
                break;
            }
            case Kind::Table:
                out += tableOf(b);
                break;
        }
    }
    return written;
}

}  // namespace rapporto
