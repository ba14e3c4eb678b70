#pragma once

#include "core/model/level_search.h"
#include "core/model/multilevel.h"
#include "core/model/prediction.h"

namespace rapporto {

/// Where the likelihood of random effects came to rest, and how the coefficients hang on it: what
/// degrees of freedom and what is known of single groups are made of.
struct LevelSpreads {
    std::vector<LevelChart> charts;
    Eigen::VectorXd at;          ///< Parameters of all levels, one below the other.
    double logVariance = 0.0;    ///< ln σ²; zero of outcomes without one of their own.
    Eigen::MatrixXd parameters;  ///< Covariance of `at` and ln σ²; empty: taken as known.
    Eigen::MatrixXd covariance;  ///< Of the coefficients at the spreads found, k × k …
    std::vector<Eigen::MatrixXd> slopes;  ///< … and how it moves with each parameter.

    /// Λ of each level at these parameters.
    [[nodiscard]] std::vector<Eigen::MatrixXd> factors(const Eigen::VectorXd& parameters_) const;
};

/// Satterthwaite’s law of contrasts of the coefficients, the columns of k × m.
/// Source: Satterthwaite (1946), Biometrics Bulletin 2; Fai & Cornelius (1996), Journal of
/// Statistical Computation and Simulation 54, of several together.
[[nodiscard]] ContrastLaw satterthwaite(const LevelSpreads& spreads,
                                        const Eigen::MatrixXd& contrasts);

/// Scenarios of a fit with random effects, on the scale of its index: x'β and what the groups that
/// are named add to it. Of a grouping whose group is not named (or is named further out only) a new
/// group is meant: its effects are zero in the middle and spread as those of all groups.
///
/// Errors are those of x'b + z'û less x'β + z'u at the spreads found, effects of groups and
/// coefficients estimated together; of a yes–no outcome or a count by the curvature at the modes.
/// Degrees of freedom as those of the coefficients, over how the whole error moves with the
/// spreads.
///
/// Source: Henderson (1975), Biometrics 31; Booth & Hobert (1998), JASA 93.
class ScenarioGroups {
  public:
    /// A scenario (or a difference of two in the same groups).
    struct Place {
        Eigen::VectorXd row;              ///< Of the columns kept: k.
        std::vector<Eigen::VectorXd> of;  ///< Of each grouping: what its effects are in.
        ScenarioValues at;                ///< Where the groups are named.
    };

    /// @return WrongType (a group that does not occur, or not in the outer one named), BadSetting
    ///         (one that stands in several outer groups, none of them named).
    [[nodiscard]] static Result<ScenarioGroups> make(const Design& design, const Fit& fit,
                                                     const ScenarioMap& map,
                                                     std::vector<Place> places);

    /// The scenarios of these requests; `X` holds all columns of the design, a row each.
    [[nodiscard]] static Result<ScenarioGroups> make(const Design& design, const Fit& fit,
                                                     const ScenarioMap& map,
                                                     const std::vector<PredictRequest>& requests,
                                                     const Eigen::MatrixXd& X);

    /// What is known of the groups in scenario s.
    [[nodiscard]] std::vector<KnownGroup> known(std::size_t s) const;

    /// What they add.
    [[nodiscard]] double shift(std::size_t s) const;

    [[nodiscard]] double value(std::size_t s) const;

    /// Of scenario s, or of s less `from`.
    [[nodiscard]] double variance(std::size_t s, std::optional<std::size_t> from = {}) const;
    [[nodiscard]] Estimate estimate(std::size_t s, double alpha,
                                    std::optional<std::size_t> from = {}) const;

    [[nodiscard]] bool isLogit() const { return fit_.levels->ofYesNo(); }

    /// Variance among the new groups of scenario s.
    [[nodiscard]] double varianceOfNew(std::size_t s) const;

  private:
    /// At some factors: what is uncertain about the effects beside the coefficients, over σ²,
    /// m × m; and how the scenarios hang on the coefficients, k × m.
    struct Parts {
        Eigen::MatrixXd inner;
        Eigen::MatrixXd along;
    };

    ScenarioGroups(const Design& design, const Fit& fit, std::vector<Place> places)
        : design_(design), fit_(fit), places_(std::move(places)) {}

    Result<void> findGroups(const ScenarioMap& map);
    void sumRows();
    [[nodiscard]] Parts partsAt(const std::vector<Eigen::MatrixXd>& factors) const;
    [[nodiscard]] double varianceOf(const Parts& parts, double sigma2,
                                    const Eigen::MatrixXd& covariance,
                                    const Eigen::VectorXd& c) const;
    [[nodiscard]] std::optional<double> freedom(const Eigen::VectorXd& c) const;
    [[nodiscard]] Eigen::VectorXd contrast(std::size_t s, std::optional<std::size_t> from) const;

    const Design& design_;
    const Fit& fit_;
    std::vector<Place> places_;
    std::vector<std::vector<std::optional<std::int32_t>>> groups_;  ///< Scenario by level.
    /// Groups that are named, by level; their columns stand one after the other in `sums_`.
    std::vector<std::pair<std::size_t, std::int32_t>> named_;
    std::shared_ptr<const NestedEffects> sums_;  ///< Of the rows of their outermost groups.
    Eigen::MatrixXd turn_;                       ///< LL' is the coefficients’ covariance.
    Parts parts_;
};

/// What a prediction of a yes–no outcome or a count says of the groups: those known, the mean in
/// them, and the mean over all groups where new ones are meant.
void addGroups(const ScenarioGroups& groups, std::size_t s, double alpha, Prediction& into);

/// Scenario s less the first, on the outcome’s own scale, by the delta method.
[[nodiscard]] Estimate differenceInGroups(const ScenarioGroups& groups, std::size_t s,
                                          double alpha);

/// Under which count lies `share` of the rows of all groups: Poisson with an index that is normal
/// about `index` with this variance.
[[nodiscard]] double countOverGroups(double index, double variance, double share);

}  // namespace rapporto
