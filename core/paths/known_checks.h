#pragma once

#include "core/paths/trace.h"

namespace rapporto {

/// The checks of an equation that was checked before on the same table, question and fit; nothing
/// otherwise. A path drawn changes one equation of a system: the others’ checks stand.
[[nodiscard]] std::optional<std::vector<CheckResult>> knownChecks(const Frame& frame,
                                                                  const TraceEquation& equation,
                                                                  double alpha);

/// Keeps them; tables over 200,000 rows are not held on to.
void keepChecks(const Frame& frame, const TraceEquation& equation, double alpha,
                const std::vector<CheckResult>& checks);

}  // namespace rapporto
