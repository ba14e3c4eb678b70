#pragma once

#include "core/paths/natural.h"
#include "core/paths/system.h"

namespace rapporto {

/// Every effect that a question asks of a system, as a function of the parameters: what estimates,
/// delta errors and draws are all worked out by.
///
/// In a linear system an arrow’s size is a sum of parameters (times the moderators of products,
/// held at the values asked or else at their means), a way’s the product of its arrows’, and the
/// total the sum over all ways. Where an equation on the way is not linear, effects are differences
/// of expected outcomes (see natural.h).
class EffectPlan {
  public:
    /// @return the plan, or BadSetting by name: a cause or outcome that is no node, a pair that no
    ///         path joins, a moderator that moderates nothing, a level that does not occur.
    [[nodiscard]] static Result<EffectPlan> make(const PathSystem& system, const TraceSpec& spec);

    /// Effects first, then shares, then arrows; E in all.
    [[nodiscard]] std::size_t size() const { return outputs_.size(); }

    /// Effects as they are told, without numbers.
    [[nodiscard]] const std::vector<TraceEffect>& effects() const { return effects_; }

    [[nodiscard]] const std::vector<TraceShare>& shares() const { return shares_; }

    /// One arrow each, moderators at their means.
    [[nodiscard]] const std::vector<TraceArrow>& arrows() const { return arrows_; }

    /// Some effect needs expected outcomes.
    [[nodiscard]] bool hasNatural() const { return !natural_.empty(); }

    /// All effects, shares and arrows at a θ (E). Linear ones hang on θ alone.
    [[nodiscard]] Eigen::VectorXd at(const Eigen::VectorXd& theta, const RowFacts& rows) const;

    /// Their derivatives by θ (E × K).
    [[nodiscard]] Eigen::MatrixXd slopes(const Eigen::VectorXd& theta, const RowFacts& rows,
                                         const Eigen::VectorXd& se) const;

    /// Direct and indirect effects of a share have opposite signs.
    [[nodiscard]] bool opposes(std::size_t share, const Eigen::VectorXd& value) const;

    /// Ways that were not listed one by one because they are too many.
    [[nodiscard]] bool cutShort() const { return cutShort_; }

  private:
    struct Part {
        Eigen::Index parameter = 0;
        double weight = 0.0;
    };

    /// An arrow under one setting of moderators.
    struct Arrow {
        int from = 0;
        int to = 0;
        std::vector<Part> parts;
    };

    struct Setting {
        ModeratorSetting at;
        std::vector<Arrow> arrows;  ///< Grouped by `to`, those in the order of the equations.
    };

    struct Output {
        enum class Kind : std::uint8_t { Direct, Way, Through, Total, Difference, Share, Natural };

        Kind kind = Kind::Direct;
        std::size_t setting = 0;
        int from = 0;
        int to = 0;
        std::vector<std::size_t> way;  ///< Arrows of the setting.
        std::size_t first = 0;         ///< Of a difference or share: outputs it is made of; of
        std::size_t second = 0;        ///< natural effects: which, and which of its three.
        double sign = 1.0;
    };

    explicit EffectPlan(const PathSystem& system) : system_(&system) {}

    friend class PlanMaker;

    [[nodiscard]] Eigen::VectorXd sizes(const Setting& setting, const Eigen::VectorXd& theta) const;
    /// Total effects of `from` on every node, or of every node on `to`.
    [[nodiscard]] Eigen::VectorXd totalsFrom(const Setting& setting, const Eigen::VectorXd& size,
                                             int from) const;
    [[nodiscard]] Eigen::VectorXd totalsTo(const Setting& setting, const Eigen::VectorXd& size,
                                           int to) const;

    const PathSystem* system_;
    std::vector<Setting> settings_;
    std::vector<int> upward_;  ///< Nodes, causes before what they explain.
    std::vector<Output> outputs_;
    std::vector<TraceEffect> effects_;
    std::vector<TraceShare> shares_;
    std::vector<TraceArrow> arrows_;
    std::vector<NaturalEffect> natural_;
    bool cutShort_ = false;
};

}  // namespace rapporto
