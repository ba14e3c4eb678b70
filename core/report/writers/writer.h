#pragma once

#include "core/base/result.h"
#include "core/report/blocks.h"

#include <functional>
#include <span>
#include <string>
#include <vector>

namespace rapporto {

/// A file to be written, by its name in the folder of the report.
struct ReportFile {
    std::string name;
    std::string bytes;
};

/// A report in one file type, and the files that it needs beside it (figures, references).
struct WrittenReport {
    std::string bytes;
    std::vector<ReportFile> beside;
};

/// A writer of one file type: its file, and its line in writer_table.cpp.
struct ReportWriter {
    const char* ending;  ///< ".html"
    const char* name;    ///< “LaTeX”
    const char* words;   ///< What it is for, in half a sentence.

    /// @param stem  what names of files beside it begin with: "report" gives "report-figure-1.svg".
    Result<WrittenReport> (*write)(const ReportPages& pages, const std::string& stem);
};

[[nodiscard]] std::span<const ReportWriter> allReportWriters();

/// The writer of that ending, or null.
[[nodiscard]] const ReportWriter* findReportWriter(const std::string& ending);

/// “.html, .pdf, .tex”.
[[nodiscard]] std::string reportEndings();

/// The ending of a path is that of a writer; else File.
[[nodiscard]] Result<void> knownEnding(const std::string& path);

/// Puts a whole file at a path, or says why it does not.
using PutFile = std::function<Result<void>(const std::string& path, const std::string& bytes)>;

/// Writes a report as the ending of its path says, what it needs beside it first.
///
/// @return File for an ending that no writer has, else what the writer or `put` refuses.
[[nodiscard]] Result<void> saveReport(const ReportPages& pages, const std::string& path,
                                      const PutFile& put);

[[nodiscard]] Result<WrittenReport> writeHtml(const ReportPages& pages, const std::string& stem);
[[nodiscard]] Result<WrittenReport> writeMarkdown(const ReportPages& pages,
                                                  const std::string& stem);
[[nodiscard]] Result<WrittenReport> writeCsvTables(const ReportPages& pages,
                                                   const std::string& stem);
[[nodiscard]] Result<WrittenReport> writeLatex(const ReportPages& pages, const std::string& stem);
[[nodiscard]] Result<WrittenReport> writeOdt(const ReportPages& pages, const std::string& stem);
[[nodiscard]] Result<WrittenReport> writeDocx(const ReportPages& pages, const std::string& stem);
[[nodiscard]] Result<WrittenReport> writeXlsxTables(const ReportPages& pages,
                                                    const std::string& stem);
[[nodiscard]] Result<WrittenReport> writePdf(const ReportPages& pages, const std::string& stem);

}  // namespace rapporto
