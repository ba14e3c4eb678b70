#pragma once

#include "core/paths/system.h"

namespace rapporto {

/// What expected outcomes are averaged over: a draw brings its own.
struct RowFacts {
    Eigen::VectorXd weights;    ///< Of the rows used; empty: each once.
    Eigen::VectorXd variances;  ///< Of what is left, of each equation; of linear ones alone.
};

/// Those of the system as it is.
[[nodiscard]] RowFacts rowFacts(const PathSystem& system);

/// Natural effects of one cause on one outcome where an equation on the way is not linear:
/// differences of expected outcomes, averaged over the rows, for a change of the cause. What stands
/// between follows its own law given the cause (normal about a linear equation’s line, yes or no,
/// a Poisson count), and is integrated out, not drawn.
///
/// direct = E[Y(b, M(a)) − Y(a, M(a))], indirect = E[Y(b, M(b)) − Y(b, M(a))], total their sum.
/// Source: Pearl (2001), UAI; Imai, Keele & Tingley (2010), Psychological Methods 15.
class NaturalEffect {
  public:
    /// @param from, to  nodes.
    /// @param change  the two values of the cause.
    /// @param at  nodes of moderators with the values that they are held at.
    /// @return the effect, or BadSetting: too many continuous variables between.
    [[nodiscard]] static Result<NaturalEffect> make(const PathSystem& system, int from, int to,
                                                    std::pair<double, double> change,
                                                    std::vector<std::pair<int, double>> at);

    /// Direct, indirect, total.
    [[nodiscard]] Eigen::Vector3d at(const Eigen::VectorXd& theta, const RowFacts& rows) const;

    [[nodiscard]] const std::pair<double, double>& change() const { return change_; }

    [[nodiscard]] bool hasBetween() const { return !between_.empty(); }

  private:
    /// A column of an equation: what it is times the values of nodes that are set.
    struct Moving {
        Eigen::Index parameter = 0;
        Eigen::VectorXd rest;   ///< Product of its other factors, by row.
        std::vector<int> sets;  ///< Places in the list of set nodes.
    };

    struct Part {
        std::size_t equation = 0;
        std::size_t place = 0;            ///< Of its outcome in the list of set nodes.
        std::vector<Eigen::Index> still;  ///< Parameters of columns that nothing sets …
        Eigen::MatrixXd stillX;           ///< … and those columns.
        std::vector<Moving> moving;
    };

    explicit NaturalEffect(const PathSystem& system) : system_(&system) {}

    [[nodiscard]] Part partOf(std::size_t equation, const std::vector<int>& set) const;

    const PathSystem* system_;
    std::pair<double, double> change_;
    std::vector<std::pair<int, double>> fixed_;  ///< Places of moderators and sibling levels.
    std::vector<Part> between_;                  ///< In order.
    Part outcome_;
    std::size_t cause_ = 0;  ///< Place of the cause.
    std::size_t places_ = 0;
    bool indexIsNormal_ = false;  ///< All between are linear, in sums alone: so is the index.
};

}  // namespace rapporto
