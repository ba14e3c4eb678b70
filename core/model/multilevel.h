#pragma once

#include "core/model/fit.h"

#include <functional>
#include <numeric>

namespace rapporto {

struct LevelSpreads;

/// What several contrasts of the coefficients are judged by: F with these degrees of freedom once
/// it is multiplied by the scale.
struct ContrastLaw {
    double df = 0.0;
    double scale = 1.0;
};

/// What a fit with random effects tells beside its coefficients.
struct LevelsFit {
    struct Variance {
        std::string term;  ///< “(constant)”, or what the slope is in.
        double variance = 0.0;
        std::optional<double> low;  ///< Of the variance, by the profile; absent: not found.
        std::optional<double> high;
        bool atBoundary = false;  ///< It is zero: nothing is left for it.
    };

    struct Correlation {
        std::size_t first = 0;  ///< Places among the variances.
        std::size_t second = 0;
        std::optional<double> value;  ///< Absent: one of the two variances is zero.
        std::optional<double> low;
        std::optional<double> high;
        bool atBoundary = false;  ///< It is one, or minus one.
    };

    struct Level {
        std::string by;
        std::vector<std::string> labels;  ///< Of the groups.
        std::vector<Variance> variances;  ///< The constant’s first.
        std::vector<Correlation> correlations;
        Eigen::MatrixXd covariance;  ///< Of constant and slopes, q × q.
        /// Of the whole variance of a row at the means of what slopes are in; NaN of counts, whose
        /// rows have no one variance beside it.
        double share = 0.0;
        Eigen::MatrixXd effects;         ///< Groups × q, drawn to the mean.
        Eigen::MatrixXd errors;          ///< Their standard errors, estimated effects counted in.
        std::vector<std::size_t> sizes;  ///< Rows of each group.
        double smallest = 0.0;           ///< Share of its own mean that the smallest group keeps.
        double largest = 0.0;            ///< The same of the largest, of the constant.
    };

    /// What all groupings share of the variance together.
    [[nodiscard]] double shareBetween() const {
        return std::accumulate(levels.begin(), levels.end(), 0.0,
                               [](double sum, const Level& level) { return sum + level.share; });
    }

    std::vector<Level> levels;  ///< Innermost first.
    bool restricted = true;
    std::string law;               ///< satterthwaite, kenward-roger or normal.
    double deviance = 0.0;         ///< −2 ln of the likelihood.
    double devianceWithout = 0.0;  ///< The same without any random effect.
    int parameters = 0;            ///< Variances and correlations, the rows’ own among them.
    /// Of a row of a new group, at the means; of a yes–no outcome on the scale of its log odds.
    double rowVariance = 0.0;
    const Family* family = nullptr;  ///< Of an outcome by likelihood; null: of the normal law …
    int points = 0;         ///< … and with so many of quadrature; 1: Laplace’s approximation.
    Eigen::VectorXd shift;  ///< Of each row: what its groups add.
    /// The law of contrasts of the coefficients, the columns of k × m; empty: the normal law.
    std::function<ContrastLaw(const Eigen::MatrixXd&)> lawOf;
    std::shared_ptr<const LevelSpreads> spreads;  ///< See group_prediction.h.

    /// Effects are on the log odds of yes.
    [[nodiscard]] bool ofYesNo() const {
        return family != nullptr && family->outcome == Family::Outcome::YesNo;
    }
};

/// The law of contrasts of the coefficients, the columns of k × m: with random effects their own,
/// else that of the first coefficient. Infinite degrees of freedom: the normal law.
[[nodiscard]] ContrastLaw lawOf(const Fit& fit, const Eigen::MatrixXd& contrasts);

/// Random constants and slopes of groups, nested in as many groupings as are named: (restricted)
/// likelihood of a normal outcome at its maximum, exactly. Coefficients by generalised least
/// squares at the estimated variances; law t with Satterthwaite’s degrees of freedom by the
/// observed information, or the adjusted errors and degrees of freedom of Kenward & Roger, or the
/// normal law. Intervals of variances and correlations by the profile.
///
/// Source: Laird & Ware (1982), Biometrics 38; Satterthwaite (1946), Biometrics Bulletin 2;
/// Giesbrecht & Burns (1985), Biometrics 41; Kenward & Roger (1997), Biometrics 53.
///
/// @return the fit; BadSetting (no grouping, errors that are not the model’s own, sampling weights,
///         effects held fixed, a slope in what does not vary), TooFewRows, NoVariation (nothing is
///         left of the outcome), NotConverged, Stopped.
[[nodiscard]] Result<Fit> fitMultilevel(const Design& design, const EstimatorSettings& settings,
                                        const ErrorSpec& errors, double alpha, const Job& job);

/// The same of a yes–no outcome (logit) or a count (Poisson), by full likelihood: in one grouping
/// by adaptive quadrature, in several by Laplace’s approximation; see LevelLikelihood. Effects are
/// those within a group; normal law; errors by the curvature over all parameters. Intervals of
/// variances by the profile.
///
/// @return what the plain method refuses, too.
/// @param ends  intervals of variances are wanted, too: they take most of the time.
[[nodiscard]] Result<Fit> fitLevelOutcome(const Design& design, const EstimatorSettings& settings,
                                          double alpha, const Job& job, bool ends = true);

}  // namespace rapporto
