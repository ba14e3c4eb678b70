#pragma once

#include "core/base/compiled_once.h"
#include "core/base/job.h"
#include "core/base/result.h"
#include "core/data/column.h"

#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace rapporto {

/// A line of the text read as another: the file itself is never written.
struct LineRepair {
    std::size_t line = 0;  ///< From 1, as an editor counts.
    std::string text;      ///< Without a line end.

    friend bool operator==(const LineRepair&, const LineRepair&) = default;
};

/// How a delimited text is read. What is left out is guessed, and the guess is shown.
struct ReaderOptions {
    RAPPORTO_COMPILED_ONCE(ReaderOptions);

    std::optional<char> delimiter;
    std::optional<char> decimal;
    std::optional<char> thousands;
    std::optional<bool> header;
    std::optional<std::string> encoding;  ///< UTF-8, UTF-16, ISO-8859-1, windows-1252.
    char quote = '"';
    std::size_t skip = 0;  ///< Lines before the header.
    std::string type;      ///< csv, xlsx, ods, sqlite, json, data-package; empty: by the ending.
    std::string sheet;     ///< Of a spreadsheet; empty: the first with cells.
    std::string block;     ///< “B3:F200”; empty: all filled cells.
    std::string table;     ///< Of a database or package; empty: the first.
    std::string query;     ///< Read-only; instead of a table.
    std::string service;   ///< Of a database server: how it is reached; empty: by the environment.
    bool left = false;     ///< Rows stay with the server; questions are answered by sums.
    double patience = 15;  ///< Seconds that a database may take; 0: without end.
    std::vector<LineRepair> repairs;        ///< Of a delimited text.
    std::vector<std::string> asText;        ///< Columns that hold texts whatever they look like.
    std::vector<std::string> missing = {};  ///< Texts that are no answer, in any column.
    bool keepSpaces = false;                ///< Around texts; else they are taken off.

    friend bool operator==(const ReaderOptions&, const ReaderOptions&) = default;
};

/// A place in the source that was repaired or could not be taken as it stands.
struct Problem {
    std::size_t line = 0;  ///< From 1, as an editor counts.
    std::string what;
};

/// Why a column got its measure.
struct ColumnEvidence {
    std::string reason;          ///< “1,149 whole numbers from 18 to 84; 31 blank”.
    std::string suggestion;      ///< A question worth asking, or empty.
    std::vector<Key> suspected;  ///< Codes that look like “no answer”.
    /// Of a column that is almost all numbers: the texts in the way, the most frequent first.
    std::vector<std::string> inTheWay = {};
};

struct Import {
    RAPPORTO_COMPILED_ONCE(Import);

    Table table;
    ReaderOptions used;             ///< Every option settled.
    std::vector<Problem> problems;  ///< The first kMaxProblems, by line.
    std::size_t problemCount = 0;
    std::vector<ColumnEvidence> evidence;  ///< One a column.
    std::vector<std::string> parts;        ///< Sheets or tables that the file holds.
    std::string sha256;  ///< Of the content, where there is no file to look at; else empty.
};

inline constexpr std::size_t kMaxProblems = 1000;

/// Reads RFC 4180 text: quoted cells may hold delimiters, quotes (doubled) and line ends; CR, LF
/// and CRLF end a record. Too short a row is filled with missing, too long a row keeps its first
/// cells; an empty header becomes `column_3`, a repeated one `name_2`; each is a problem by line.
/// Time linear in the bytes; memory the columns plus, unless UTF-8, one copy of the text.
///
/// @return the import, or File when `path` cannot be read, Syntax when there is no row or a quote
///         never closes, BadSetting for an encoding that is not one of the four, Stopped.
[[nodiscard]] Result<Import> readCsvFile(const std::string& path, const ReaderOptions& options,
                                         const Job& job);

/// The same for text at hand, such as the clipboard's.
[[nodiscard]] Result<Import> readCsvText(std::string_view bytes, const ReaderOptions& options,
                                         const Job& job);

/// The lines from `first` to `last` (from 1, as an editor counts) with `options`' repairs, decoded;
/// fewer at the end of the file.
[[nodiscard]] Result<std::vector<std::string>> linesOfFile(const std::string& path,
                                                           const ReaderOptions& options,
                                                           std::size_t first, std::size_t last);
[[nodiscard]] Result<std::vector<std::string>> linesOfText(std::string_view bytes,
                                                           const ReaderOptions& options,
                                                           std::size_t first, std::size_t last);

/// The table as UTF-8 CSV with CRLF-free line ends; missing cells are blank.
[[nodiscard]] Result<void> writeCsv(const Table& table, const std::string& path);

/// Days since 1970-01-01 of a date in one of the forms of the study format, or nothing.
/// `dayFirst` settles 01/02/2012.
[[nodiscard]] std::optional<double> parseDate(std::string_view text, bool dayFirst);

}  // namespace rapporto
