#include "core/io/server_table.h"

#include "core/base/format.h"
#include "core/base/hash.h"
#include "core/base/room.h"
#include "core/io/column_collector.h"
#include "core/io/csv_guess.h"
#include "core/io/table_file.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <cmath>
#include <cstring>
#include <map>

namespace rapporto {
namespace {

/// Days and microseconds of the protocol count from 2000-01-01.
constexpr double kDays2000 = 10957.0;
constexpr std::int64_t kDayMicros = 86400000000;
/// Rows between two looks at memory.
constexpr std::size_t kLookRows = 1U << 16U;

/// The kind of a type by its category and name in the engine's catalogue.
ServerKind kindOf(const std::string& category, const std::string& type) {
    if (type == "date") {
        return ServerKind::Date;
    }
    if (type == "timestamp" || type == "timestamptz") {
        return ServerKind::Moment;
    }
    if (category == "B") {
        return ServerKind::Truth;
    }
    if (type == "int8") {
        return ServerKind::Identifier;
    }
    const bool number = type == "int2" || type == "int4" || type == "float4" || type == "float8" ||
                        type == "numeric";
    return number ? ServerKind::Number : ServerKind::Text;
}

/// How a column is sent, so that five forms of cells arrive whatever the types were.
std::string sentAs(const ServerVariable& variable) {
    const std::string name = ServerConnection::quoted(variable.column);
    switch (variable.kind) {
        case ServerKind::Number:
            return "cast(" + name + " as double precision)";
        case ServerKind::Identifier:
            return "cast(" + name + " as bigint)";
        case ServerKind::Truth:
            return "cast(" + name + " as boolean)";
        case ServerKind::Date:
            return "cast(" + name + " as date)";
        case ServerKind::Moment:
            return "cast(" + name + " as timestamp)";
        case ServerKind::Text:
            break;
    }
    return "cast(" + name + " as text)";
}

/// “public.growers” in its parts; quotes hold dots.
std::string partsShown(const std::string& schema, const std::string& table) {
    return schema + "." + table;
}

constexpr const char* kTables =
    "select n.nspname, c.relname, c.oid, c.reltuples "
    "from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace "
    "where c.relkind in ('r', 'v', 'm', 'p', 'f') and not c.relispartition "
    "and n.nspname not in ('pg_catalog', 'information_schema') and n.nspname not like 'pg_toast%' "
    "and pg_catalog.has_schema_privilege(n.oid, 'usage') "
    "and pg_catalog.has_any_column_privilege(c.oid, 'select') "
    "order by n.nspname <> 'public', n.nspname, c.relname";

/// The leaves of a partitioned table, where some of them lie with other servers.
Result<void> findParts(const ServerConnection& connection, const std::string& id, ServerTable& into,
                       const Job& job) {
    const auto leaves = connection.ask(
        "with recursive tree (id) as (select cast($1 as oid) union all "
        "select i.inhrelid from pg_catalog.pg_inherits i join tree on i.inhparent = tree.id) "
        "select n.nspname, c.relname, c.relkind from tree "
        "join pg_catalog.pg_class c on c.oid = tree.id "
        "join pg_catalog.pg_namespace n on n.oid = c.relnamespace "
        "where c.relkind <> 'p' and c.oid <> cast($1 as oid) order by n.nspname, c.relname",
        {id}, job);
    if (!leaves) {
        return tl::make_unexpected(leaves.error());
    }
    const bool spread = std::any_of(leaves->rows.begin(), leaves->rows.end(),
                                    [](const auto& row) { return row[2] == "f"; });
    for (const auto& row : leaves->rows) {
        if (spread) {
            into.parts.push_back(ServerConnection::quoted(*row[0]) + "." +
                                 ServerConnection::quoted(*row[1]));
        }
    }
    return {};
}

/// The table that `wanted` names, or the only one.
Result<void> findTable(const ServerConnection& connection, const std::string& wanted,
                       ServerTable& into, const Job& job) {
    const auto list = connection.ask(kTables, {}, job);
    if (!list) {
        return tl::make_unexpected(list.error());
    }
    std::string id;
    const auto take = [&](const std::vector<std::optional<std::string>>& row) {
        into.from = ServerConnection::quoted(*row[0]) + "." + ServerConnection::quoted(*row[1]);
        into.shown = partsShown(*row[0], *row[1]);
        into.rowsAbout = std::max(std::atof(row[3].value_or("0").c_str()), 0.0);
        id = *row[2];
    };
    bool found = false;
    for (const auto& row : list->rows) {
        into.tables.push_back(partsShown(*row[0], *row[1]));
        // Without a schema the first one counts: those in public come first.
        const bool is = wanted.empty() || wanted == into.tables.back() || wanted == *row[1];
        if (is && !found) {
            found = true;
            take(row);
        }
    }
    if (!found && list->rows.empty()) {
        return refuse(ErrorCode::Syntax, "there is no table in it that may be read", "the database",
                      "Ask who keeps it for the right to read one.");
    }
    if (!found) {
        const std::vector<std::string> some(
            into.tables.begin(),
            into.tables.begin() +
                static_cast<std::ptrdiff_t>(std::min<std::size_t>(into.tables.size(), 12)));
        return refuse(
            ErrorCode::BadSetting, "there is no table ‘" + wanted + "’ that may be read",
            "the database",
            (some.size() < into.tables.size() ? "Some of the tables are: " : "The tables are: ") +
                joinedNames(some) + ".");
    }
    const auto keys = connection.ask(
        "select a.attname from pg_catalog.pg_index i cross join lateral "
        "unnest(i.indkey) with ordinality as k(place, rank) join pg_catalog.pg_attribute a "
        "on a.attrelid = i.indrelid and a.attnum = k.place "
        "where i.indisprimary and i.indrelid = cast($1 as oid) order by k.rank",
        {id}, job);
    if (!keys) {
        return tl::make_unexpected(keys.error());
    }
    for (const auto& row : keys->rows) {
        into.keys.push_back(*row[0]);
    }
    return findParts(connection, id, into, job);
}

struct TypeFacts {
    std::string category;
    std::string name;
    std::vector<std::string> levels;
};

/// What the catalogue says of the types that occur; a domain is what it is made of.
Result<std::map<unsigned, TypeFacts>> typesOf(const ServerConnection& connection,
                                              const std::vector<ServerColumn>& columns,
                                              const Job& job) {
    std::string list;
    for (const ServerColumn& column : columns) {
        list += (list.empty() ? "" : ", ") + std::to_string(column.type);
    }
    const auto found = connection.ask(
        "select t.oid, b.typcategory, b.typname, b.oid from pg_catalog.pg_type t "
        "join pg_catalog.pg_type b on b.oid = "
        "case when t.typtype = 'd' then t.typbasetype else t.oid end where t.oid in (" +
            list + ")",
        {}, job);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    std::map<unsigned, TypeFacts> out;
    for (const auto& row : found->rows) {
        TypeFacts& facts = out[static_cast<unsigned>(std::stoul(*row[0]))];
        facts.category = *row[1];
        facts.name = *row[2];
        if (facts.category != "E") {
            continue;
        }
        const auto levels = connection.ask(
            "select enumlabel from pg_catalog.pg_enum where enumtypid = cast($1 as oid) "
            "order by enumsortorder",
            {*row[3]}, job);
        if (!levels) {
            return tl::make_unexpected(levels.error());
        }
        for (const auto& level : levels->rows) {
            facts.levels.push_back(*level[0]);
        }
    }
    return out;
}

/// Takes the columns of a query, with comments of the tables they come from.
Result<void> describeColumns(const ServerConnection& connection, ServerTable& into, Import& import,
                             const Job& job) {
    const auto columns = connection.columnsOf("select * from " + into.from, job);
    if (!columns) {
        return tl::make_unexpected(columns.error());
    }
    if (columns->empty()) {
        return refuse(ErrorCode::Syntax, "there is no column in it", into.shown);
    }
    const auto types = typesOf(connection, *columns, job);
    if (!types) {
        return tl::make_unexpected(types.error());
    }
    std::vector<std::string> names;
    std::map<std::string, int> seen;
    std::string places;
    for (const ServerColumn& column : *columns) {
        names.push_back(column.name);
        if (++seen[column.name] == 2) {
            return refuse(ErrorCode::BadSetting, "two columns are named ‘" + column.name + "’",
                          "query", "Name one of them anew: … as other_name.");
        }
        if (column.table != 0) {
            places +=
                fmt::format("{}({}, {})", places.empty() ? "" : ", ", column.table, column.place);
        }
    }
    std::map<std::pair<unsigned, int>, std::string> comments;
    if (!places.empty()) {
        const auto found = connection.ask(
            "select objoid, objsubid, description from pg_catalog.pg_description "
            "where classoid = cast('pg_catalog.pg_class' as regclass) "
            "and (objoid, objsubid) in (" +
                places + ")",
            {}, job);
        if (!found) {
            return tl::make_unexpected(found.error());
        }
        for (const auto& row : found->rows) {
            comments[{static_cast<unsigned>(std::stoul(*row[0])), std::stoi(*row[1])}] = *row[2];
        }
    }
    names = repairedNames(names, 0, import);
    for (std::size_t c = 0; c < columns->size(); ++c) {
        const ServerColumn& column = (*columns)[c];
        const auto type = types->find(column.type);
        const TypeFacts facts = type == types->end() ? TypeFacts{} : type->second;
        ServerVariable variable{names[c],
                                column.name,
                                kindOf(facts.category, facts.name),
                                facts.name.starts_with("int"),
                                {},
                                facts.levels};
        if (const auto said = comments.find({column.table, column.place}); said != comments.end()) {
            variable.label = said->second;
        }
        into.variables.push_back(std::move(variable));
    }
    return {};
}

/// Bytes of the protocol, most significant first.
template <class T>
T bigEndian(const char* at) {
    T value = 0;
    for (std::size_t i = 0; i < sizeof(T); ++i) {
        value = static_cast<T>(static_cast<T>(value << 8U) | static_cast<unsigned char>(at[i]));
    }
    return value;
}

/// “2024-03-01 14:30:00” of microseconds since 2000-01-01.
std::string momentText(std::int64_t micros) {
    std::int64_t day = micros / kDayMicros;
    std::int64_t rest = micros % kDayMicros;
    if (rest < 0) {
        --day;
        rest += kDayMicros;
    }
    const std::int64_t seconds = rest / 1000000;
    std::string out =
        dateText(kDays2000 + static_cast<double>(day)) +
        fmt::format(" {:02}:{:02}:{:02}", seconds / 3600, seconds / 60 % 60, seconds % 60);
    if (const std::int64_t part = rest % 1000000; part != 0) {
        out += fmt::format(".{:06}", part);
    }
    return out;
}

/// The rows of a copy as they come, cell by cell into the collectors.
class RowTaker {
  public:
    RowTaker(const ServerTable& table, Import& import)
        : table_(table), import_(import), cells_(table.variables.size()) {}

