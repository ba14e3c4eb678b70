#pragma once

#include "core/model/fit.h"

namespace rapporto {

// A fit of rows less a share of others (Fit::ofShares: random effects, an echo taken out) leaves
// less of those than of the rows as they are. What is drawn, kept or foretold row by row is of the
// rows as they are; of all other fits these are its own.

/// The columns on the rows of the design, as they are; n × k.
[[nodiscard]] Eigen::MatrixXd columnsOfRows(const Design& design, const Fit& fit);

/// The outcome of each row, what the estimates make of it, and what they leave of it; n.
[[nodiscard]] Eigen::VectorXd outcomeOfRows(const Design& design, const Fit& fit);
[[nodiscard]] Eigen::VectorXd fittedOfRows(const Design& design, const Fit& fit);
[[nodiscard]] Eigen::VectorXd leftOfRows(const Design& design, const Fit& fit);

/// The variance of a row about its mean where nothing is known of those it shares with: of random
/// effects that between units and the rest together, of an echo σ²/(1 − ρ²), else σ².
[[nodiscard]] double varianceOfRow(const Fit& fit);

/// Standardises the coefficients by the spread of the rows as they are.
/// @param raw  those rows.
void standardiseByRows(Fit& fit, const Design& raw);

}  // namespace rapporto
