#pragma once

#include "core/checks/check.h"
#include "core/study/study.h"

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace rapporto {

/// Values of moderators, one each, in the order asked.
using ModeratorSetting = std::vector<std::pair<std::string, Key>>;

/// One equation of a traced system, estimated.
struct TraceEquation {
    std::string to;
    Question question;  ///< As it would be asked by itself.
    std::shared_ptr<const Design> design;
    std::shared_ptr<const Fit> fit;
    /// What checks look at instead of weighted rows; empty where they look at the rows as they are.
    std::function<std::shared_ptr<const CheckRows>()> checkRows;

    [[nodiscard]] bool isLinear() const { return question.byLeastSquares(); }
};

/// A variable of the system, or a level of a grouping (“zone=Ridge”).
struct TraceNode {
    std::string name;
    std::string label;
    int equation = -1;  ///< That explains it; −1: none does.
    bool held = false;  ///< Stands in every equation and is no cause of interest.
    bool yesNo = false;
    double mean = 0.0;
    double sd = 0.0;  ///< n − 1 in the divisor, by the weights.
};

/// The direct effect of one node on another, moderators at their means.
struct TraceArrow {
    int from = 0;
    int to = 0;
    double estimate = 0.0;
    double se = 0.0;
    double low = 0.0;
    double high = 0.0;
    std::optional<double> p;
    double standardised = 0.0;
    bool moderated = false;
};

struct TraceEffect {
    std::string from;
    std::string to;
    std::string kind;  ///< direct, indirect, total, indirect-difference, natural-direct, …
    std::vector<std::string> through;  ///< Of one way; empty: the sum of all.
    ModeratorSetting at;
    std::optional<std::pair<double, double>> change = {};  ///< Of natural effects: of the cause.
    double estimate = 0.0;
    double se = 0.0;
    double low = 0.0;
    double high = 0.0;
    std::optional<double> p = {};
    std::optional<double> standardised = {};
    /// How far the digits of a printed summary may have moved the estimate; absent: no summary.
    std::optional<double> rounding = {};
};

/// How much of a total effect passes through what stands between.
struct TraceShare {
    std::string from;
    std::string to;
    ModeratorSetting at;
    std::optional<double> share;  ///< Absent where direct and indirect effects oppose each other.
    double low = 0.0;
    double high = 0.0;
};

/// What an effect’s intervals tell about direct and indirect effects.
/// Source: Zhao, Lynch & Chen (2010), Journal of Consumer Research 37.
struct TraceVerdict {
    std::string from;
    std::string to;
    std::optional<std::string> through;  ///< “pruning, quality”; absent: all ways together.
    ModeratorSetting at;
    std::string verdict;
};

/// How strongly the errors of two equations would have to go together for a way to vanish.
/// Source: Imai, Keele & Yamamoto (2010), Statistical Science 25.
struct TraceSensitivity {
    std::string from;
    std::string to;
    std::string through;
    double rhoZero = 0.0;
    double first = 0.0;  ///< Effect of the cause on what stands between.
    double spread =
        0.0;  ///< Error sd of the outcome without what stands between, over the latter’s.

    /// The indirect effect if the errors correlated so.
    [[nodiscard]] double indirectAt(double rho) const;
};

/// How well the paths that are left out can be done without. NaN where it does not exist.
struct SystemFit {
    double chi2 = 0.0;
    double df = 0.0;
    double p = 0.0;
    double cfi = 0.0;
    double tli = 0.0;
    double rmsea = 0.0;
    double rmseaLow = 0.0;
    double rmseaHigh = 0.0;
    double srmr = 0.0;
};

/// A path that the system leaves out, tested by adding it.
struct AbsentPath {
    std::string from;
    std::string to;
    double statistic = 0.0;  ///< t², or F where the cause is a grouping.
    double df = 1.0;
    double p = 1.0;
};

/// A traced system. Immutable once made.
struct Trace {
    std::vector<TraceEquation> equations;  ///< In the order of the question.
    std::vector<TraceNode> nodes;
    std::vector<TraceArrow> arrows;
    Eigen::MatrixXd together;               ///< Correlations of all nodes (nodes × nodes).
    std::vector<Coefficient> coefficients;  ///< Of all equations; `equation` is “to pruning”.
    Eigen::MatrixXd covariance;             ///< Of all of them together.
    std::vector<TraceEffect> effects;
    std::vector<Coefficient> effectRows;  ///< The effects as rows of a table: “a → b” by its way.
    std::vector<TraceShare> shares;
    std::vector<TraceVerdict> verdicts;
    std::vector<TraceSensitivity> sensitivity;
    std::optional<SystemFit> fit;    ///< Absent where it is not made for the system.
    std::vector<AbsentPath> absent;  ///< Clearest first.
    std::string interval;            ///< As used: delta, percentile, bias-corrected, bca.
    std::string resampling;          ///< As used; empty for delta.
    int asked = 0;
    int failed = 0;
    std::vector<std::string> warnings;
};

/// Everything a trace question asks beside its checks.
///
/// @param counts  filled as far as rows were counted, of a refused system, too.
/// @return the trace, or BadSetting (a circle, an effect that no path joins, a cause worked out
///         from its outcome, what needs rows of a summary), and what an equation is refused for.
/// Source: Bollen (1987), Sociological Methodology 17 (specific, total indirect effects); Sobel
/// (1982), Sociological Methodology 13 (delta errors); Efron (1987), JASA 82 (intervals by draws).
[[nodiscard]] Result<Trace> traceCauses(const Study& study, const Frame& frame,
                                        const Question& question, RowCounts& counts,
                                        const Job& job);

}  // namespace rapporto
