#pragma once

#include "core/checks/common.h"
#include "core/describe/unit_root.h"

#include <set>

namespace rapporto {

/// One series of the question: its outcome, or a quantity among its terms.
struct Followed {
    std::string name;
    SeriesRuns runs;
    std::optional<UnitRootTest> root;

    [[nodiscard]] bool wanders(double alpha) const { return root && root->p && *root->p >= alpha; }

    [[nodiscard]] bool comesBack(double alpha) const { return root && root->p && *root->p < alpha; }
};

struct Wandering {
    std::vector<Followed> series;  ///< The outcome first.
    bool trendHeld = false;        ///< A straight line stands among the terms.
    bool pastHeld = false;         ///< The outcome’s own past stands among the terms.
    Deterministic with = Deterministic::Constant;
    LagRule rule;

    /// The terms that wander, by name.
    [[nodiscard]] std::vector<std::string> wanderers(double alpha) const {
        std::vector<std::string> out;
        for (std::size_t k = 1; k < series.size(); ++k) {
            if (series[k].wanders(alpha)) {
                out.push_back(series[k].name);
            }
        }
        return out;
    }
};

/// What the options of a check take out of a series, and how it chooses lags.
[[nodiscard]] Deterministic withOf(const CheckRequest& options);
[[nodiscard]] LagRule ruleOf(const CheckRequest& options);

/// Why no series can be followed here, or empty.
[[nodiscard]] std::string seriesProblem(const CheckInput& in);

/// The columns of the question’s quantities, by term: no switches, groups, products.
[[nodiscard]] std::vector<std::pair<const DesignTerm*, Eigen::Index>> quantities(const Design& raw);

/// “lag(y)” of an outcome y, whatever the steps.
[[nodiscard]] bool isPastOf(const std::string& term, const std::string& outcome);

/// The series of a question, none asked yet.
[[nodiscard]] Wandering seriesOf(const CheckInput& in);

/// Asks for a unit root: the outcome alone, or every series.
void askOutcome(Wandering& seen);
void askAll(const CheckInput& in, Wandering& seen);

/// What the estimates leave of the rows as they are: a fit that takes the past out leaves less.
[[nodiscard]] Eigen::VectorXd leftOver(const CheckInput& in);

/// What the question leaves, asked for a unit root by the law of so many trending columns; nothing
/// where there is no such law, or too few rows.
[[nodiscard]] std::optional<UnitRootTest> residualRoot(const CheckInput& in, const Wandering& seen);

/// The outcome and a term wander, and what the question leaves does not: the doubt is answered.
[[nodiscard]] bool isShared(const CheckInput& in, const Wandering& seen);

/// A remedy: the question in changes of the outcome and of the terms that move.
void offerChanges(const CheckInput& in, const std::set<std::string>& moving, CheckResult& result);

}  // namespace rapporto
