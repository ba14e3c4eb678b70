#pragma once

#include "core/model/design.h"
#include "core/numerics/descent.h"
#include "core/numerics/linear_solution.h"
#include "core/numerics/nested_effects.h"

#include <functional>
#include <memory>

namespace rapporto {

/// How the parameters of one level make its factor. The model’s columns are those of the question
/// centred and scaled, so that steps of all parameters are alike.
struct LevelChart {
    Eigen::Index q = 1;  ///< Constant and slopes.
    bool full = true;    ///< They may go together.
    Eigen::MatrixXd back;  ///< From the question’s columns to the model’s: Λ = back · (G/σ²)^½.
    Eigen::MatrixXd there;   ///< Its inverse: G/σ² = there ΛΛ' there'.
    Eigen::VectorXd scales;  ///< Spread of each column.

    [[nodiscard]] Eigen::Index parameters() const { return full ? q * (q + 1) / 2 : q; }

    /// Of full ones the lower triangle of Λ, column by column; of others spreads over σ.
    [[nodiscard]] Eigen::MatrixXd factor(const Eigen::Ref<const Eigen::VectorXd>& at) const;

    [[nodiscard]] Eigen::VectorXd start() const;

    /// The covariance of constant and slopes over σ².
    [[nodiscard]] Eigen::MatrixXd covariance(const Eigen::MatrixXd& factor) const;
};

/// Where the likelihood is looked at: factors in the model’s columns, and σ² where it is free.
struct LevelPlace {
    std::vector<Eigen::MatrixXd> factors;
    double logVariance = 0.0;
};

using LevelPlacing = std::function<LevelPlace(const Eigen::VectorXd&)>;

/// What a profile of the likelihood of random effects walks over.
class LevelLand {
  public:
    virtual ~LevelLand() = default;

    [[nodiscard]] virtual const std::vector<LevelChart>& charts() const = 0;

    /// The parameters of a level, at the rest.
    [[nodiscard]] virtual Eigen::VectorXd own(std::size_t level) const = 0;

    /// The covariance of a level’s constant and slopes.
    [[nodiscard]] virtual Eigen::MatrixXd covariance(std::size_t level) const = 0;

    /// σ² of the rows; one where they have none of their own.
    [[nodiscard]] virtual double variance() const = 0;

    /// −2 ln of the likelihood at the rest, but for its constants.
    [[nodiscard]] virtual double value() const = 0;
    [[nodiscard]] virtual std::int32_t groups(std::size_t level) const = 0;

    /// The same over what `placing` makes of a few numbers, σ² free; everything else at its best.
    ///
    /// @param step  by which `placing` is told apart; one where it is linear.
    [[nodiscard]] virtual SmoothFunction free(LevelPlacing placing, double step) const = 0;
};

/// The chart of a level and the columns its effects are of.
/// @return BadSetting (too many slopes), NoVariation (a slope in what does not vary).
[[nodiscard]] Result<RandomGrouping> levelGrouping(const DesignLevel& level, LevelChart& chart);

/// The likelihood of random effects over their parameters, and where it is highest.
class LevelSearch : public LevelLand {
  public:
    LevelSearch(const Design& design, bool restricted) : design_(design), restricted_(restricted) {}

    /// @param solution  of least squares: its columns, and what it leaves.
    /// @return BadSetting (too many slopes, a group a row), NoVariation, NotConverged, Stopped.
    [[nodiscard]] Result<void> run(const LinearSolution& solution, const Job& job);

    /// −2 ln of the likelihood but for its constants, over what `placing` makes of a few numbers.
    ///
    /// @param step  by which `placing` is told apart; one where it is linear.
    [[nodiscard]] SmoothFunction over(LevelPlacing placing, bool freeVariance, double step) const;

    [[nodiscard]] std::vector<Eigen::MatrixXd> factorsAt(const Eigen::VectorXd& at) const;

    // What was found.
    [[nodiscard]] const NestedEffects& model() const { return *model_; }

    [[nodiscard]] const std::vector<LevelChart>& charts() const override { return charts_; }

    [[nodiscard]] Eigen::VectorXd own(std::size_t level) const override {
        return at_.segment(first_[level], charts_[level].parameters());
    }

    [[nodiscard]] const Eigen::VectorXd& at() const { return at_; }

    [[nodiscard]] const std::vector<Eigen::MatrixXd>& factors() const { return factors_; }

    [[nodiscard]] const NestedEffects::Look& look() const { return look_; }

    [[nodiscard]] NestedEffects::Aim aim() const { return {restricted_, 0.0}; }

    [[nodiscard]] double variance() const override { return variance_; }

    [[nodiscard]] double value() const override { return value_; }

    /// What is added to a value for −2 ln of the likelihood.
    [[nodiscard]] double constant() const { return constant_; }

    [[nodiscard]] Eigen::MatrixXd covariance(std::size_t level) const override {
        return variance_ * charts_[level].covariance(factors_[level]);
    }

    [[nodiscard]] std::int32_t groups(std::size_t level) const override {
        return model_->groups(level);
    }

    [[nodiscard]] SmoothFunction free(LevelPlacing placing, double step) const override {
        return over(std::move(placing), true, step);
    }

  private:
    Result<void> makeModel(const LinearSolution& solution);
    [[nodiscard]] Eigen::VectorXd withoutNothing(const Descent& rest,
                                                 const SmoothFunction& land) const;

    const Design& design_;
    bool restricted_;
    std::vector<LevelChart> charts_;
    std::vector<Eigen::Index> first_;
    std::unique_ptr<NestedEffects> model_;
    Eigen::VectorXd at_;
    std::vector<Eigen::MatrixXd> factors_;
    NestedEffects::Look look_;
    double variance_ = 0.0;
    double value_ = 0.0;
    double constant_ = 0.0;
};

/// A spread of a level’s effects (one column), or the correlation of two.
struct LevelParameter {
    std::size_t level = 0;
    Eigen::Index first = 0;
    std::optional<Eigen::Index> second = {};
};

/// Ends of the interval that the profile of the likelihood gives: of a spread, or a correlation.
/// An end that is not found is absent; a spread that may be nothing begins at zero, a correlation
/// that may be one ends there.
struct ProfileEnds {
    std::optional<double> low;
    std::optional<double> high;
};

[[nodiscard]] Result<std::vector<ProfileEnds>> profileEnds(
    const LevelLand& found, const std::vector<LevelParameter>& parameters, double rows,
    double alpha, const Job& job);

}  // namespace rapporto
