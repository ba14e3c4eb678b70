#pragma once

#include "core/base/job.h"
#include "core/data/frame.h"

#include <Eigen/Dense>

namespace rapporto {

enum class CorrelationKind : std::uint8_t { Pearson, Spearman, Kendall };
enum class Sides : std::uint8_t { Two, Greater, Less };

struct CorrelationSettings {
    CorrelationKind kind = CorrelationKind::Pearson;
    Sides sides = Sides::Two;
    bool listwise = false;  ///< Rows with everything; else each pair (with what is held) its own.
    double alpha = 0.05;
};

/// Correlations among p variables, with or without others held. Matrices are p × p; NaN where a
/// number does not exist (p on the diagonal, anything of a variable that does not vary).
struct CorrelationTable {
    std::vector<std::string> variables;
    std::vector<std::string> holding;
    CorrelationSettings settings;
    Eigen::MatrixXd r;         ///< Partial where something is held.
    Eigen::MatrixXd p;         ///< One- or two-sided as the settings say.
    Eigen::MatrixXd adjusted;  ///< p by Holm (1979) over all pairs.
    Eigen::MatrixXd n;         ///< Rows behind each cell; the diagonal: rows with that variable.
    Eigen::MatrixXd low;       ///< Interval at 1 − alpha; one-sided with one-sided p.
    Eigen::MatrixXd high;
    Eigen::MatrixXd statistic;  ///< t, or z for Kendall.
    Eigen::MatrixXd plain;      ///< Without holding anything, over the same rows; empty if nothing
                                ///< is held.
    Eigen::MatrixXd semiPartial;  ///< Row variable with what is left of the column variable when
                                  ///< the held ones are taken out of it alone; empty likewise.
};

/// A column as numbers for a correlation: ordered groups as their place in their order.
struct RelatedColumn {
    std::string name;
    std::vector<double> cells;  ///< NaN: missing.
};

/// Correlations over rows.
///
/// Pearson: t law with n − 2 − h degrees of freedom for h held variables; interval by Fisher's z
/// with 1/√(n − 3 − h). Spearman: Pearson of mid-ranks, t law; interval with √((1 + r²/2)/(n − 3 −
/// h)) (Bonett & Wright 2000). Kendall: tau-b, normal law with the tie-corrected variance (Kendall
/// 1970, chapter 4), by sorting in n log n (Knight 1966); interval with √(0.437/(n − 4)) (Fieller,
/// Hartley & Pearson 1957). Partial tau has no p and no interval: its law is not known.
///
/// @param use  rows that count; empty: all.
/// @return the table, or NoTerms (under two variables), ShapeMismatch, Stopped.
[[nodiscard]] Result<CorrelationTable> correlate(const std::vector<RelatedColumn>& columns,
                                                 const std::vector<RelatedColumn>& holding,
                                                 const std::vector<bool>& use,
                                                 const CorrelationSettings& settings,
                                                 const Job& job);

/// The same from a summary: Pearson alone, n the summary's.
///
/// @return the table, or UnknownName, BadSetting for anything but Pearson.
[[nodiscard]] Result<CorrelationTable> correlateSummary(const SummaryMatrix& summary,
                                                        const std::vector<std::string>& variables,
                                                        const std::vector<std::string>& holding,
                                                        const CorrelationSettings& settings);

/// Kendall's tau-b of two columns without missing cells, with its z.
struct Tau {
    double tau = 0.0;
    double z = 0.0;
};

[[nodiscard]] Tau kendall(const std::vector<double>& x, const std::vector<double>& y);

/// Mid-ranks from 1.
[[nodiscard]] std::vector<double> midRanks(const std::vector<double>& x);

/// An order in which alike variables stand together: it starts at the variable that is related to
/// the others most and goes on to the nearest that is left. Places from 0.
[[nodiscard]] std::vector<std::size_t> orderBySimilarity(const Eigen::MatrixXd& r);

/// p-values made fit for looking at many: Holm (1979). NaN stays.
[[nodiscard]] std::vector<double> holm(const std::vector<double>& p);

}  // namespace rapporto
