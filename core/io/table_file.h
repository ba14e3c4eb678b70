#pragma once

#include "core/io/csv.h"

namespace rapporto {

/// One kind of file that holds tables.
struct TableFormat {
    const char* type;                  ///< As `reader.type` in the study file.
    std::vector<std::string> endings;  ///< Of file names, lower case, with the dot.
    Result<Import> (*read)(const std::string& path, const ReaderOptions& options, const Job& job);
    Result<void> (*write)(const Table& table, const std::string& path);  ///< Null: not written.
    const char* title;
    /// The files it consists of, that one first; null: that one alone.
    std::vector<std::string> (*files)(const std::string& path, const ReaderOptions& options);
    bool served = false;  ///< No file: a server has it.
    /// What is read hangs on more than these files: it is not kept as columns.
    bool elsewhere = false;
};

/// All kinds; the only place to add one.
[[nodiscard]] const std::vector<TableFormat>& tableFormats();

/// The kind that `options.type` names, else the one that the file's ending tells, else CSV.
[[nodiscard]] const TableFormat* formatOf(const std::string& path, const std::string& type);

/// The table lies with a server: there is no file to look at, to copy or to sum up.
[[nodiscard]] bool isServed(const ReaderOptions& options);

/// The types in words: “csv, data-package, … and json”.
[[nodiscard]] std::string tableTypes();

/// The files that a table stands in: one, or a description and what it describes.
[[nodiscard]] std::vector<std::string> filesOfTable(const std::string& path,
                                                    const ReaderOptions& options);

/// SHA-256 of a table's file as 64 hexadecimal digits; of several files, of their sums one a line.
[[nodiscard]] Result<std::string> sha256OfTable(const std::string& path,
                                                const ReaderOptions& options, const Job& job = {});

/// Reads a table of any kind.
///
/// @return the import, or File, Syntax, Stopped; BadSetting for a sheet, block, table or query
///         that is not there, and for an unknown type.
[[nodiscard]] Result<Import> readTableFile(const std::string& path, const ReaderOptions& options,
                                           const Job& job);

/// Writes the columns with what is known of them, by the ending of `path`; a second sheet, table
/// or file holds the codebook. Cells that are missing stay empty.
[[nodiscard]] Result<void> writeTableFile(const Table& table, const std::string& path);

// The kinds, each in a file of its own.
[[nodiscard]] Result<Import> readSqlite(const std::string& path, const ReaderOptions& options,
                                        const Job& job);
[[nodiscard]] Result<void> writeSqlite(const Table& table, const std::string& path);
[[nodiscard]] Result<Import> readPostgresql(const std::string& path, const ReaderOptions& options,
                                            const Job& job);
[[nodiscard]] Result<Import> readJsonRecords(const std::string& path, const ReaderOptions& options,
                                             const Job& job);
[[nodiscard]] Result<Import> readXlsx(const std::string& path, const ReaderOptions& options,
                                      const Job& job);
[[nodiscard]] Result<Import> readOds(const std::string& path, const ReaderOptions& options,
                                     const Job& job);
[[nodiscard]] Result<void> writeXlsx(const Table& table, const std::string& path);
[[nodiscard]] Result<Import> readDataPackage(const std::string& path, const ReaderOptions& options,
                                             const Job& job);
[[nodiscard]] Result<void> writeDataPackage(const Table& table, const std::string& path);
[[nodiscard]] std::vector<std::string> filesOfDataPackage(const std::string& path,
                                                          const ReaderOptions& options);
[[nodiscard]] Result<Import> readDdi(const std::string& path, const ReaderOptions& options,
                                     const Job& job);
[[nodiscard]] Result<void> writeDdi(const Table& table, const std::string& path);
[[nodiscard]] std::vector<std::string> filesOfDdi(const std::string& path,
                                                  const ReaderOptions& options);

/// The codebook as rows of texts, header first: for a second sheet or table.
[[nodiscard]] std::vector<std::vector<std::string>> codebookRows(const Table& table);

/// Takes over what such rows say about the variables; unknown names and words are left alone.
void applyCodebook(const std::vector<std::vector<std::string>>& rows, Table& table);

}  // namespace rapporto
