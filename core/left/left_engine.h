#pragma once

#include "core/base/job.h"
#include "core/io/server_connection.h"

#include <string>

namespace rapporto {

/// Where rows are left: it answers one statement at a time.
class LeftEngine {
  public:
    LeftEngine() = default;
    LeftEngine(const LeftEngine&) = delete;
    LeftEngine& operator=(const LeftEngine&) = delete;
    virtual ~LeftEngine() = default;

    /// @return the rows that a statement gives, what its engine refuses, or Stopped.
    [[nodiscard]] virtual Result<ServerRows> ask(const std::string& sql, const Job& job) = 0;
};

}  // namespace rapporto
