// Report writers: HTML, Markdown, CSV.
#include "core/report/report.h"
#include "core/report/wording.h"

#include <algorithm>
#include <cctype>

namespace rapporto {
namespace {

using Kind = ReportBlock::Kind;

constexpr const char* kStyle =
    "body{background:#FAF8F3;color:#232733;margin:0}"
    "main{max-width:46rem;margin:2rem auto;padding:3rem 3.5rem;background:#fff;border:1px solid "
    "#D9D2C3;"
    "font:16px/1.5 STIX,'STIX Two Text','Times New Roman',serif}"
    "h1{font-weight:normal;font-size:1.7rem;margin:0 0 "
    "1rem}h2{font-style:italic;font-weight:normal;font-size:1.2rem;margin:1.8rem 0 .4rem}"
    "table{border-collapse:collapse;width:100%;border-top:1.5px solid #232733;border-bottom:1.5px "
    "solid #232733}"
    "td,th{padding:.12rem "
    ".4rem;text-align:right;font-weight:normal}td:first-child,th:first-child{text-align:left;"
    "padding-left:0}"
    "tr.rule td,tr.rule th{border-bottom:1px solid #6B6F7B}"
    ".caption{margin:1.6rem 0 .5rem}.note{color:#6B6F7B;font-size:.87rem;margin:.4rem 0 "
    "1rem}.equation{margin:1rem 0 1rem 1.5rem}svg{max-width:100%;height:auto}";

std::string htmlTable(const ReportBlock& block) {
    std::string out = "<table>\n";
    for (std::size_t r = 0; r < block.cells.size(); ++r) {
        const bool rule = std::find(block.rules.begin(), block.rules.end(), r) != block.rules.end();
        const char* tag = r == 0 ? "th" : "td";
        out += rule ? "<tr class=\"rule\">" : "<tr>";
        for (const auto& cell : block.cells[r]) {
            out += std::string("<") + tag + ">" + htmlText(cell) + "</" + tag + ">";
        }
        out += "</tr>\n";
    }
    return out + "</table>\n";
}

std::string csvCell(const std::string& text) {
    std::string number = text;
    // A spreadsheet reads an ASCII minus and no spaces in a number.
    for (const auto& [from, to] : {std::pair<std::string, std::string>{"−", "-"}, {"\u202F", ""}}) {
        for (std::size_t at = number.find(from); at != std::string::npos;
             at = number.find(from, at + to.size())) {
            number.replace(at, from.size(), to);
        }
    }
    if (number.find_first_of(",\"\n") == std::string::npos) {
        return number;
    }
    std::string out = "\"";
    for (const char c : number) {
        out += c == '"' ? "\"\"" : std::string(1, c);
    }
    return out + "\"";
}

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
        } else if (c == '[') {
            out += "\\[";
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

}  // namespace

std::string writeHtml(const std::string& title, const std::vector<ReportBlock>& blocks) {
    std::string out = "<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>" +
                      htmlText(title) + "</title><style>" + kStyle +
                      "</style></head>\n<body><main>\n<h1>" + htmlText(title) + "</h1>\n";
    for (const ReportBlock& b : blocks) {
        switch (b.kind) {
            case Kind::Heading:
                out += "<h2>" + htmlText(b.text) + "</h2>\n";
                break;
            case Kind::Paragraph:
                out += "<p>" + htmlText(b.text) + "</p>\n";
                break;
            case Kind::Caption:
                out += "<p class=\"caption\">" + htmlText(b.text) + "</p>\n";
                break;
            case Kind::Note:
                out += "<p class=\"note\">" + htmlText(b.text) + "</p>\n";
                break;
            case Kind::Equation:
                out += "<p class=\"equation\">" + htmlText(b.text) + "</p>\n";
                break;
            case Kind::Table:
                out += htmlTable(b);
                break;
            case Kind::Figure:
                out += "<figure role=\"img\" aria-label=\"" + htmlText(b.text) +
                       "\" style=\"margin:0\">" + b.svg + "</figure>\n";
                break;
        }
    }
    return out + "</main></body></html>\n";
}

std::string writeMarkdown(const std::string& title, const std::vector<ReportBlock>& blocks) {
    std::string out = "# " + inMarkdown(title) + "\n";
    for (const ReportBlock& b : blocks) {
        out += "\n";
        switch (b.kind) {
            case Kind::Heading:
                out += "## " + inMarkdown(b.text) + "\n";
                break;
            case Kind::Paragraph:
            case Kind::Caption:
                out += inMarkdown(b.text) + "\n";
                break;
            case Kind::Note:
                out += "*" + inMarkdown(plain(b.text)) + "*\n";
                break;
            case Kind::Equation:
                out += "> " + inMarkdown(b.text) + "\n";
                break;
            case Kind::Figure:
                out += "*(A figure stands here in the HTML and PDF forms.)*\n";
                break;
            case Kind::Table:
                for (std::size_t r = 0; r < b.cells.size(); ++r) {
                    out += "|";
                    for (const auto& cell : b.cells[r]) {
                        out += " " + inMarkdown(cell, true) + " |";
                    }
                    out += "\n";
                    if (r == 0) {
                        out += "|---|";
                        for (std::size_t c = 1; c < b.cells[0].size(); ++c) {
                            out += "---:|";
                        }
                        out += "\n";
                    }
                }
        }
    }
    return out;
}

std::string writeCsvTables(const std::string& /*title*/, const std::vector<ReportBlock>& blocks) {
    std::string out;
    for (const ReportBlock& b : blocks) {
        if (b.kind != Kind::Table) {
            continue;
        }
        out += out.empty() ? "" : "\n";
        for (const auto& row : b.cells) {
            for (std::size_t c = 0; c < row.size(); ++c) {
                out += (c > 0 ? "," : "") + csvCell(row[c]);
            }
            out += "\n";
        }
    }
    return out;
}

const std::vector<ReportWriter>& allReportWriters() {
    static const std::vector<ReportWriter> kWriters = {
        {".html", &writeHtml},
        {".md", &writeMarkdown},
        {".csv", &writeCsvTables},
    };
    return kWriters;
}

}  // namespace rapporto
