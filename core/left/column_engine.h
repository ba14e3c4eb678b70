#pragma once

#include "core/data/column.h"
#include "core/left/left_engine.h"

#include <memory>

namespace rapporto {

/// Answers statements about a table whose columns lie mapped beside the study, block of rows by
/// block: memory is that of the blocks and of groups, whatever the table holds. Sums are of chunks
/// that hang on the rows alone, put together in their order: the same bits for any number of
/// threads. A missing cell is null; numbers are double precision; texts are put in order by code
/// points.
class ColumnEngine : public LeftEngine {
  public:
    /// @param name  of the table in statements.
    ColumnEngine(std::string name, std::shared_ptr<const Table> table);
    ~ColumnEngine() override;

    /// @return rows, or Syntax (a statement beyond what questions are asked in), Stopped.
    [[nodiscard]] Result<ServerRows> ask(const std::string& sql, const Job& job) override;

  private:
    struct State;
    std::unique_ptr<State> state_;
};

}  // namespace rapporto
