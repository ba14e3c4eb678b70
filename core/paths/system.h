#pragma once

#include "core/paths/trace.h"
#include "core/study/study.h"

namespace rapporto {

/// A factor of a column: a node of the system, or a level (“zone=Ridge”), by its index.
struct ColumnFactors {
    std::size_t equation = 0;
    Eigen::Index column = 0;   ///< Of the equation’s X.
    std::vector<int> factors;  ///< Nodes whose product it is; empty: the constant.
};

/// A path system, estimated equation by equation on the same rows.
///
/// Parameters are the coefficients of all equations in turn, θ (K), those that were dropped as
/// redundant left out.
struct PathSystem {
    std::vector<TraceEquation> equations;
    std::vector<std::size_t> order;  ///< Equations, each after those that explain its terms.
    std::vector<TraceNode> nodes;
    std::vector<ColumnFactors> columns;   ///< K.
    std::vector<Eigen::Index> first;      ///< Of each equation among the parameters; then K.
    Eigen::VectorXd theta;                ///< K.
    std::vector<Eigen::VectorXd> values;  ///< Of each node in the rows used.
    std::vector<std::string> levelOf;     ///< Of a node: its grouping; empty: none.
    std::vector<int> siblings;            ///< Index of the grouping a node is a level of; −1.
    Eigen::VectorXd weights;              ///< Of the rows used; empty: none.
    std::vector<std::int32_t> drawn;      ///< Cluster of each row used, to be drawn together.
    std::int32_t drawnCount = 0;
    double n = 0.0;  ///< Rows, or what their frequency weights say.
    std::vector<std::string> warnings;

    [[nodiscard]] int node(const std::string& name) const;

    [[nodiscard]] bool isLinear() const;

    /// Nodes with an arrow to `node`, each once, in the order in which the equation names them.
    [[nodiscard]] std::vector<int> parents(int node) const;
};

/// Terms that are not muted, and equations of what is not.
[[nodiscard]] TraceSpec withoutMuted(const TraceSpec& spec, const std::vector<TermSet>& sets);

/// @return the system, or a refusal by the names concerned: BadSetting (no outcome, one explained
///         twice, a circle, a cause that is worked out from its outcome) and what an equation is
///         refused for.
[[nodiscard]] Result<PathSystem> makeSystem(const Study& study, const Frame& frame,
                                            const Question& question, RowCounts& counts,
                                            const Job& job);

/// Covariance of all parameters together from the stacked scores of the equations (K × K): each
/// equation’s block is its own covariance.
[[nodiscard]] Result<Eigen::MatrixXd> jointCovariance(const PathSystem& system,
                                                      const ErrorSpec& errors, double alpha,
                                                      const Job& job);

/// χ² = (n − 1)(ln|Σ| − ln|S|) of a linear system against its unrestricted covariance, errors of
/// different equations taken as unrelated, with the indices that go with it; nothing where the
/// system has products, groups, weights or an equation that is not linear.
/// Source: Bollen (1989), Structural Equations with Latent Variables; Bentler (1990), Psychological
/// Bulletin 107; Steiger (1990), Multivariate Behavioral Research 25.
[[nodiscard]] std::optional<SystemFit> systemFit(const PathSystem& system,
                                                 const SummaryMatrix* moments);

/// Paths that the system leaves out and that would close no circle, each tested by adding it to its
/// equation; clearest first.
[[nodiscard]] std::vector<AbsentPath> absentPaths(const PathSystem& system, const Job& job);

}  // namespace rapporto
