#include "core/io/table_file.h"

#include "core/base/hash.h"
#include "core/io/column_store.h"

#include <algorithm>
#include <filesystem>

namespace rapporto {

const std::vector<TableFormat>& tableFormats() {
    static const std::vector<TableFormat> kFormats = {
        {"csv",
         {".csv", ".tsv", ".txt", ".tab"},
         &readCsvFile,
         &writeCsv,
         "Delimited text",
         nullptr},
        {"data-package",
         {".datapackage.json", "datapackage.json"},
         &readDataPackage,
         &writeDataPackage,
         "Tabular data package (CSV with its codebook)",
         &filesOfDataPackage},
        {"ddi", {".xml"}, &readDdi, &writeDdi, "DDI Codebook 2.5 beside a CSV", &filesOfDdi},
        {"xlsx", {".xlsx"}, &readXlsx, &writeXlsx, "Office Open XML spreadsheet", nullptr},
        {"ods", {".ods"}, &readOds, nullptr, "OpenDocument spreadsheet", nullptr},
        {"sqlite",
         {".sqlite", ".sqlite3", ".db"},
         &readSqlite,
         &writeSqlite,
         "SQLite database",
         nullptr,
         false,
         true},  // What was written last may stand in a file beside it.
        {"json", {".json"}, &readJsonRecords, nullptr, "JSON records", nullptr},
        {"postgresql",
         {},
         &readPostgresql,
         nullptr,
         "PostgreSQL server",
         [](const std::string&, const ReaderOptions&) { return std::vector<std::string>(); },
         true},
    };
    return kFormats;
}

const TableFormat* formatOf(const std::string& path, const std::string& type) {
    std::string name = std::filesystem::path(path).filename().string();
    std::transform(name.begin(), name.end(), name.begin(),
                   [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
    for (const TableFormat& format : tableFormats()) {
        const bool ends =
            std::any_of(format.endings.begin(), format.endings.end(),
                        [&](const std::string& ending) { return name.ends_with(ending); });
        if (type.empty() ? ends : type == format.type) {
            return &format;
        }
    }
    return type.empty() ? &tableFormats().front() : nullptr;
}

bool isServed(const ReaderOptions& options) {
    const TableFormat* format = options.type.empty() ? nullptr : formatOf({}, options.type);
    return format != nullptr && format->served;
}

std::string tableTypes() {
    std::string all;
    for (std::size_t k = 0; k < tableFormats().size(); ++k) {
        all += (k == 0 ? "" : k + 1 < tableFormats().size() ? ", " : " and ");
        all += tableFormats()[k].type;
    }
    return all;
}

std::vector<std::string> filesOfTable(const std::string& path, const ReaderOptions& options) {
    const TableFormat* format = formatOf(path, options.type);
    return format == nullptr || format->files == nullptr ? std::vector<std::string>{path}
                                                         : format->files(path, options);
}

namespace {

Result<std::string> sumOf(const std::vector<std::string>& files, const Job& job) {
    if (files.size() == 1) {
        return sha256OfFile(files.front(), job);
    }
    std::string sums;
    for (const std::string& file : files) {
        const auto sum = sha256OfFile(file, job);
        if (!sum) {
            return sum;
        }
        sums += *sum + "\n";
    }
    return sha256OfText(sums);
}

}  // namespace

Result<std::string> sha256OfTable(const std::string& path, const ReaderOptions& options,
                                  const Job& job) {
    const std::vector<std::string> files = filesOfTable(path, options);
    return column_store::checksumOf(files, [&] { return sumOf(files, job); });
}

Result<Import> readTableFile(const std::string& path, const ReaderOptions& options,
                             const Job& job) {
    const TableFormat* format = formatOf(path, options.type);
    if (format == nullptr) {
        return refuse(ErrorCode::BadSetting, "a reader of type ‘" + options.type + "’ is not known",
                      "source.reader", "Types are " + tableTypes() + ".");
    }
    if (options.left && !format->served) {
        // It is read alike: where its rows are looked at is no option of reading.
        ReaderOptions plain = options;
        plain.left = false;
        auto import = readTableFile(path, plain, job);
        if (import) {
            import->used.left = true;
        }
        return import;
    }
    const bool keeps = !format->served && !format->elsewhere;
    const auto files = keeps ? filesOfTable(path, options) : std::vector<std::string>();
    if (auto kept = keeps ? column_store::find(files, options) : std::nullopt) {
        return *std::move(kept);
    }
    const std::string stamp = keeps ? column_store::stampOf(files) : std::string();
    auto import = format->read(path, options, job);
    if (!import) {
        return import;
    }
    import->used.type = format->type;
    if (!stamp.empty() && column_store::keep(*import, files, options, stamp, job.quiet())) {
        // Mapped from now on: what was read is given back.
        if (auto kept = column_store::find(files, options)) {
            return *std::move(kept);
        }
    }
    return import;
}

Result<void> writeTableFile(const Table& table, const std::string& path) {
    const TableFormat* format = formatOf(path, {});
    if (format->write == nullptr) {
        return refuse(ErrorCode::BadSetting,
                      std::string("tables are not written as ") + format->title, path,
                      "Choose CSV, a data package, DDI, XLSX or SQLite.");
    }
    return format->write(table, path);
}

}  // namespace rapporto
