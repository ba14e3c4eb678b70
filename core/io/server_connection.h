#pragma once

#include "core/base/job.h"
#include "core/base/result.h"

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace rapporto {

/// What an engine answered: texts as it writes them, nothing for NULL.
struct ServerRows {
    std::vector<std::string> names;
    std::vector<std::vector<std::optional<std::string>>> rows;
};

/// One column of what a query would give.
struct ServerColumn {
    std::string name;
    unsigned type = 0;   ///< The engine's number of its type.
    unsigned table = 0;  ///< The table it comes from as it is; 0: none.
    int place = 0;       ///< Its place there, from 1.
};

/// A connection to a database server that speaks PostgreSQL's protocol. Who connects, where and
/// with which password is the business of libpq (service file, PGHOST …, password file): none of
/// it is kept here. All is asked within one transaction that reads only, so that every answer is
/// of one moment; one statement a call. Of one thread at a time.
class ServerConnection {
  public:
    /// @param service  of the service file; empty: by the environment.
    /// @param patience  seconds that one statement may take; 0: without end.
    ///
    /// @return the connection within its transaction, or File (no server, no right), Stopped.
    [[nodiscard]] static Result<ServerConnection> open(const std::string& service, double patience,
                                                       const Job& job);

    /// One statement with `bound` in the places of $1, $2, …
    ///
    /// @return its rows, or BadSetting (the engine's words), TooLarge (it took too long), File (the
    ///         engine went away), Stopped.
    [[nodiscard]] Result<ServerRows> ask(const std::string& sql,
                                         const std::vector<std::string>& bound,
                                         const Job& job) const;

    /// What a query would give, without its rows.
    [[nodiscard]] Result<std::vector<ServerColumn>> columnsOf(const std::string& query,
                                                              const Job& job) const;

    /// Copies what `sql` (“copy … to stdout …”) brings; each piece is handed over as it comes.
    [[nodiscard]] Result<void> copy(const std::string& sql,
                                    const std::function<Result<void>(std::string_view)>& piece,
                                    const Job& job) const;

    /// A name as it is written in a statement.
    [[nodiscard]] static std::string quoted(const std::string& name);

    /// A text as it is written in a statement.
    [[nodiscard]] static std::string literal(const std::string& text);

  private:
    struct State;
    std::shared_ptr<State> state_;
};

}  // namespace rapporto
