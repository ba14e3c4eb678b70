#include "core/io/server_connection.h"

#include <fmt/format.h>
#include <libpq-fe.h>
#include <poll.h>

#include <chrono>
#include <cstdlib>

namespace rapporto {
namespace {

/// How often waiting looks for a stop, in ms.
constexpr int kLook = 40;
/// Seconds until a server that does not answer counts as not there, unless the environment says.
constexpr double kConnect = 10.0;

using Clock = std::chrono::steady_clock;

struct FreeResult {
    void operator()(PGresult* result) const { PQclear(result); }
};

using ResultPtr = std::unique_ptr<PGresult, FreeResult>;

std::string trimmed(std::string text) {
    while (!text.empty() && (text.back() == '\n' || text.back() == ' ')) {
        text.pop_back();
    }
    return text;
}

double secondsSince(Clock::time_point start) {
    return std::chrono::duration<double>(Clock::now() - start).count();
}

tl::unexpected<Refusal> stopped() { return refuse(ErrorCode::Stopped, "reading was stopped"); }

/// Why no connection came about: the library's own words hold no password.
tl::unexpected<Refusal> notReached(const std::string& service, const std::string& words) {
    return refuse(
        ErrorCode::File, "the database cannot be reached: " + words,
        service.empty() ? std::string("the connection of the environment") : "service " + service,
        "Look at the service file, PGHOST and the other settings of the connection, and at the "
        "password file; they stand outside of the study.");
}

}  // namespace

struct ServerConnection::State {
    PGconn* connection = nullptr;
    std::string service;
    double patience = 0.0;

    State() = default;
    State(const State&) = delete;
    State& operator=(const State&) = delete;

    ~State() { PQfinish(connection); }

    /// Waits for the socket; false when nothing came within a look.
    [[nodiscard]] bool waitFor(short events) const {
        pollfd at{PQsocket(connection), events, 0};
        return ::poll(&at, 1, kLook) > 0;
    }

    void cancel() const {
        if (PGcancel* handle = PQgetCancel(connection); handle != nullptr) {
            char words[256];
            (void)PQcancel(handle, words, sizeof words);
            PQfreeCancel(handle);
        }
    }

    /// Stops what runs and takes its ends away, so that the connection can go; briefly, the server
    /// may hang.
    void giveUp() const {
        cancel();
        const auto start = Clock::now();
        while (PQisBusy(connection) == 1 && secondsSince(start) < 0.3) {
            if (waitFor(POLLIN) && PQconsumeInput(connection) == 0) {
                return;
            }
        }
    }

    /// Waits until the next result can be taken without waiting.
    [[nodiscard]] Result<void> untilReady(const Job& job) const {
        const auto start = Clock::now();
        while (PQflush(connection) == 1) {
            (void)waitFor(POLLOUT | POLLIN);
            if (job.stopped()) {
                giveUp();
                return stopped();
            }
        }
        while (PQisBusy(connection) == 1) {
            if (job.stopped()) {
                giveUp();
                return stopped();
            }
            if (patience > 0.0 && secondsSince(start) > patience) {
                giveUp();
                return refuse(
                    ErrorCode::TooLarge,
                    fmt::format("the database had not answered after {:.0f} seconds", patience),
                    where(),
                    "Make the query end sooner, or set ‘patience’ to more seconds (0: without "
                    "end).");
            }
            if (waitFor(POLLIN) && PQconsumeInput(connection) == 0) {
                return wentAway();
            }
        }
        return {};
    }

    [[nodiscard]] std::string where() const {
        return service.empty() ? std::string("the database") : "service " + service;
    }

    [[nodiscard]] tl::unexpected<Refusal> wentAway() const {
        return refuse(
            ErrorCode::File,
            "the database went away while it was asked: " + trimmed(PQerrorMessage(connection)),
            where(), "Nothing was changed. Ask again once it is back.");
    }

