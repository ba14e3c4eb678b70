#pragma once

#include "core/study/answer.h"

namespace rapporto {

/// Answers a question that explains an outcome by sums asked of the engine that keeps the rows:
/// least squares (classical, HC0, HC1, clustered one- and two-way) with weights, groups, products
/// and rules; one grouping held fixed; two-stage least squares. The estimate, its tests and what
/// needs no rows among the checks are made by the same code as elsewhere, over a few rows that have
/// the very means and products that were asked for. Logit, probit and Poisson by one statement a
/// step.
///
/// @return nothing, or what cannot be asked (BadSetting, with what would help), what the engine
///         refuses, TooFewRows, NoVariation, Stopped. `answer.asked` holds the statements so far.
[[nodiscard]] Result<void> explainLeft(Answer& answer, const Study& study, const Frame& frame,
                                       const Making& making);

/// The refusal of what needs rows: what it is, and a query that draws a sample anybody can draw
/// again.
[[nodiscard]] Refusal needsRowsAtHand(const Frame& frame, const std::string& what);

}  // namespace rapporto
