#include "core/report/writers/writer.h"

#include <algorithm>
#include <array>

namespace rapporto {

std::span<const ReportWriter> allReportWriters() {
    static const std::array kWriters = {
        ReportWriter{".html", "HTML", "one page with its figures and fonts, for any browser",
                     &writeHtml},
        ReportWriter{".pdf", "PDF", "typeset on A4, as the page here", &writePdf},
        ReportWriter{".docx", "DOCX", "for a word processor: tables, headings, figures",
                     &writeDocx},
        ReportWriter{".odt", "ODT", "the same in the open document format", &writeOdt},
        ReportWriter{".tex", "LaTeX", "for a paper, figures beside it as PDF", &writeLatex},
        ReportWriter{".md", "Markdown", "plain text, figures beside it as SVG", &writeMarkdown},
        ReportWriter{".xlsx", "XLSX", "a sheet a table, numbers as numbers", &writeXlsxTables},
        ReportWriter{".csv", "CSV", "the tables alone", &writeCsvTables},
    };
    return kWriters;
}

const ReportWriter* findReportWriter(const std::string& ending) {
    const auto all = allReportWriters();
    const auto found = std::find_if(all.begin(), all.end(), [&](const ReportWriter& writer) {
        return ending == writer.ending;
    });
    return found == all.end() ? nullptr : &*found;
}

std::string reportEndings() {
    std::string out;
    for (const ReportWriter& writer : allReportWriters()) {
        out += (out.empty() ? "" : ", ") + std::string(writer.ending);
    }
    return out;
}

}  // namespace rapporto
