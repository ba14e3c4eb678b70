#include "core/base/disk.h"
#include "core/base/format.h"
#include "core/base/room.h"
#include "core/io/column_collector.h"
#include "core/io/csv_guess.h"
#include "core/io/table_file.h"

#include <fmt/format.h>
#include <sqlite3.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <cstdio>
#include <cstring>
#include <memory>

namespace rapporto {
namespace {

struct CloseDatabase {
    void operator()(sqlite3* db) const { sqlite3_close(db); }
};

struct CloseStatement {
    void operator()(sqlite3_stmt* statement) const { sqlite3_finalize(statement); }
};

using Database = std::unique_ptr<sqlite3, CloseDatabase>;
using Statement = std::unique_ptr<sqlite3_stmt, CloseStatement>;

Result<Database> openDatabase(const std::string& path, int flags) {
    if ((flags & SQLITE_OPEN_CREATE) == 0) {
        // The library would wait on a pipe, and take anything for a database without tables.
        const auto file = openForReading(path);
        if (!file) {
            return tl::make_unexpected(file.error());
        }
        std::array<char, 16> head{};
        const ssize_t got = ::read(file->get(), head.data(), head.size());
        if (got > 0 && std::memcmp(head.data(), "SQLite format 3", head.size()) != 0) {
            return refuse(ErrorCode::Syntax, "this is no SQLite database", path,
                          "Choose another file, or read it as what it is.");
        }
    }
    sqlite3* raw = nullptr;
    const int code = sqlite3_open_v2(path.c_str(), &raw, flags, nullptr);
    Database db(raw);
    if (code != SQLITE_OK) {
        return refuse(ErrorCode::File, "the database cannot be opened", path,
                      "Check that it is there and may be read.");
    }
    return db;
}

Result<Statement> prepare(sqlite3* db, const std::string& sql) {
    sqlite3_stmt* raw = nullptr;
    const bool prepared = sqlite3_prepare_v2(db, sql.c_str(), -1, &raw, nullptr) == SQLITE_OK;
    if (prepared && raw == nullptr) {
        return refuse(ErrorCode::BadSetting, "the query says nothing", "query",
                      "Write a query that reads: select …");
    }
    if (!prepared) {
        const int at = sqlite3_error_offset(db);
        return refuse(ErrorCode::BadSetting,
                      std::string("the database says: ") + sqlite3_errmsg(db),
                      at >= 0 ? "position " + std::to_string(at + 1) : "query");
    }
    return Statement(raw);
}

std::string quoted(const std::string& name) {
    std::string out = "\"";
    for (const char c : name) {
        out += c == '"' ? "\"\"" : std::string(1, c);
    }
    return out + "\"";
}

std::string textAt(sqlite3_stmt* statement, int column) {
    const auto* bytes = reinterpret_cast<const char*>(sqlite3_column_text(statement, column));
    return bytes == nullptr
               ? std::string()
               : std::string(bytes,
                             static_cast<std::size_t>(sqlite3_column_bytes(statement, column)));
}

std::vector<std::string> tableNames(sqlite3* db) {
    std::vector<std::string> names;
    const auto list = prepare(db,
                              "select name from sqlite_master where type in ('table', 'view') and "
                              "name not like 'sqlite_%' order by rowid");
    while (list && sqlite3_step(list->get()) == SQLITE_ROW) {
        names.push_back(textAt(list->get(), 0));
    }
    return names;
}

Result<void> run(sqlite3* db, const std::string& sql) {
    if (sqlite3_exec(db, sql.c_str(), nullptr, nullptr, nullptr) != SQLITE_OK) {
        return refuse(ErrorCode::File, std::string("the database says: ") + sqlite3_errmsg(db));
    }
    return {};
}

void readCell(sqlite3_stmt* statement, int column, std::size_t row, ColumnCollector& into,
              Import& import) {
    switch (sqlite3_column_type(statement, column)) {
        case SQLITE_INTEGER:
        case SQLITE_FLOAT:
            // An identifier too long for a number would become another.
            if (sqlite3_column_type(statement, column) == SQLITE_INTEGER &&
                isBeyondNumbers(std::to_string(sqlite3_column_int64(statement, column)))) {
                into.addText(std::to_string(sqlite3_column_int64(statement, column)));
            } else {
                into.addNumber(sqlite3_column_double(statement, column));
            }
            break;
        case SQLITE_TEXT:
            into.addText(textAt(statement, column));
            break;
        case SQLITE_BLOB:
            into.addMissing();
            ++import.problemCount;
            if (import.problems.size() < kMaxProblems) {
                import.problems.push_back({row, std::string("‘") +
                                                    sqlite3_column_name(statement, column) +
                                                    "’ holds bytes, not a value: missing"});
            }
            break;
        default:
            into.addMissing();
    }
}

/// Asked by the database as it works: whether to go on.
struct Watch {
    Job job;
    std::chrono::steady_clock::time_point since;
    double patience = 0.0;  ///< Seconds; 0: without end.