    [[nodiscard]] std::size_t rows() const { return rows_; }

    [[nodiscard]] std::vector<ColumnCollector>& cells() { return cells_; }

    Result<void> take(std::string_view piece) {
        if (!begun_) {
            // Signature, flags, length of an extension.
            constexpr std::size_t kHead = 19;
            const bool right = piece.size() >= kHead &&
                               piece.substr(0, 11) == std::string_view("PGCOPY\n\377\r\n\0", 11);
            if (!right) {
                return bad();
            }
            begun_ = true;
            piece.remove_prefix(kHead);
        }
        if (piece.empty() || piece.substr(0, 2) == std::string_view("\377\377", 2)) {
            return {};
        }
        if (piece.size() < 2 || bigEndian<std::uint16_t>(piece.data()) != cells_.size()) {
            return bad();
        }
        piece.remove_prefix(2);
        ++rows_;
        for (std::size_t c = 0; c < cells_.size(); ++c) {
            if (piece.size() < 4) {
                return bad();
            }
            const auto size = static_cast<std::int32_t>(bigEndian<std::uint32_t>(piece.data()));
            piece.remove_prefix(4);
            if (size < 0) {
                cells_[c].addMissing();
                continue;
            }
            const auto length = static_cast<std::size_t>(size);
            if (piece.size() < length || !takeCell(c, piece.substr(0, length))) {
                return bad();
            }
            piece.remove_prefix(length);
        }
        // Memory alone bounds what a query brings.
        if (rows_ % kLookRows == 0) {
            const double so =
                static_cast<double>(rows_) * static_cast<double>(cells_.size()) * 20.0;
            return roomFor(so, "what the database has brought so far", table_.shown);
        }
        return {};
    }

