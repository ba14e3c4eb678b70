#pragma once

#include "core/model/fit.h"

namespace rapporto {

/// What comes before and after a change that units make at different moments.
struct EventFit {
    /// The effect at a distance from the change.
    struct Place {
        int at = 0;
        bool open = false;       ///< Everything further out is in it.
        bool reference = false;  ///< The moment before the change: zero by definition.
        double estimate = 0.0;
        double se = 0.0;
        double low = 0.0;
        double high = 0.0;
        std::size_t rows = 0;     ///< Of units that changed, at this distance.
        std::size_t cohorts = 0;  ///< That have an estimate here.
    };

    /// Units that changed at one moment.
    struct Cohort {
        std::int64_t moment = 0;
        std::size_t units = 0;
    };

    /// The effect in a cohort at a moment; of group-time and of cohorts.
    struct GroupTime {
        std::int64_t cohort = 0;
        int at = 0;  ///< Distance from the change.
        double estimate = 0.0;
        double se = 0.0;
    };

    std::string variable;
    std::string weighting;
    std::vector<Place> places;
    std::vector<Cohort> cohorts;
    std::vector<GroupTime> groupTimes;
    std::size_t never = 0;          ///< Units that did not change.
    std::size_t always = 0;         ///< Units that had changed before their first row: left out.
    bool lastAsComparison = false;  ///< No unit never changed: the last cohort stands for them.
    std::optional<double> after;    ///< Mean effect from the change on …
    double afterSe = 0.0;
    std::optional<double> df;     ///< Of the law of both; absent: normal.
    std::optional<FTest> before;  ///< All effects before the change together.
    double together = 0.0;  ///< Half widths, in standard errors, of a band that holds all of them.
};

/// Effects by the distance from a change that stays, one moment before it as zero, with units and
/// moments held fixed: `pooled` has one effect for a distance; `cohorts` one for each cohort and
/// distance, weighted by the cohort’s share of the rows there (shares taken as given); `group-time`
/// compares each cohort’s change since the moment before with that of units not yet (or never)
/// changed, adjusted by least squares of their changes on the terms at that moment, weighted by
/// the cohort’s units (their share’s own error counted), errors by unit (or clusters of units),
/// normal law. Units changed before their first row are left out.
///
/// @return the fit, or BadSetting (nothing changes; errors that do not go with it), TooFewRows,
///         NotConverged, Stopped. Source: Sun & Abraham (2021), J. Econometrics 225; Callaway &
///         Sant’Anna (2021), J. Econometrics 225.
[[nodiscard]] Result<Fit> fitEventStudy(const Design& design, const EstimatorSettings& settings,
                                        const ErrorSpec& errors, double alpha, const Job& job);

/// A term that is switched on at some moment and stays on.
struct Policy {
    int term = -1;
    std::vector<std::int64_t> changed;  ///< As Design::changed.
    std::size_t cohorts = 0;
    std::size_t never = 0;
    std::size_t always = 0;
};

/// The first such term of a panel’s design (not swept), or why there is none, in words.
[[nodiscard]] tl::expected<Policy, std::string> policyOf(const Design& design);

/// The design without one of its terms.
[[nodiscard]] Design withoutTerm(const Design& design, int term);

/// One comparison of two cohorts in the plain effect within units and moments.
struct Comparison {
    enum class Kind : std::uint8_t { Never, NotYet, Already, Always };

    Kind kind = Kind::Never;
    std::int64_t changed = 0;  ///< The cohort whose change is looked at …
    std::int64_t against = 0;  ///< … and the one it is held against (kNever, kAlways).
    double weight = 0.0;       ///< Of all one.
    double estimate = 0.0;
};

/// Who is compared with whom, over units with a row at every moment, without other terms. The
/// weighted sum of the estimates is the effect of the two-way comparison on these rows.
struct ComparisonSplit {
    std::vector<Comparison> comparisons;
    double effect = 0.0;
    std::size_t units = 0;     ///< With a row at every moment.
    std::size_t allUnits = 0;  ///< Of the question.
};

/// Source: Goodman-Bacon (2021), J. Econometrics 225.
[[nodiscard]] tl::expected<ComparisonSplit, std::string> splitComparisons(
    const Design& design, const std::vector<std::int64_t>& changed);

/// Share of the changed rows (by weight) that the plain effect counts negatively: those whose
/// variable is above its own fit by units and moments the wrong way round.
/// Source: de Chaisemartin & D’Haultfœuille (2020), American Economic Review 110.
struct NegativeWeights {
    std::size_t rows = 0;      ///< Changed rows.
    std::size_t negative = 0;  ///< Of those with a negative weight.
    double sum = 0.0;          ///< Of the negative weights, all weights being one.
};

/// @param left  the switched column of the swept design.
/// @param on    the same column as it is.
[[nodiscard]] NegativeWeights negativeWeights(const Eigen::VectorXd& left,
                                              const Eigen::VectorXd& on,
                                              const Eigen::VectorXd& weights);

}  // namespace rapporto