    /// The engine's refusal in words.
    [[nodiscard]] tl::unexpected<Refusal> refused(const PGresult* result) const {
        const char* code = PQresultErrorField(result, PG_DIAG_SQLSTATE);
        const char* words = PQresultErrorField(result, PG_DIAG_MESSAGE_PRIMARY);
        if (PQstatus(connection) != CONNECTION_OK || words == nullptr) {
            return wentAway();
        }
        const std::string state = code == nullptr ? "" : code;
        const char* at = PQresultErrorField(result, PG_DIAG_STATEMENT_POSITION);
        const std::string said = std::string("the database says: ") + words;
        if (state == "57014") {
            return refuse(ErrorCode::TooLarge, said, where(),
                          "The server has a time limit of its own: make the query end sooner, or "
                          "ask for a sample.");
        }
        if (state == "25006") {
            return refuse(ErrorCode::BadSetting, "this would change the database", "query",
                          "Write a query that reads: select …");
        }
        if (state == "42501") {
            return refuse(ErrorCode::File, said, where(),
                          "Ask who keeps the database for the right to read it.");
        }
        if (state.starts_with("57P")) {
            return refuse(ErrorCode::File, said, where(),
                          "Nothing was changed. Ask again once it is back.");
        }
        const bool tooMany =
            state == "42601" && std::string(words).find("multiple commands") != std::string::npos;
        if (tooMany) {
            return refuse(ErrorCode::BadSetting, "there is more than one statement", "query",
                          "Write one query that reads: select …");
        }
        return refuse(ErrorCode::BadSetting, said,
                      at == nullptr ? where() : std::string("position ") + at);
    }

    /// Every result of what was sent; the last one that is none of an error is given.
    [[nodiscard]] Result<ResultPtr> take(const Job& job) const {
        ResultPtr last;
        std::optional<Refusal> bad;
        for (;;) {
            if (auto ready = untilReady(job); !ready) {
                return tl::make_unexpected(ready.error());
            }
            ResultPtr next(PQgetResult(connection));
            if (!next) {
                break;
            }
            const ExecStatusType status = PQresultStatus(next.get());
            if (status == PGRES_FATAL_ERROR || status == PGRES_BAD_RESPONSE) {
                bad = bad ? bad : std::optional(refused(next.get()).value());
                if (PQstatus(connection) != CONNECTION_OK) {
                    break;
                }
            } else if (status == PGRES_COPY_OUT) {
                return next;
            }
            last = std::move(next);
        }
        if (bad) {
            return tl::make_unexpected(*bad);
        }
        if (!last) {
            return wentAway();
        }
        return last;
    }