  private:
    static tl::unexpected<Refusal> bad() {
        return refuse(ErrorCode::Syntax, "the database sent a row of another form than announced",
                      "the database", "Ask again; if it stays so, save the table as a file.");
    }

    bool takeCell(std::size_t c, std::string_view cell) {
        ColumnCollector& into = cells_[c];
        switch (table_.variables[c].kind) {
            case ServerKind::Number: {
                if (cell.size() != 8) {
                    return false;
                }
                const auto value = std::bit_cast<double>(bigEndian<std::uint64_t>(cell.data()));
                if (!std::isfinite(value)) {
                    note("‘" + table_.variables[c].name +
                         "’ holds a number without a value: "
                         "missing");
                }
                into.addNumber(value);
                return true;
            }
            case ServerKind::Identifier: {
                if (cell.size() != 8) {
                    return false;
                }
                const auto value = static_cast<std::int64_t>(bigEndian<std::uint64_t>(cell.data()));
                const std::string shown = std::to_string(value);
                isBeyondNumbers(shown) ? into.addText(shown)
                                       : into.addNumber(static_cast<double>(value));
                return true;
            }
            case ServerKind::Truth:
                into.addTruth(!cell.empty() && cell[0] != '\0');
                return cell.size() == 1;
            case ServerKind::Date: {
                if (cell.size() != 4) {
                    return false;
                }
                const auto days = static_cast<std::int32_t>(bigEndian<std::uint32_t>(cell.data()));
                const bool endless = days == std::numeric_limits<std::int32_t>::max() ||
                                     days == std::numeric_limits<std::int32_t>::min();
                endless ? into.addMissing() : into.addDate(kDays2000 + days);
                return true;
            }
            case ServerKind::Moment: {
                if (cell.size() != 8) {
                    return false;
                }
                const auto micros =
                    static_cast<std::int64_t>(bigEndian<std::uint64_t>(cell.data()));
                if (micros == std::numeric_limits<std::int64_t>::max() ||
                    micros == std::numeric_limits<std::int64_t>::min()) {
                    into.addMissing();
                } else if (micros % kDayMicros == 0) {
                    into.addDate(kDays2000 + static_cast<double>(micros / kDayMicros));
                } else {
                    into.addText(momentText(micros));
                }
                return true;
            }
            case ServerKind::Text:
                into.addText(cell);
                return true;
        }
        return false;
    }

