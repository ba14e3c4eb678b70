#include "core/left/left_table.h"

#include "core/left/column_engine.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>

namespace rapporto {
namespace {

/// Columns of one look: an engine's answer has some 1,600 cells.
constexpr std::size_t kAtOnce = 200;

bool isNumeric(ServerKind kind) {
    return kind == ServerKind::Number || kind == ServerKind::Identifier;
}

std::string numberOf(const ServerVariable& variable) {
    return "cast(" + ServerConnection::quoted(variable.column) + " as double precision)";
}

/// The name of a table on the disk in statements.
const std::string kColumnTable = "the_table";

class ServerEngine : public LeftEngine {
  public:
    explicit ServerEngine(ServerConnection connection) : connection_(std::move(connection)) {}

    Result<ServerRows> ask(const std::string& sql, const Job& job) override {
        return connection_.ask(sql, {}, job);
    }

  private:
    ServerConnection connection_;
};

double numberIn(const std::optional<std::string>& cell) {
    return cell ? std::strtod(cell->c_str(), nullptr) : std::nan("");
}

}  // namespace

Result<std::shared_ptr<const LeftTable>> LeftTable::open(const ReaderOptions& options,
                                                         const Job& job) {
    auto out = std::make_shared<LeftTable>();
    out->options_ = options;
    const auto connection = out->connection(job);
    if (!connection) {
        return tl::make_unexpected(connection.error());
    }
    Import import;
    import.used = options;
    auto table = describeServerTable(*connection, options, import, job);
    if (!table) {
        return tl::make_unexpected(table.error());
    }
    out->table_ = *std::move(table);
    out->options_.table = import.used.table;
    for (const ServerVariable& one : out->table_.variables) {
        if (one.kind == ServerKind::Text) {
            import.used.asText.push_back(one.name);
        }
    }
    if (auto done = takeServerRows(*connection, out->table_, fmt::format("limit {}", kFirstRows),
                                   import, job.quiet());
        !done) {
        return tl::make_unexpected(done.error());
    }
    out->first_ = std::move(import.table);
    // Anew: rows in their order keep a server from working on several at once.
    const auto own = out->connection(job);
    if (!own) {
        return tl::make_unexpected(own.error());
    }
    if (auto done = out->look(*own, job); !done) {
        return tl::make_unexpected(done.error());
    }
    return std::shared_ptr<const LeftTable>(std::move(out));
}

Result<void> LeftTable::look(const ServerConnection& connection, const Job& job) {
    const auto& variables = table_.variables;
    for (std::size_t from = 0; from < variables.size(); from += kAtOnce) {
        const std::size_t to = std::min(from + kAtOnce, variables.size());
        std::string query = "select count(*)";
        for (std::size_t c = from; c < to; ++c) {
            const std::string x = numberOf(variables[c]);
            const bool real = variables[c].kind == ServerKind::Number && !variables[c].whole;
            // A sum tells whether some cell has no value as a number.
            query += real ? ", sum(" + x + ")" : ", null";
            // The first rows may show 0 and 1 alone where others hold more.
            query += isNumeric(variables[c].kind) && first_.variables[c].measure == Measure::YesNo
                         ? ", min(" + x + "), max(" + x + ")"
                         : ", null, null";
        }
        const auto found = connection.ask(query + " from " + table_.from, {}, job);
        if (!found) {
            return tl::make_unexpected(found.error());
        }
        const auto& row = found->rows.front();
        rows_ = numberIn(row[0]);
        for (std::size_t c = from; c < to; ++c) {
            const std::size_t at = 1 + 3 * (c - from);
            if (row[at] && !std::isfinite(numberIn(row[at]))) {
                endless_.insert(variables[c].name);
            }
            const bool more = numberIn(row[at + 1]) < 0.0 || numberIn(row[at + 2]) > 1.0;
            if (more) {
                first_.variables[c].measure =
                    variables[c].whole ? Measure::Count : Measure::Quantity;
            }
        }
        job.report(static_cast<double>(to) / static_cast<double>(variables.size()));
    }
    return {};
}

Result<void> LeftTable::describe(const Job& job) const {
    if (facts()) {
        return {};
    }
    const auto engine = connect(job);
    if (!engine) {
        return tl::make_unexpected(engine.error());
    }
    auto out = std::make_shared<LeftFactsByName>();
    const auto& variables = table_.variables;
    for (std::size_t from = 0; from < variables.size(); from += kAtOnce) {
        const std::size_t to = std::min(from + kAtOnce, variables.size());
        std::string query = "select count(*)";
        for (std::size_t c = from; c < to; ++c) {
            const std::string x = isNumeric(variables[c].kind) ? cellSql(variables[c].name) : "";
            query += ", count(" + ServerConnection::quoted(variables[c].column) + ")";
            query += x.empty() ? ", null, null, null, null"
                               : fmt::format(", avg({0}), stddev_samp({0}), min({0}), max({0})", x);
        }
        const auto found = (*engine)->ask(query + " from " + table_.from, job);
        if (!found) {
            return tl::make_unexpected(found.error());
        }
        const auto& row = found->rows.front();
        for (std::size_t c = from; c < to; ++c) {
            const std::size_t at = 1 + 5 * (c - from);
            (*out)[variables[c].name] = {numberIn(row[at]), numberIn(row[at + 1]),
                                         numberIn(row[at + 2]), numberIn(row[at + 3]),
                                         numberIn(row[at + 4])};
        }
    }
    const std::lock_guard lock(mutex_);
    facts_ = std::move(out);
    return {};
}

std::shared_ptr<const LeftFactsByName> LeftTable::facts() const {
    const std::lock_guard lock(mutex_);
    return facts_;
}

const ServerVariable* LeftTable::variable(const std::string& name) const {
    const auto at = std::find_if(table_.variables.begin(), table_.variables.end(),
                                 [&](const ServerVariable& one) { return one.name == name; });
    return at == table_.variables.end() ? nullptr : &*at;
}

std::shared_ptr<const DrawnPicture> LeftTable::pictureOf(const std::string& name) const {
    const std::scoped_lock lock(mutex_);
    const auto at = pictures_.find(name);
    return at == pictures_.end() ? nullptr : at->second;
}

void LeftTable::keepPicture(const std::string& name,
                            std::shared_ptr<const DrawnPicture> picture) const {
    constexpr std::size_t kMost = 200;  // A desk and a long report; more are asked for anew.
    const std::scoped_lock lock(mutex_);
    if (pictures_.size() >= kMost) {
        pictures_.clear();
    }
    pictures_[name] = std::move(picture);
}

Result<std::shared_ptr<const LeftTable>> LeftTable::ofColumns(std::shared_ptr<const Table> columns,
                                                              const ReaderOptions& options,
                                                              const std::string& shown) {
    if (columns->rows() == 0) {
        return refuse(ErrorCode::Syntax, "there is no row in it", shown);
    }
    auto out = std::make_shared<LeftTable>();
    out->options_ = options;
    out->rows_ = static_cast<double>(columns->rows());
    out->table_.from = kColumnTable;
    out->table_.shown = shown;
    const std::size_t first = std::min<std::size_t>(columns->rows(), kFirstRows);
    for (std::size_t c = 0; c < columns->columns.size(); ++c) {
        const Column& column = columns->columns[c];
        const Variable& variable = columns->variables[c];
        ServerVariable one;
        one.name = one.column = column.name();
        one.kind = column.isText() ? ServerKind::Text : ServerKind::Number;
        one.label = variable.label;
        out->table_.variables.push_back(std::move(one));
        out->first_.variables.push_back(variable);
        if (column.isText()) {
            const auto codes = column.codes().first(first);
            out->first_.columns.push_back(Column::ofTexts(
                column.name(), std::vector<std::int32_t>(codes.begin(), codes.end()),
                column.texts()));
        } else {
            const auto cells = column.numbers().first(first);
            out->first_.columns.push_back(
                Column::ofNumbers(column.name(), std::vector<double>(cells.begin(), cells.end())));
        }
    }
    out->columns_ = std::move(columns);
    return std::shared_ptr<const LeftTable>(std::move(out));
}

const LeftWords& LeftTable::words() const {
    static const LeftWords kServer{"stay with the database", "a database", "the database",
                                   "fetch the rows",
                                   "Let the database work it out in a view, or fetch the rows."};
    static const LeftWords kDisk{
        "stay on the disk", "a table on the disk", "the table on the disk", "have the rows read",
        "Have the rows read (“rows” is “fetched” in the source), or put it into the file."};
    return isOnDisk() ? kDisk : kServer;
}

Result<std::shared_ptr<LeftEngine>> LeftTable::connect(const Job& job) const {
    if (isOnDisk()) {
        return std::shared_ptr<LeftEngine>(std::make_shared<ColumnEngine>(kColumnTable, columns_));
    }
    auto own = connection(job);
    if (!own) {
        return tl::make_unexpected(own.error());
    }
    return std::shared_ptr<LeftEngine>(std::make_shared<ServerEngine>(*std::move(own)));
}

Result<ServerConnection> LeftTable::connection(const Job& job) const {
    // Sums over many rows may take their time, unless somebody set how long.
    const double patience = options_.patience == ReaderOptions().patience ? 0.0 : options_.patience;
    return ServerConnection::open(options_.service, patience, job);
}

std::string LeftTable::cellSql(const std::string& name) const {
    const ServerVariable& of = *variable(name);
    const std::string column = ServerConnection::quoted(of.column);
    if (isOnDisk()) {
        return column;  // It was read as it is meant.
    }
    switch (of.kind) {
        case ServerKind::Number:
        case ServerKind::Identifier: {
            const std::string x = numberOf(of);
            return endless_.contains(name)
                       ? "(case when " + x + " not in ('NaN', 'Infinity', '-Infinity') then " + x +
                             " end)"
                       : x;
        }
        case ServerKind::Truth:
            return "cast(case when " + column + " then 1 when not " + column +
                   " then 0 end as double precision)";
        case ServerKind::Date:
        case ServerKind::Moment:
            return "cast(cast(" + column + " as date) - date '1970-01-01' as double precision)";
        case ServerKind::Text:
            break;
    }
    // Whole forms alone: nullif and its like are not handed on to the servers a table is spread
    // over.
    const std::string text = "cast(" + column + " as text)";
    const std::string cell = options_.keepSpaces ? text : "trim(both from " + text + ")";
    return "(case when " + cell + " <> '' then " + cell + " end)";
}

}  // namespace rapporto
