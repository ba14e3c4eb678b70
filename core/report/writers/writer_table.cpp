#include "core/report/writers/writer.h"

#include <algorithm>
#include <array>
#include <cctype>
#include <filesystem>

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

namespace {

/// The writer for a path’s ending, in capitals or not, or null.
const ReportWriter* writerFor(const std::filesystem::path& path) {
    std::string ending = path.extension().string();
    std::transform(ending.begin(), ending.end(), ending.begin(),
                   [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
    return findReportWriter(ending);
}

}  // namespace

Result<void> knownEnding(const std::string& path) {
    if (writerFor(path) != nullptr) {
        return {};
    }
    return refuse(ErrorCode::File, "a report cannot be written as ‘" + path + "’", path,
                  "Use one of " + reportEndings() + ".");
}

Result<void> saveReport(const ReportPages& pages, const std::string& path, const PutFile& put) {
    if (auto known = knownEnding(path); !known) {
        return known;
    }
    const std::filesystem::path place(path);
    const auto made = writerFor(place)->write(pages, place.stem().string());
    if (!made) {
        return tl::make_unexpected(made.error());
    }
    for (const ReportFile& file : made->beside) {
        if (auto done = put((place.parent_path() / file.name).string(), file.bytes); !done) {
            return done;
        }
    }
    return put(path, made->bytes);
}

}  // namespace rapporto
