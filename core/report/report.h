#pragma once

#include "core/study/answer.h"

#include <map>
#include <string>
#include <vector>

namespace rapporto {

/// A report as values: blocks in order, each of one kind. Writers turn it into pages.
struct ReportBlock {
    enum class Kind : std::uint8_t { Heading, Paragraph, Caption, Table, Figure, Equation, Note };

    Kind kind = Kind::Paragraph;
    std::string text;                             ///< Marked with ** where bold.
    std::vector<std::vector<std::string>> cells;  ///< Of a table; row 0 is the head.
    std::vector<std::size_t> rules;               ///< Rows of a table below which a line stands.
    std::string svg;                              ///< Of a figure.
    int item = -1;                                ///< The report item that it belongs to.
};

/// Where blocks are put in order; tables and figures are numbered as they come.
class ReportSheet {
  public:
    void put(ReportBlock::Kind kind, std::string text) {
        ReportBlock block;
        block.kind = kind;
        block.text = std::move(text);
        add(std::move(block));
    }

    void add(ReportBlock block) { blocks_.push_back(std::move(block)); }

    [[nodiscard]] std::string nextTable() { return std::to_string(++tables_); }

    [[nodiscard]] std::string nextFigure() { return std::to_string(++figures_); }

    [[nodiscard]] std::vector<ReportBlock>& blocks() { return blocks_; }

  private:
    std::vector<ReportBlock> blocks_;
    int tables_ = 0;
    int figures_ = 0;
};

/// The question’s title, or its id.
[[nodiscard]] std::string questionTitle(const Answer& answer);

/// The items of the study's report, or the default ones: reading, table, lenses, equation, checks,
/// assumptions, methods.
[[nodiscard]] std::vector<ReportItem> reportItems(const Study& study);

/// Answers by the id of their question; they outlive what is built from them.
using AnswersById = std::map<std::string, const Answer*>;

/// Builds the blocks of all items; items of questions without an answer say so.
[[nodiscard]] std::vector<ReportBlock> buildReport(const Study& study, const AnswersById& answers);

/// Coefficients of several questions side by side, standard errors beneath, as rows of texts.
[[nodiscard]] ReportBlock comparisonTable(const Study& study,
                                          const std::vector<const Answer*>& answers);

/// “ln(revenue) = 6.94 + .214 member + …” with standard errors in parentheses.
[[nodiscard]] std::string equationText(const Answer& answer);

/// A lens a term for one term across questions, or for all terms of one question, as SVG.
[[nodiscard]] std::string lensFigure(const std::vector<std::string>& names,
                                     const std::vector<const Coefficient*>& effects, double width);

/// & < > " as entities in a text of a page or a picture.
[[nodiscard]] std::string escapedText(const std::string& text);

/// A writer of one file type; registered in report_table.cpp.
struct ReportWriter {
    const char* ending;  ///< ".html"
    std::string (*write)(const std::string& title, const std::vector<ReportBlock>& blocks);
};

[[nodiscard]] const std::vector<ReportWriter>& allReportWriters();

/// A self-contained page; figures are inline SVG.
[[nodiscard]] std::string writeHtml(const std::string& title,
                                    const std::vector<ReportBlock>& blocks);

/// Markdown with pipe tables; figures are left out and said so.
[[nodiscard]] std::string writeMarkdown(const std::string& title,
                                        const std::vector<ReportBlock>& blocks);

/// The tables alone, comma-separated, for a spreadsheet.
[[nodiscard]] std::string writeCsvTables(const std::string& title,
                                         const std::vector<ReportBlock>& blocks);

/// & < > " as entities, **…** as bold.
[[nodiscard]] std::string htmlText(const std::string& marked);

}  // namespace rapporto