    void note(const std::string& what) {
        ++import_.problemCount;
        if (import_.problems.size() < kMaxProblems) {
            import_.problems.push_back({rows_, what});
        }
    }

    const ServerTable& table_;
    Import& import_;
    std::vector<ColumnCollector> cells_;
    std::size_t rows_ = 0;
    bool begun_ = false;
};

}  // namespace

Result<ServerTable> describeServerTable(const ServerConnection& connection,
                                        const ReaderOptions& options, Import& import,
                                        const Job& job) {
    ServerTable out;
    if (options.query.empty()) {
        if (auto found = findTable(connection, options.table, out, job); !found) {
            return tl::make_unexpected(found.error());
        }
        import.used.table = out.shown;
        import.parts = out.tables;
    } else {
        std::string query = options.query;
        while (!query.empty() && (query.back() == ';' ||
                                  std::isspace(static_cast<unsigned char>(query.back())) != 0)) {
            query.pop_back();
        }
        // Looked at alone first: within brackets it could close them and go on behind.
        const auto alone = connection.columnsOf(query, job);
        if (!alone) {
            return tl::make_unexpected(alone.error());
        }
        if (alone->empty()) {
            return refuse(ErrorCode::BadSetting, "the query brings no rows", "query",
                          "Write a query that reads: select …");
        }
        out.from = "(\n" + query + "\n) as asked";
        out.shown = "the query";
    }
    if (auto done = describeColumns(connection, out, import, job); !done) {
        return tl::make_unexpected(done.error());
    }
    return out;
}

Result<void> takeServerRows(const ServerConnection& connection, const ServerTable& table,
                            const std::string& tail, Import& import, const Job& job) {
    // Without a key the order is that of the server's pages: one reader, from the first page on.
    for (const char* setting : {"set local synchronize_seqscans = off",
                                "set local max_parallel_workers_per_gather = 0"}) {
        if (auto done = connection.ask(setting, {}, job); !done) {
            return tl::make_unexpected(done.error());
        }
    }
    std::string query;
    Sha256 sum;
    for (const ServerVariable& variable : table.variables) {
        query += (query.empty() ? "copy (select " : ", ") + sentAs(variable);
        sum.add(variable.name + "\n" + sentAs(variable) + "\n");
    }
    query += " from " + table.from + " " + tail + ") to stdout (format binary)";
    RowTaker rows(table, import);
    const auto read = connection.copy(
        query,
        [&](std::string_view piece) {
            sum.add(piece);
            if (table.rowsAbout > 0.0 && rows.rows() % 1024 == 0) {
                job.report(std::min(static_cast<double>(rows.rows()) / table.rowsAbout, 0.99));
            }
            return rows.take(piece);
        },
        job);
    if (!read) {
        return read;
    }
    if (rows.rows() == 0) {
        return refuse(ErrorCode::Syntax, "there is no row in it", table.shown);
    }
    for (std::size_t c = 0; c < table.variables.size(); ++c) {
        const ServerVariable& from = table.variables[c];
        rows.cells()[c].finish(from.name, import.used, import);
        Variable& variable = import.table.variables.back();
        variable.label = from.label;
        if (!from.levels.empty()) {
            variable.measure = Measure::Groups;
            variable.levels.clear();
        }
        for (const std::string& level : from.levels) {
            variable.levels.push_back({level, {}});
        }
    }
    import.sha256 = sum.hex();
    return {};
}

namespace {

/// Reads the rows behind `tail`, which may hang on what the table is.
Result<Import> readServed(const ReaderOptions& options, const Job& job,
                          const std::function<std::string(const ServerTable&)>& tail) {
    const auto connection = ServerConnection::open(options.service, options.patience, job);
    if (!connection) {
        return tl::make_unexpected(connection.error());
    }
    Import import;
    import.used = options;
    const auto table = describeServerTable(*connection, options, import, job);
    if (!table) {
        return tl::make_unexpected(table.error());
    }
    if (auto done = takeServerRows(*connection, *table, tail(*table), import, job); !done) {
        return tl::make_unexpected(done.error());
    }
    return import;
}

}  // namespace

Result<Import> firstServerRows(const ReaderOptions& options, const Job& job) {
    return readServed(options, job.quiet(), [](const ServerTable& /*table*/) {
        return fmt::format("limit {}", kFirstRows);
    });
}

Result<Import> readPostgresql(const std::string& /*path*/, const ReaderOptions& options,
                              const Job& job) {
    return readServed(options, job, [](const ServerTable& table) {
        std::string order;
        for (const std::string& key : table.keys) {
            order += (order.empty() ? "order by " : ", ") + ServerConnection::quoted(key);
        }
        return order;
    });
}

}  // namespace rapporto
