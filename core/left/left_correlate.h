#pragma once

#include "core/study/answer.h"

namespace rapporto {

/// Pearson correlations among expressions by sums asked of the engine that keeps the rows: each
/// pair, with what is held, over rows of its own, or all over the rows that have everything.
///
/// @return the table, or what cannot be asked (ranks, rows by number: BadSetting; groups:
///         WrongType; more sums than are asked for: TooLarge), what the engine refuses, TooFewRows,
///         Stopped. `answer.asked` holds the statements.
[[nodiscard]] Result<CorrelationTable> correlateLeft(Answer& answer, const Study& study,
                                                     const Frame& frame,
                                                     const CorrelationSettings& settings,
                                                     const Job& job);

}  // namespace rapporto
