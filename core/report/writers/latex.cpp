// A report as a LaTeX article: tables by rules of booktabs, figures beside it as PDF. It sets with
// any of the three engines; letters that the eight-bit one does not have are shown by their number
// there.
#include "core/base/markup.h"
#include "core/report/press/press.h"
#include "core/report/references.h"
#include "core/report/writers/latex_text.h"
#include "core/report/writers/writer.h"

#include <fmt/format.h>

#include <algorithm>

namespace rapporto {
namespace {

using Kind = ReportBlock::Kind;

constexpr const char* kPreamble = R"(\documentclass[11pt,a4paper]{article}
\usepackage{iftex}
\ifPDFTeX
  \usepackage[utf8]{inputenc}
  \usepackage[T1]{fontenc}
  \usepackage{textcomp}
  \newcommand{\letter}[1]{[U+#1]}
\else
  \usepackage{fontspec}
  \newcommand{\letter}[1]{\char"#1}
\fi
\usepackage{lmodern}
\usepackage{amsmath}
\usepackage{amssymb}
\usepackage{booktabs}
\usepackage{longtable}
\usepackage{array}
\usepackage{graphicx}
\usepackage{pdflscape}
\usepackage[margin=25mm]{geometry}
\setlength{\parindent}{0pt}
\setlength{\parskip}{.6em}
\setlength{\LTpre}{.3em}
\setlength{\LTpost}{.3em}
\emergencystretch=3em
)";

std::string inLatex(const std::string& marked) {
    std::string out;
    for (const TextRun& run : textRuns(marked)) {
        out += run.bold ? "\\textbf{" + latexText(run.text) + "}" : latexText(run.text);
    }
    return out;
}

/// About how wide a table is, in points, at the size of its letters.
double widthOf(const ReportBlock& block, double size) {
    double width = 0.0;
    for (const double one : block.columnWidths(size)) {
        width += one + 0.7 * size;
    }
    return width;
}

std::string columnsOf(const ReportBlock& block) {
    const std::size_t columns = block.columns();
    if (!block.holdsSentences()) {
        return "l" + std::string(columns > 0 ? columns - 1 : 0, 'r');
    }
    std::string out;
    constexpr double kRoom = 430.0;
    for (const double width : sharedWidths(block.columnWidths(10.0), kRoom, 8.0)) {
        out += fmt::format(">{{\\raggedright\\arraybackslash}}p{{{:.3f}\\linewidth}}",
                           0.93 * width / kRoom);
    }
    return out;
}

/// @param widths  of the columns in letters of ten points; empty: of a table of sentences.
std::string rowOf(const CellRow& row, bool head, const std::vector<double>& widths,
                  std::string& rulesUnder) {
    std::string line;
    std::size_t at = 1;
    for (const Cell& cell : row) {
        line += at == 1 ? "" : " & ";
        const double width = at <= widths.size() ? widths[at - 1] : 0.0;
        if (cell.span > 1) {
            const std::size_t last = at + static_cast<std::size_t>(cell.span) - 1;
            line += fmt::format("\\multicolumn{{{}}}{{{}}}{{{}}}", cell.span, at == 1 ? "l" : "c",
                                inLatex(cell.text));
            if (!cell.text.empty() && at > 1) {
                rulesUnder += fmt::format("\\cmidrule(lr){{{}-{}}}", at, last);
            }
            at = last;
        } else if (head && at > 1 && cell.text.size() > 14) {
            // Long heads break into lines.
            line += fmt::format(
                "\\multicolumn{{1}}{{>{{\\raggedleft\\arraybackslash}}p{{{:.1f}em}}}}{{{}}}",
                std::max(0.1 * headRoom(cell.text, 10.0), width / 10.0), inLatex(cell.text));
        } else {
            line += inLatex(cell.text);
        }
        ++at;
    }
    return line + " \\\\\n";
}

std::string tableOf(const ReportBlock& block) {
    constexpr double kPortrait = 455.0;   // Points between the margins of an upright A4.
    constexpr double kLandscape = 700.0;  // … and of a turned one.
    // The first of these sizes in which it fits the upright page, else on a turned one.
    static const std::pair<const char*, double> kSizes[] = {{"\\normalsize", 11.0},
                                                            {"\\small", 10.0},
                                                            {"\\footnotesize", 9.0},
                                                            {"\\scriptsize", 8.0},
                                                            {"\\tiny", 6.0}};
    const bool words = block.holdsSentences();
    const auto fitting = [&](double room) {
        return std::find_if(std::begin(kSizes), std::end(kSizes), [&](const auto& size) {
            return words || widthOf(block, size.second) <= room;
        });
    };
    auto size = fitting(kPortrait);
    const bool turned = size >= std::end(kSizes) - 1;
    if (turned) {
        size = fitting(kLandscape);
    }
    const std::vector<double> widths = words ? std::vector<double>() : block.columnWidths(10.0);
    std::string out = turned ? "\\begin{landscape}\n" : "";
    out += std::string("{") + (size == std::end(kSizes) ? "\\tiny" : size->first) +
           "\\setlength{\\tabcolsep}{.35em}\n\\begin{longtable}[l]{@{}" + columnsOf(block) +
           "@{}}\n\\toprule\n";
    for (std::size_t r = 0; r < block.cells.size(); ++r) {
        std::string under;
        out += rowOf(block.cells[r], r < block.heads && !words, widths, under);
        out += under.empty() ? "" : under + "\n";
        const bool rule = block.hasRule(r);
        if (rule && r + 1 < block.cells.size()) {
            out += "\\midrule\n";
        }
        out += r + 1 == block.heads ? "\\endhead\n" : "";
    }
    out += "\\bottomrule\n\\end{longtable}}\n";
    return out + (turned ? "\\end{landscape}\n" : "");
}

std::string equationOf(const MathRow& row) {
    std::string math;
    for (const MathPiece& piece : row) {
        const std::string inner = "\\text{" + latexText(piece.text) + "}";
        math += piece.kind == MathPiece::Kind::Sign
                    ? " " + latexMath(piece.text) + " "
                    : (piece.beneath.empty()
                           ? inner
                           : "\\underset{\\text{" + latexText(piece.beneath) + "}}{" + inner + "}");
        math += piece.kind == MathPiece::Kind::Number ? "\\," : "";
    }
    // Inline, so that a long one breaks at its signs.
    return "\\begin{flushleft}$\\displaystyle " + math + "$\\end{flushleft}\n";
}

/// The works that the report lists, for those who cite them in a paper of their own.
std::string worksOf(const ReportPages& pages) {
    std::vector<const Reference*> works;
    for (const ReportBlock& block : pages.blocks) {
        for (const Reference& one : allReferences()) {
            if (block.kind == Kind::Reference && block.part == one.cite) {
                works.push_back(&one);
            }
        }
    }
    return bibtexOf(works);
}

}  // namespace

Result<WrittenReport> writeLatex(const ReportPages& pages, const std::string& stem) {
    WrittenReport written;
    std::string& out = written.bytes;
    out = kPreamble;
    out += "\\title{" + inLatex(pages.title) +
           (pages.subtitle.empty() ? "" : "\\\\[.3em]\\large\\itshape " + inLatex(pages.subtitle)) +
           "}\n\\author{" + inLatex(pages.byline) + "}\n\\date{}\n\\begin{document}\n\\maketitle\n";
    bool inList = false;
    for (const ReportBlock& b : pages.blocks) {
        if (inList && b.kind != Kind::Bullet) {
            out += "\\end{itemize}\n";
            inList = false;
        }
        out += "\n";
        switch (b.kind) {
            case Kind::Heading:
                out += "\\section*{" + inLatex(b.text) + "}\n";
                break;
            case Kind::Paragraph:
                out += inLatex(b.text) + "\n";
                break;
            case Kind::Bullet:
                out += (inList ? "" : "\\begin{itemize}\n") + std::string("\\item ") +
                       inLatex(b.text) + "\n";
                inList = true;
                break;
            case Kind::Caption:
                out += "\\medskip\\pagebreak[2]\n" + inLatex(b.text) + "\\nopagebreak\n";
                break;
            case Kind::Note:
                out += "{\\small " + inLatex(b.text) + "\\par}\n";
                break;
            case Kind::Reference:
                out += "\\hangindent=1.5em\\hangafter=1 " + inLatex(b.text) + "\n";
                break;
            case Kind::Equation:
                out += equationOf(b.equation);
                break;
            case Kind::Table:
                out += tableOf(b);
                break;
            case Kind::Figure: {
                auto picture = drawingPdf(b.figure, b.text);
                if (!picture) {
                    return tl::make_unexpected(picture.error());
                }
                const std::string name =
                    stem + "-figure-" + std::to_string(written.beside.size() + 1) + ".pdf";
                written.beside.push_back({name, *std::move(picture)});
                out += "\\includegraphics[width=" +
                       fmt::format("{:.2f}", std::min(1.0, b.figure.width / 455.0)) +
                       "\\linewidth]{\\detokenize{" + name + "}}\n";
                break;
            }
        }
    }
    out += inList ? "\\end{itemize}\n" : "";
    if (const std::string works = worksOf(pages); !works.empty()) {
        written.beside.push_back({stem + ".bib", works});
    }
    out += "\n\\end{document}\n";
    return written;
}

}  // namespace rapporto