    [[nodiscard]] Result<ResultPtr> send(const std::string& sql,
                                         const std::vector<std::string>& bound,
                                         const Job& job) const {
        std::vector<const char*> values;
        for (const std::string& one : bound) {
            values.push_back(one.c_str());
        }
        // With parameters the protocol takes one statement alone.
        if (PQsendQueryParams(connection, sql.c_str(), static_cast<int>(values.size()), nullptr,
                              values.data(), nullptr, nullptr, 0) == 0) {
            return wentAway();
        }
        return take(job);
    }
};

Result<ServerConnection> ServerConnection::open(const std::string& service, double patience,
                                                const Job& job) {
    ServerConnection out;
    out.state_ = std::make_shared<State>();
    State& state = *out.state_;
    state.service = service;
    state.patience = patience;
    const char* names[] = {service.empty() ? "fallback_application_name" : "service",
                           "fallback_application_name", "client_encoding", nullptr};
    const char* values[] = {service.empty() ? "rapporto" : service.c_str(), "rapporto", "UTF8",
                            nullptr};
    state.connection = PQconnectStartParams(names, values, 0);
    if (state.connection == nullptr) {
        return notReached(service, "there is no memory for it");
    }
    const char* told = std::getenv("PGCONNECT_TIMEOUT");
    const double limit = told != nullptr && std::atof(told) > 0.0 ? std::atof(told) : kConnect;
    const auto start = Clock::now();
    auto next = PGRES_POLLING_WRITING;
    while (PQstatus(state.connection) != CONNECTION_BAD && next != PGRES_POLLING_OK &&
           next != PGRES_POLLING_FAILED) {
        if (job.stopped()) {
            return stopped();
        }
        if (secondsSince(start) > limit) {
            return notReached(service, fmt::format("no answer within {:.0f} seconds", limit));
        }
        if (state.waitFor(next == PGRES_POLLING_READING ? POLLIN : POLLOUT)) {
            next = PQconnectPoll(state.connection);
        }
    }
    if (PQstatus(state.connection) != CONNECTION_OK) {
        return notReached(service, trimmed(PQerrorMessage(state.connection)));
    }
    (void)PQsetnonblocking(state.connection, 1);
    PQsetNoticeProcessor(
        state.connection, [](void*, const char*) {}, nullptr);
    for (const char* first : {"start transaction isolation level repeatable read, read only",
                              "set local datestyle = 'ISO'", "set local timezone = 'UTC'"}) {
        if (auto done = state.send(first, {}, job); !done) {
            return tl::make_unexpected(done.error());
        }
    }
    return out;
}

Result<ServerRows> ServerConnection::ask(const std::string& sql,
                                         const std::vector<std::string>& bound,
                                         const Job& job) const {
    auto result = state_->send(sql, bound, job);
    if (!result) {
        return tl::make_unexpected(result.error());
    }
    const PGresult* raw = result->get();
    ServerRows out;
    for (int c = 0; c < PQnfields(raw); ++c) {
        out.names.emplace_back(PQfname(raw, c));
    }
    out.rows.resize(static_cast<std::size_t>(PQntuples(raw)));
    for (int r = 0; r < PQntuples(raw); ++r) {
        auto& row = out.rows[static_cast<std::size_t>(r)];
        for (int c = 0; c < PQnfields(raw); ++c) {
            row.push_back(
                PQgetisnull(raw, r, c) == 1
                    ? std::nullopt
                    : std::optional(std::string(PQgetvalue(raw, r, c),
                                                static_cast<std::size_t>(PQgetlength(raw, r, c)))));
        }
    }
    return out;
}

Result<std::vector<ServerColumn>> ServerConnection::columnsOf(const std::string& query,
                                                              const Job& job) const {
    if (PQsendPrepare(state_->connection, "", query.c_str(), 0, nullptr) == 0) {
        return state_->wentAway();
    }
    if (auto prepared = state_->take(job); !prepared) {
        return tl::make_unexpected(prepared.error());
    }
    if (PQsendDescribePrepared(state_->connection, "") == 0) {
        return state_->wentAway();
    }
    auto result = state_->take(job);
    if (!result) {
        return tl::make_unexpected(result.error());
    }
    if (PQnparams(result->get()) > 0) {
        return refuse(ErrorCode::BadSetting, "the query leaves values open (‘$1’)", "query",
                      "Write the values into it.");
    }
    std::vector<ServerColumn> out;
    for (int c = 0; c < PQnfields(result->get()); ++c) {
        out.push_back({PQfname(result->get(), c), PQftype(result->get(), c),
                       PQftable(result->get(), c), PQftablecol(result->get(), c)});
    }
    return out;
}

Result<void> ServerConnection::copy(const std::string& sql,
                                    const std::function<Result<void>(std::string_view)>& piece,
                                    const Job& job) const {
    auto begun = state_->send(sql, {}, job);
    if (!begun) {
        return tl::make_unexpected(begun.error());
    }
    if (PQresultStatus(begun->get()) != PGRES_COPY_OUT) {
        return refuse(ErrorCode::BadSetting, "the query brings no rows", "query",
                      "Write a query that reads: select …");
    }
    const auto start = Clock::now();
    bool any = false;
    for (;;) {
        char* raw = nullptr;
        const int got = PQgetCopyData(state_->connection, &raw, 1);
        const std::unique_ptr<char, decltype(&PQfreemem)> held(raw, &PQfreemem);
        if (job.stopped()) {
            state_->giveUp();
            return stopped();
        }
        if (got > 0) {
            any = true;
            if (auto taken = piece({raw, static_cast<std::size_t>(got)}); !taken) {
                state_->giveUp();
                return taken;
            }
            continue;
        }
        if (got == -1) {
            break;
        }
        if (got == -2) {
            return state_->wentAway();
        }
        if (!any && state_->patience > 0.0 && secondsSince(start) > state_->patience) {
            state_->giveUp();
            return refuse(
                ErrorCode::TooLarge,
                fmt::format("the database had not answered after {:.0f} seconds", state_->patience),
                state_->where(),
                "Make the query end sooner, or set ‘patience’ to more seconds (0: "
                "without end).");
        }
        if (state_->waitFor(POLLIN) && PQconsumeInput(state_->connection) == 0) {
            return state_->wentAway();
        }
    }
    auto ended = state_->take(job);
    return ended ? Result<void>() : tl::make_unexpected(ended.error());
}

std::string ServerConnection::quoted(const std::string& name) {
    std::string out = "\"";
    for (const char c : name) {
        out += c == '"' ? "\"\"" : std::string(1, c);
    }
    return out + "\"";
}

std::string ServerConnection::literal(const std::string& text) {
    // A backslash means itself within e'' alone, whatever the server's settings are.
    std::string out = text.find('\\') == std::string::npos ? "'" : "e'";
    for (const char c : text) {
        out += c == '\'' ? "''" : c == '\\' ? "\\\\" : std::string(1, c);
    }
    return out + "'";
}

}  // namespace rapporto
