#pragma once

#include "core/data/frame.h"
#include "core/data/survey.h"

#include <Eigen/Dense>

#include <memory>
#include <optional>
#include <span>

namespace rapporto {

class KnownColumns;

/// The rows of a survey design, made once for many means. Rows out of the sample belong to it, too:
/// a part of the rows keeps the whole design (Binder 1983).
struct SurveyRows {
    std::vector<double> weights;         ///< Of each row of the frame; 0: it lacks a part.
    std::vector<std::int32_t> strata;    ///< From 0; −1: it lacks a part.
    std::vector<std::int32_t> clusters;  ///< From 0 over all strata; each row its own without any.
    std::vector<double> taken;           ///< Of each stratum: the share of its clusters drawn.
    std::int32_t strataCount = 1;
    std::int32_t clusterCount = 0;
    std::string lonely = "centred";        ///< As Survey::lonely.
    std::vector<std::string> lonelyNames;  ///< Strata with one cluster.

    std::vector<std::vector<double>> replicates;  ///< Weights of each row of the frame.
    std::vector<std::string> replicateNames;
    double replicateScale = 1.0;  ///< Of the sum of squares about the estimate.

    std::shared_ptr<const KnownColumns> known;        ///< Of calibrated weights; else null.
    std::vector<double> drawnWeights;                 ///< Before calibration; else empty.
    std::string calibration;                          ///< As Survey::calibration.
    std::optional<std::pair<double, double>> bounds;  ///< As Survey::bounds.
};

/// @return the rows, or UnknownName, WrongType (a weight or a population that is no number),
///         BadSetting (a weight below zero, fewer clusters in the population than drawn, a lonely
///         cluster where these are to be refused, one replicate weight), and what KnownColumns and
///         calibrated() refuse of known totals.
[[nodiscard]] Result<SurveyRows> surveyRows(const Frame& frame, const Survey& survey);

/// Covariance of sums of scores under the design: by linearisation over clusters within strata with
/// the finite-population factor; a lonely cluster is centred at zero, where scores sum to zero, or
/// passed over. Where totals are known, of what is left of the scores on them (Deville & Särndal
/// 1992). Source: Binder (1983), International Statistical Review 51.
struct DesignCovariance {
    Eigen::MatrixXd matrix;
    double df = 0.0;  ///< Clusters less strata.
};

/// @param weighted  scores times the weight, of each row (n × k); rows out of the part asked for
///                  have zeros.
[[nodiscard]] DesignCovariance designCovariance(const SurveyRows& rows,
                                                const Eigen::MatrixXd& weighted);

/// A mean as the design gives it.
struct DesignMean {
    double mean = 0.0;
    double se = 0.0;         ///< By linearisation; a lonely cluster is centred at the grand mean.
    double df = 0.0;         ///< Clusters less strata.
    std::size_t n = 0;       ///< Rows with a value.
    double effective = 0.0;  ///< (Σw)²/Σw² of them (Kish 1965).
    double deff = 1.0;       ///< Variance over that of a simple random sample of as many rows.
};

/// Mean of the cells that are not missing; cells of rows out of the part asked for are missing.
/// Nothing where no row with a weight has a value.
///
/// Source: Binder (1983), International Statistical Review 51; Kish (1965), section 8.2.
[[nodiscard]] std::optional<DesignMean> meanUnder(const SurveyRows& rows,
                                                  std::span<const double> cells);

/// Means of groups of rows held against each other.
struct DesignContrast {
    std::vector<double> means;  ///< Of each group.
    double difference = 0.0;    ///< The second less the first.
    double f = 0.0;             ///< All means equal: Wald’s F by the design’s covariance.
    double df1 = 0.0;
    double df2 = 0.0;  ///< Clusters less strata.
    double p = 1.0;
};

/// Whether the means of groups differ, by linearisation over the design: rows of one cluster may
/// stand in several groups.
///
/// @param groups  of each row, from 0; −1: in none.
/// @return nothing where a group has no row with a weight and a value, or no spread is left.
/// Source: Binder (1983), International Statistical Review 51.
[[nodiscard]] std::optional<DesignContrast> contrastUnder(const SurveyRows& rows,
                                                          std::span<const double> cells,
                                                          std::span<const std::int32_t> groups,
                                                          std::int32_t count);

/// Interval of a share p that n rows (as good as independent) show; Wilson (1927), Journal of the
/// American Statistical Association 22. `critical` is the two-sided value of the law.
struct ShareInterval {
    double low = 0.0;
    double high = 1.0;
};

[[nodiscard]] ShareInterval wilsonInterval(double p, double n, double critical);

}  // namespace rapporto
