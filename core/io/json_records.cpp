#include "core/io/column_collector.h"
#include "core/io/csv_guess.h"
#include "core/io/mapped_file.h"
#include "core/io/table_file.h"

#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include <fstream>
#include <map>
#include <sstream>

namespace rapporto {
namespace {

using Json = nlohmann::ordered_json;

/// The list of records: the whole, or the only list in an object, or one record a line.
Result<Json> recordsIn(const std::string& text, const std::string& path) {
    Json json = Json::parse(text, nullptr, false);
    if (json.is_discarded()) {
        Json lines = Json::array();
        std::istringstream in(text);
        std::string line;
        for (std::size_t number = 1; std::getline(in, line); ++number) {
            if (line.find_first_not_of(" \t\r") == std::string::npos) {
                continue;
            }
            Json one = Json::parse(line, nullptr, false);
            if (one.is_discarded()) {
                return refuse(ErrorCode::Syntax, "this is not JSON",
                              fmt::format("{}, line {}", path, number),
                              "A list of records is expected, or one record a line.");
            }
            lines.push_back(std::move(one));
        }
        return lines;
    }
    if (json.is_object()) {
        for (const auto& [key, value] : json.items()) {
            if (value.is_array() && !value.empty() && value.front().is_object()) {
                return Json(value);
            }
        }
    }
    if (!json.is_array()) {
        return refuse(ErrorCode::Syntax, "there is no list of records in it", path);
    }
    return json;
}

}  // namespace

Result<Import> readJsonRecords(const std::string& path, const ReaderOptions& options,
                               const Job& job) {
    const auto file = MappedFile::open(path);
    if (!file) {
        return tl::make_unexpected(file.error());
    }
    const auto records = recordsIn(std::string(file->bytes()), path);
    if (!records) {
        return tl::make_unexpected(records.error());
    }
    Import import;
    import.used = options;
    std::vector<std::string> names;
    std::vector<ColumnCollector> cells;
    std::map<std::string, std::size_t> place;
    std::size_t rows = 0;
    const auto problem = [&](std::size_t row, std::string what) {
        ++import.problemCount;
        if (import.problems.size() < kMaxProblems) {
            import.problems.push_back({row, std::move(what)});
        }
    };
    for (const Json& record : *records) {
        ++rows;
        if (!record.is_object()) {
            problem(rows, "this entry is no record: an empty row");
        }
        const Json none = Json::object();
        const Json& members = record.is_object() ? record : none;
        for (const auto& [key, value] : members.items()) {
            const auto [at, fresh] = place.emplace(key, cells.size());
            if (fresh) {
                names.push_back(key);
                cells.emplace_back();
            }
            ColumnCollector& column = cells[at->second];
            while (column.size() < rows - 1) {
                column.addMissing();
            }
            if (value.is_number()) {
                value.is_number_integer() && isBeyondNumbers(value.dump())
                    ? column.addText(value.dump())
                    : column.addNumber(value.get<double>());
            } else if (value.is_boolean()) {
                column.addTruth(value.get<bool>());
            } else if (value.is_string()) {
                column.addText(value.get<std::string>());
            } else if (value.is_null()) {
                column.addMissing();
            } else {
                problem(rows, "‘" + key + "’ holds a list or a record: kept as its text");
                column.addText(value.dump());
            }
        }
        for (ColumnCollector& column : cells) {
            while (column.size() < rows) {
                column.addMissing();
            }
        }
        if ((rows & 1023U) == 0 && job.stopped()) {
            return refuse(ErrorCode::Stopped, "reading was stopped");
        }
    }
    if (rows == 0 || cells.empty()) {
        return refuse(ErrorCode::Syntax, "there is no record in it", path);
    }
    const std::size_t found = import.problemCount;
    const std::vector<Problem> kept = import.problems;
    import.problems.clear();
    names = repairedNames(names, 0, import);
    import.problemCount += found;
    import.problems.insert(import.problems.end(), kept.begin(), kept.end());
    for (std::size_t j = 0; j < names.size(); ++j) {
        cells[j].finish(names[j], options, import);
    }
    return import;
}

}  // namespace rapporto