    static int look(void* self) {
        const auto* watch = static_cast<const Watch*>(self);
        const std::chrono::duration<double> passed =
            std::chrono::steady_clock::now() - watch->since;
        const bool late = watch->patience > 0.0 && passed.count() > watch->patience;
        return watch->job.stopped() || late ? 1 : 0;
    }
};

/// A query is one statement: what stands behind it would be dropped in silence.
Result<void> isOnly(sqlite3* db, const std::string& query) {
    sqlite3_stmt* raw = nullptr;
    const char* rest = nullptr;
    if (sqlite3_prepare_v2(db, query.c_str(), -1, &raw, &rest) == SQLITE_OK) {
        const Statement first(raw);
        while (rest != nullptr && *rest != '\0') {
            const int code = sqlite3_prepare_v2(db, rest, -1, &raw, &rest);
            const Statement next(raw);
            if (code != SQLITE_OK || raw != nullptr) {
                return refuse(ErrorCode::BadSetting, "there is more than one statement", "query",
                              "Write one query that reads: select …");
            }
        }
    }
    return {};
}

/// The rows of a table of texts.
std::vector<std::vector<std::string>> textRows(sqlite3* db, const std::string& table) {
    std::vector<std::vector<std::string>> rows;
    const auto statement = prepare(db, "select * from " + quoted(table));
    if (!statement) {
        return rows;
    }
    const int columns = sqlite3_column_count(statement->get());
    rows.emplace_back();
    for (int c = 0; c < columns; ++c) {
        rows.back().emplace_back(sqlite3_column_name(statement->get(), c));
    }
    while (sqlite3_step(statement->get()) == SQLITE_ROW) {
        rows.emplace_back();
        for (int c = 0; c < columns; ++c) {
            rows.back().push_back(textAt(statement->get(), c));
        }
    }
    return rows;
}

}  // namespace

Result<Import> readSqlite(const std::string& path, const ReaderOptions& options, const Job& job) {
    const auto db = openDatabase(path, SQLITE_OPEN_READONLY);
    if (!db) {
        return tl::make_unexpected(db.error());
    }
    Watch watch{job, std::chrono::steady_clock::now(), options.patience};
    sqlite3_progress_handler(db->get(), 20000, &Watch::look, &watch);
    sqlite3_limit(db->get(), SQLITE_LIMIT_EXPR_DEPTH, 200);
    Import import;
    import.used = options;
    import.parts = tableNames(db->get());
    std::erase(import.parts, "codebook");
    std::string query = options.query;
    if (query.empty()) {
        if (import.parts.empty()) {
            return refuse(ErrorCode::Syntax, "there is no table in it", path);
        }
        const std::string table = options.table.empty() ? import.parts.front() : options.table;
        if (std::find(import.parts.begin(), import.parts.end(), table) == import.parts.end()) {
            return refuse(ErrorCode::BadSetting, "there is no table ‘" + table + "’", path,
                          "The tables are: " + joinedNames(import.parts) + ".");
        }
        import.used.table = table;
        query = "select * from " + quoted(table);
    }
    const auto statement = prepare(db->get(), query);
    if (!statement) {
        return tl::make_unexpected(statement.error());
    }
    if (auto single = isOnly(db->get(), query); !single) {
        return tl::make_unexpected(single.error());
    }
    if (sqlite3_stmt_readonly(statement->get()) == 0) {
        return refuse(ErrorCode::BadSetting, "this would change the database", "query",
                      "Write a query that reads: select …");
    }
    if (sqlite3_bind_parameter_count(statement->get()) > 0) {
        return refuse(ErrorCode::BadSetting, "the query leaves values open (‘?’)", "query",
                      "Write the values into it.");
    }
    const int columns = sqlite3_column_count(statement->get());
    std::vector<std::string> names;
    for (int c = 0; c < columns; ++c) {
        names.emplace_back(sqlite3_column_name(statement->get(), c));
    }
    names = repairedNames(names, 0, import);
    std::vector<ColumnCollector> cells(names.size());
    std::size_t rows = 0;
    int code = SQLITE_DONE;
    while ((code = sqlite3_step(statement->get())) == SQLITE_ROW) {
        ++rows;
        for (int c = 0; c < columns; ++c) {
            readCell(statement->get(), c, rows, cells[static_cast<std::size_t>(c)], import);
        }
        if ((rows & 4095U) == 0 && job.stopped()) {
            return refuse(ErrorCode::Stopped, "reading was stopped");
        }
        // A query may have more rows than its file has bytes: memory alone bounds it.
        if ((rows & 0xFFFFU) == 0) {
            const double so = static_cast<double>(rows) * static_cast<double>(columns) * 20.0;
            if (auto room = roomFor(so, "what the query has brought so far", path); !room) {
                return tl::make_unexpected(room.error());
            }
        }
    }
    if (code == SQLITE_INTERRUPT && job.stopped()) {
        return refuse(ErrorCode::Stopped, "reading was stopped");
    }
    if (code == SQLITE_INTERRUPT) {
        return refuse(
            ErrorCode::TooLarge,
            fmt::format("the database had not answered after {:.0f} seconds", options.patience),
            path,
            "Make the query end sooner, or set ‘patience’ to more seconds (0: without "
            "end).");
    }
    if (code != SQLITE_DONE) {
        return refuse(ErrorCode::File,
                      std::string("the database says: ") + sqlite3_errmsg(db->get()), path);
    }
    if (rows == 0) {
        return refuse(ErrorCode::Syntax, "there is no row in it", path);
    }
    for (std::size_t j = 0; j < names.size(); ++j) {
        cells[j].finish(names[j], options, import);
    }
    applyCodebook(textRows(db->get(), "codebook"), import.table);
    return import;
}

Result<void> writeSqlite(const Table& table, const std::string& path) {
    // A fresh file beside it, so that a failure leaves the old one whole.
    const std::string fresh = nameBeside(path);
    (void)std::remove(fresh.c_str());
    {
        const auto db = openDatabase(fresh, SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE);
        if (!db) {
            return tl::make_unexpected(db.error());
        }
        const auto store = [&](const std::string& name, const std::vector<std::string>& columns,
                               std::size_t rows, const auto& bind) -> Result<void> {
            std::string create = "create table " + quoted(name) + " (";
            std::string insert = "insert into " + quoted(name) + " values (";
            for (std::size_t j = 0; j < columns.size(); ++j) {
                create += (j > 0 ? ", " : "") + columns[j];
                insert += j > 0 ? ", ?" : "?";
            }
            if (auto done = run(db->get(), create + ")"); !done) {
                return done;
            }
            const auto statement = prepare(db->get(), insert + ")");
            if (!statement) {
                return tl::make_unexpected(statement.error());
            }
            for (std::size_t i = 0; i < rows; ++i) {
                for (std::size_t j = 0; j < columns.size(); ++j) {
                    bind(statement->get(), static_cast<int>(j) + 1, i, j);
                }
                if (sqlite3_step(statement->get()) != SQLITE_DONE) {
                    return refuse(ErrorCode::File,
                                  std::string("the database says: ") + sqlite3_errmsg(db->get()),
                                  path);
                }
                sqlite3_reset(statement->get());
            }
            return {};
        };
        std::vector<std::string> columns;
        for (const Column& column : table.columns) {
            columns.push_back(quoted(column.name()) + (column.isText() ? " text" : " real"));
        }
        const auto bindText = [](sqlite3_stmt* s, int at, const std::string& text) {
            sqlite3_bind_text(s, at, text.data(), static_cast<int>(text.size()), SQLITE_TRANSIENT);
        };
        auto done = run(db->get(), "begin");
        done =
            done ? store("data", columns, table.rows(),
                         [&](sqlite3_stmt* s, int at, std::size_t row, std::size_t j) {
                             const Column& column = table.columns[j];
                             if (column.isMissing(row)) {
                                 sqlite3_bind_null(s, at);
                             } else if (column.isText() ||
                                        table.variables[j].measure == Measure::Date) {
                                 bindText(s, at,
                                          column.isText() ? column.texts()[static_cast<std::size_t>(
                                                                column.codes()[row])]
                                                          : dateText(column.numbers()[row]));
                             } else {
                                 sqlite3_bind_double(s, at, column.numbers()[row]);
                             }
                         })
                 : done;
        const auto book = codebookRows(table);
        std::vector<std::string> head;
        for (const std::string& name : book.front()) {
            head.push_back(quoted(name) + " text");
        }
        done = done ? store("codebook", head, book.size() - 1,
                            [&](sqlite3_stmt* s, int at, std::size_t row, std::size_t j) {
                                bindText(s, at, book[row + 1][j]);
                            })
                    : done;
        done = done ? run(db->get(), "commit") : done;
        if (!done) {
            (void)std::remove(fresh.c_str());
            return done;
        }
    }
    return putInPlace(fresh, path);
}

}  // namespace rapporto
