#pragma once

#include "core/io/csv.h"
#include "core/io/server_connection.h"

namespace rapporto {

/// Rows that tell what the columns of a server’s table are.
inline constexpr int kFirstRows = 2000;

/// How the cells of a server's column are taken over.
enum class ServerKind : std::uint8_t { Number, Identifier, Text, Truth, Date, Moment };

/// A column of a table or query in a database, with what the database says of it.
struct ServerVariable {
    std::string name;    ///< As the table of the study has it.
    std::string column;  ///< As the engine has it.
    ServerKind kind = ServerKind::Text;
    bool whole = false;               ///< A number of a type that has no fractions.
    std::string label;                ///< The column's comment.
    std::vector<std::string> levels;  ///< Of an enumeration, in its order.
};

/// A table, view or query in a database, looked at but not read.
struct ServerTable {
    std::string from;  ///< What stands after “from” in a statement: a name, or a query in brackets.
    std::string shown;              ///< For people: “public.growers”, “the query”.
    std::vector<std::string> keys;  ///< Columns of its primary key, as the engine has them.
    double rowsAbout = 0.0;         ///< The server's own guess; 0: none.
    std::vector<ServerVariable> variables;
    std::vector<std::string> tables;  ///< All that may be read, when no query is given.
    /// Its parts that lie with other servers, as `from`; empty: it is not spread over servers.
    std::vector<std::string> parts;
};

/// Looks at what `options` names (service, table or query).
///
/// @return what it is, or BadSetting (no such table, no reading query), File, TooLarge, Stopped.
[[nodiscard]] Result<ServerTable> describeServerTable(const ServerConnection& connection,
                                                      const ReaderOptions& options, Import& import,
                                                      const Job& job);

/// Reads the rows of a table into the columns of `import`, whose `sha256` becomes that of names,
/// types and cells in this order.
///
/// @param tail  what stands behind “from” and the table: an order, a limit; may be empty.
[[nodiscard]] Result<void> takeServerRows(const ServerConnection& connection,
                                          const ServerTable& table, const std::string& tail,
                                          Import& import, const Job& job);

/// The first rows of a table or query, to be looked at before it is taken in; `parts` are the
/// tables that may be read.
[[nodiscard]] Result<Import> firstServerRows(const ReaderOptions& options, const Job& job);

/// Reads a table, view or query of a database server in one snapshot: numbers, texts, truths and
/// dates by their types, labels from the comments on columns, rows in the order of the primary key
/// where there is one.
///
/// @param path  not looked at: where the server is, is the business of its library.
[[nodiscard]] Result<Import> readPostgresql(const std::string& path, const ReaderOptions& options,
                                            const Job& job);

}  // namespace rapporto
