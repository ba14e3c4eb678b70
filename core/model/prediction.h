#pragma once

#include "core/base/compiled_once.h"
#include "core/model/scenario.h"

namespace rapporto {

/// A number with its error, test against zero and interval.
struct Estimate {
    double value = 0.0;
    double se = 0.0;
    std::optional<double> statistic;
    std::optional<double> df;  ///< Absent: the normal law.
    std::optional<double> p;
    double low = 0.0;
    double high = 0.0;
};

/// `value` with the interval of its law at 1 − alpha.
[[nodiscard]] Estimate estimateOf(double value, double variance, std::optional<double> df,
                                  double alpha);

/// A prediction carried from the logarithm back to the outcome’s own units.
struct Retransformed {
    double mean = 0.0;  ///< exp(x'b) times the smearing factor.
    double low = 0.0;   ///< Ends of the mean’s interval, the factor taken as known.
    double high = 0.0;
    double middle = 0.0;  ///< exp(x'b): half of such rows lie above where errors are symmetric.
    double rowLow = 0.0;
    double rowHigh = 0.0;
    double factor = 1.0;  ///< Mean of exp(e).
};

/// A group whose effect is known, and what it adds to a prediction’s index.
struct KnownGroup {
    std::string by;
    std::string group;
    std::size_t rows = 0;  ///< That tell of it.
    double adds = 0.0;
};

struct Prediction {
    RAPPORTO_COMPILED_ONCE(Prediction);

    std::string label;
    ScenarioValues at;
    Estimate mean;
    double rowLow = 0.0;  ///< Where one such row lies.
    double rowHigh = 0.0;
    std::optional<Retransformed> original;  ///< Of a logged outcome.
    std::vector<std::string> warnings;      ///< Outside the data, …
    std::optional<Estimate> difference;     ///< From the first scenario.
    /// Probability of each level of an outcome of groups, or of each count from 0; else empty.
    std::vector<std::pair<std::string, Estimate>> shares;
    std::vector<KnownGroup> groups;  ///< Of random effects, those named; others are new.
    /// The mean over all groups that there may be, where the middle one’s is another: the spread of
    /// the groups is taken as known.
    std::optional<Estimate> overGroups;
};

/// The outcome at given values (of random effects in the groups named) with the interval of its
/// mean (x'Vx by the question’s own errors) and of a single row (x'Vx + σ², normal errors of one
/// spread; σ²/w of a row of weight 1). Logged outcomes are carried back by smearing. Source: Duan
/// (1983), Journal of the American Statistical Association 78.
///
/// @return one prediction a request, or the refusal of ScenarioMap::at.
[[nodiscard]] Result<std::vector<Prediction>> predictAt(const Design& design, const Fit& fit,
                                                        const ScenarioMap& map,
                                                        const std::vector<PredictRequest>& requests,
                                                        double alpha);

/// Rows of a design in groups of a variable that need not be among the terms.
struct RowGroups {
    std::vector<std::string> labels;
    std::vector<std::int32_t> of;  ///< One a row of the design; −1: in none.
};

/// @return the groups, or UnknownName, NoVariation (one group), BadSetting (over sixty groups).
[[nodiscard]] Result<RowGroups> rowGroups(const Frame& frame, const std::string& variable,
                                          const std::vector<std::size_t>& rows);

struct MarginalEffect {
    EffectRequest request;
    std::string level;    ///< Of groups: this level against the base.
    std::string outcome;  ///< Of an outcome of groups: the level whose probability moves.
    Estimate effect;
    Eigen::VectorXd gradient = {};  ///< By the coefficients, in their order, the first ones.
    std::string group = {};         ///< Of an effect over groups: this group’s rows.
    std::optional<Estimate> contrast = {};  ///< From the first group’s, of the same level.
};

/// Slopes of quantities by differentiation through powers, products and logarithms; of groups and
/// yes–no variables the difference from the base (from no). Errors by the delta method, exact for
/// effects that are linear in the coefficients. Elasticities: x·d ln y / dx for a logged outcome,
/// (x/ŷ)·dy/dx else.
///
/// @param over  groups of rows: an average in each of them, and how it differs from the first’s.
/// @return one effect (of groups: one a level; of groups of rows: group by group), or UnknownName,
///         WrongType (a variable that enters through a jump), BadSetting (an elasticity at a
///         prediction of zero or less; groups of rows at given values).
[[nodiscard]] Result<std::vector<MarginalEffect>> marginalEffects(
    const Design& design, const Fit& fit, const ScenarioMap& map, const EffectRequest& request,
    double alpha, const RowGroups* over = nullptr);

/// Where the effect of a variable that enters by itself and its square changes sign.
struct TurningPoint {
    std::string of;
    double at = 0.0;
    double se = 0.0;  ///< Delta method.
    /// Fieller’s set: where the hypothesis of a turn there is not rejected. Both ends absent: the
    /// whole line.
    std::optional<double> low;
    std::optional<double> high;
    bool outside = false;  ///< The set is everything but what lies between low and high.
    bool peak = false;     ///< Else a trough.
    double below = 0.0;    ///< Share of the rows used that lie under it.
};

/// −b₁/(2b₂) of every variable x whose only terms are x and x².
/// Source: Fieller (1954), Journal of the Royal Statistical Society B 16.
[[nodiscard]] std::vector<TurningPoint> turningPoints(const Design& design, const Fit& fit,
                                                      const ScenarioMap& map, double alpha);

}  // namespace rapporto
