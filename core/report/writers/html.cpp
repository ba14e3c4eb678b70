// A report as one page of HTML: figures inline, fonts inside, equations as MathML.
#include "core/base/markup.h"
#include "core/report/press/fonts.h"
#include "core/report/writers/math_markup.h"
#include "core/report/writers/writer.h"

#include <algorithm>

namespace rapporto {
namespace {

using Kind = ReportBlock::Kind;

constexpr const char* kStyle =
    "body{background:#FAF8F3;color:#232733;margin:0}"
    "main{max-width:46rem;margin:2rem auto;padding:3rem 3.5rem;background:#fff;"
    "border:1px solid #D9D2C3;font:16px/1.5 'Report',STIX,'STIX Two Text','Times New Roman',serif}"
    "h1{font-weight:normal;font-size:1.7rem;margin:0 0 .3rem}"
    ".subtitle{font-style:italic;color:#6B6F7B;margin:0 0 .3rem}.byline{margin:0 0 1rem}"
    "h2{font-style:italic;font-weight:normal;font-size:1.2rem;margin:1.8rem 0 .4rem}"
    ".wide{overflow-x:auto}"
    "table{border-collapse:collapse;width:100%;border-top:1.5px solid #232733;"
    "border-bottom:1.5px solid #232733}"
    "td,th{padding:.12rem .4rem;text-align:right;font-weight:normal;white-space:nowrap}"
    "td:first-child,th:first-child{text-align:left;padding-left:0;white-space:normal}"
    "table.words td,table.words th{text-align:left;white-space:normal;vertical-align:top}"
    "th.over{text-align:center;border-bottom:1px solid #6B6F7B}"
    "tr.rule td,tr.rule th{border-bottom:1px solid #6B6F7B}"
    ".caption{margin:1.6rem 0 .5rem}.note{color:#6B6F7B;font-size:.87rem;margin:.4rem 0 1rem}"
    ".equation{margin:1rem 0 1rem 1.5rem;overflow-x:auto}.equation "
    "math{text-align:left;margin:.3rem 0}.reference{padding-left:1.5rem;"
    "text-indent:-1.5rem;margin:.3rem 0}"
    "figure{margin:0}svg{max-width:100%;height:auto}"
    "@media print{body,main{background:#fff;border:0;margin:0;padding:0}"
    "tr,figure{break-inside:avoid}h2,.caption{break-after:avoid}}"
    "@media(max-width:40rem){main{padding:1rem}}";

std::string tableOf(const ReportBlock& block) {
    std::string out = block.holdsSentences() ? "<div class=\"wide\"><table class=\"words\">\n"
                                             : "<div class=\"wide\"><table>\n";
    for (std::size_t r = 0; r < block.cells.size(); ++r) {
        const bool rule = block.hasRule(r);
        const bool head = r < block.heads;
        out += r == 0 ? "<thead>" : r == block.heads ? "<tbody>" : "";
        out += rule ? "<tr class=\"rule\">" : "<tr>";
        bool first = true;
        for (const Cell& cell : block.cells[r]) {
            const char* tag = head || (first && block.cells[r].size() > 1) ? "th" : "td";
            out += std::string("<") + tag;
            out += head ? " scope=\"col\"" : tag[1] == 'h' ? " scope=\"row\"" : "";
            if (cell.span > 1) {
                out += " colspan=\"" + std::to_string(cell.span) + "\"" +
                       (head && !cell.text.empty() ? " class=\"over\"" : "");
            }
            out += ">" + htmlText(cell.text) + "</" + tag + ">";
            first = false;
        }
        out += "</tr>";
        out += r + 1 == block.heads ? "</thead>\n" : "\n";
    }
    return out + (block.cells.size() > block.heads ? "</tbody>" : "") + "</table></div>\n";
}

std::string equationOf(const MathRow& row) {
    std::string out = "<div class=\"equation\">";
    for (const MathRow& line : brokenEquation(row, 560.0, 16.0)) {
        out += "<math display=\"block\">" + mathMarkup(line) + "</math>\n";
    }
    return out + "</div>\n";
}

std::string blockOf(const ReportBlock& b) {
    switch (b.kind) {
        case Kind::Heading:
            return "<h2>" + htmlText(b.text) + "</h2>\n";
        case Kind::Paragraph:
            return "<p>" + htmlText(b.text) + "</p>\n";
        case Kind::Bullet:
            return "<ul><li>" + htmlText(b.text) + "</li></ul>\n";
        case Kind::Caption:
            return "<p class=\"caption\">" + htmlText(b.text) + "</p>\n";
        case Kind::Note:
            return "<p class=\"note\">" + htmlText(b.text) + "</p>\n";
        case Kind::Reference:
            return "<p class=\"reference\">" + htmlText(b.text) + "</p>\n";
        case Kind::Equation:
            return equationOf(b.equation);
        case Kind::Table:
            return tableOf(b);
        case Kind::Figure:
            return "<figure role=\"img\" aria-label=\"" + escapedText(b.text) + "\">" +
                   svgOf(b.figure, "Report, STIX, serif") + "</figure>\n";
    }
    return {};
}

/// The faces of the page with the letters that it has, so that it looks the same where they are
/// not installed.
std::string faces(const std::string& page) {
    std::string out;
    for (const ShippedFont& font : shippedFonts()) {
        if (!font.serif) {
            continue;
        }
        out += "@font-face{font-family:Report;font-style:" +
               std::string(font.italic ? "italic" : "normal") +
               ";font-weight:" + (font.bold ? "bold" : "normal") +
               ";src:url(data:font/otf;base64," + inBase64(facesFor(font, page)) + ")}";
    }
    return out;
}

}  // namespace

Result<WrittenReport> writeHtml(const ReportPages& pages, const std::string& /*stem*/) {
    std::string body = "<h1>" + htmlText(pages.title) + "</h1>\n";
    if (!pages.subtitle.empty()) {
        body += "<p class=\"subtitle\">" + htmlText(pages.subtitle) + "</p>\n";
    }
    if (!pages.byline.empty()) {
        body += "<p class=\"byline\">" + htmlText(pages.byline) + "</p>\n";
    }
    for (const ReportBlock& block : pages.blocks) {
        body += blockOf(block);
    }
    // Points that follow each other are one list.
    body = replacedAll(std::move(body), "</ul>\n<ul>", "");
    return WrittenReport{"<!DOCTYPE html>\n<html lang=\"" + escapedText(pages.language) +
                             "\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" "
                             "content=\"width=device-width\"><title>" +
                             escapedText(pages.title) + "</title><style>" + faces(body) + kStyle +
                             "</style></head>\n<body><main>\n" + body + "</main></body></html>\n",
                         {}};
}

}  // namespace rapporto
