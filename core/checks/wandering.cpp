#include "core/checks/wandering.h"

#include <algorithm>
#include <cmath>

namespace rapporto {

using Eigen::Index;
using Eigen::VectorXd;

namespace {

std::vector<double> valuesOf(const VectorXd& column) { return {column.begin(), column.end()}; }

/// A column that takes two values alone is a switch, not a quantity.
bool isSwitch(const VectorXd& column) {
    const double low = column.minCoeff();
    const double high = column.maxCoeff();
    return std::all_of(column.begin(), column.end(),
                       [&](double v) { return v == low || v == high; });
}

/// All neighbours differ by one number.
bool isStraight(const SeriesRuns& runs) {
    std::optional<double> step;
    double largest = 0.0;
    for (const auto& run : runs) {
        for (std::size_t t = 1; t < run.size(); ++t) {
            const double own = run[t] - run[t - 1];
            step = step ? step : own;
            largest = std::max({largest, std::abs(run[t]), std::abs(run[t - 1])});
            if (std::abs(own - *step) > 1e-9 * std::max(std::abs(*step), 1e-6 * largest)) {
                return false;
            }
        }
    }
    return step.has_value();
}

}  // namespace

Deterministic withOf(const CheckRequest& options) {
    return options.with == "none"    ? Deterministic::None
           : options.with == "trend" ? Deterministic::Trend
                                     : Deterministic::Constant;
}

LagRule ruleOf(const CheckRequest& options) {
    LagRule rule;
    rule.by = options.lags              ? LagRule::By::Fixed
              : options.lagsBy == "bic" ? LagRule::By::Bic
                                        : LagRule::By::Aic;
    rule.lags = options.lags.value_or(0);
    return rule;
}

std::string seriesProblem(const CheckInput& in) {
    if (in.design.layout == Layout::Kind::CrossSection) {
        return "Rows of a cross-section have no order. Say in Data that a row is a moment if it is "
               "one.";
    }
    if (in.design.layout == Layout::Kind::Panel) {
        return "Rows of a panel are many short series: ‘units that wander’ asks them together.";
    }
    if (in.design.moments.empty()) {
        return "The moments of the series are no whole steps, so nobody knows which rows are "
               "neighbours.";
    }
    std::vector<std::int64_t> moments = in.design.moments;
    std::sort(moments.begin(), moments.end());
    if (std::adjacent_find(moments.begin(), moments.end()) != moments.end()) {
        return "Several rows stand at one moment: a series has one.";
    }
    return {};
}

std::vector<std::pair<const DesignTerm*, Index>> quantities(const Design& raw) {
    std::vector<std::pair<const DesignTerm*, Index>> out;
    for (const DesignTerm& term : raw.terms) {
        if (term.columns.size() == 1 && !term.groups && !term.yesNo && !term.isProduct &&
            !term.added && !isSwitch(raw.X.col(term.columns.front()))) {
            out.emplace_back(&term, term.columns.front());
        }
    }
    return out;
}

bool isPastOf(const std::string& term, const std::string& outcome) {
    return term == "lag(" + outcome + ")" || term.starts_with("lag(" + outcome + ",");
}

Wandering seriesOf(const CheckInput& in) {
    const Design& raw = rawOf(in);
    Wandering out;
    out.with = withOf(in.options);
    out.rule = ruleOf(in.options);
    out.series.push_back({raw.outcome, runsOf(valuesOf(raw.y), raw.moments), {}});
    for (const auto& [term, column] : quantities(raw)) {
        SeriesRuns runs = runsOf(valuesOf(raw.X.col(column)), raw.moments);
        if (isStraight(runs)) {
            out.trendHeld = true;
        } else {
            out.pastHeld = out.pastHeld || isPastOf(term->name, raw.outcome);
            out.series.push_back({term->name, std::move(runs), {}});
        }
    }
    return out;
}

void askOutcome(Wandering& seen) {
    Followed& outcome = seen.series.front();
    if (auto found = unitRootTest(outcome.runs, seen.with, seen.rule)) {
        outcome.root = *found;
    }
}

void askAll(const CheckInput& in, Wandering& seen) {
    for (Followed& one : seen.series) {
        if (one.root || in.job.stopped()) {
            continue;
        }
        if (auto found = unitRootTest(one.runs, seen.with, seen.rule)) {
            one.root = *found;
        }
    }
}

VectorXd leftOver(const CheckInput& in) {
    const Design& raw = rawOf(in);
    VectorXd e = raw.y;
    for (const Coefficient& c : in.fit.coefficients) {
        e -= c.estimate * raw.X.col(c.column);
    }
    return e;
}

std::optional<UnitRootTest> residualRoot(const CheckInput& in, const Wandering& seen) {
    const int columns = 1 + static_cast<int>(seen.wanderers(in.alpha).size());
    if (columns < 2 || columns > kMostTrending || seen.pastHeld) {
        return std::nullopt;
    }
    const Deterministic with = seen.trendHeld || seen.with == Deterministic::Trend
                                   ? Deterministic::Trend
                                   : Deterministic::Constant;
    const auto found =
        unitRootTest(runsOf(valuesOf(leftOver(in)), rawOf(in).moments), with, seen.rule, columns);
    return found && found->p ? std::optional(*found) : std::nullopt;
}

bool isShared(const CheckInput& in, const Wandering& seen) {
    if (!seen.series.front().wanders(in.alpha)) {
        return false;
    }
    const auto left = residualRoot(in, seen);
    return left && *left->p < in.alpha;
}

}  // namespace rapporto
