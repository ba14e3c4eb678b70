// Do they only trend together? Series that wander, levels that are kept, trends that are shared.
#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/describe/unit_root.h"
#include "core/expression/expression.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>
#include <set>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::VectorXd;

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

std::string withWords(Deterministic with) {
    return with == Deterministic::None    ? "about zero"
           : with == Deterministic::Trend ? "about a trend"
                                          : "about a level";
}

/// Why no series can be followed here, or empty.
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

/// The columns of the question’s quantities, by term.
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

/// “lag(y)” of an outcome y, whatever the steps.
bool isPastOf(const std::string& term, const std::string& outcome) {
    return term == "lag(" + outcome + ")" || term.starts_with("lag(" + outcome + ",");
}

Wandering lookAt(const CheckInput& in) {
    const Design& raw = rawOf(in);
    Wandering out;
    out.with = withOf(in.options);
    out.rule = ruleOf(in.options);
    const auto follow = [&](const std::string& name, const VectorXd& column) {
        Followed one{name, runsOf(valuesOf(column), raw.moments), {}};
        auto found = in.job.stopped() ? std::nullopt
                                      : std::optional(unitRootTest(one.runs, out.with, out.rule));
        if (found && *found) {
            one.root = **found;
        }
        out.series.push_back(std::move(one));
    };
    follow(raw.outcome, raw.y);
    for (const auto& [term, column] : quantities(raw)) {
        if (isStraight(runsOf(valuesOf(raw.X.col(column)), raw.moments))) {
            out.trendHeld = true;
        } else {
            out.pastHeld = out.pastHeld || isPastOf(term->name, raw.outcome);
            follow(term->name, raw.X.col(column));
        }
    }
    return out;
}

/// What the estimates leave of the rows as they are: a fit that takes the past out leaves less.
VectorXd leftOver(const CheckInput& in) {
    const Design& raw = rawOf(in);
    VectorXd e = raw.y;
    for (const Coefficient& c : in.fit.coefficients) {
        e -= c.estimate * raw.X.col(c.column);
    }
    return e;
}

/// What the question leaves, asked for a unit root by the law of so many trending columns; nothing
/// where there is no such law, or too few rows.
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

/// The outcome and a term wander, and what the question leaves does not: the doubt is answered.
bool isShared(const CheckInput& in, const Wandering& seen) {
    if (!seen.series.front().wanders(in.alpha)) {
        return false;
    }
    const auto left = residualRoot(in, seen);
    return left && *left->p < in.alpha;
}

/// A line along time.
/// @param values  one a row of the rows as they are.
Exhibit alongTime(const CheckInput& in, const VectorXd& values, const std::string& what) {
    Exhibit e;
    const Design& raw = rawOf(in);
    std::vector<std::size_t> order(raw.moments.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::sort(order.begin(), order.end(),
              [&](std::size_t a, std::size_t b) { return raw.moments[a] < raw.moments[b]; });
    const std::string& time = in.frame.layout().time;
    e.xTitle = time;
    e.yTitle = what;
    if (const Variable* v = in.frame.variable(time); v != nullptr && v->measure == Measure::Date) {
        e.xScale = AxisScale::Date;
    }
    Exhibit::Line line;
    for (const std::size_t at : order) {
        e.x.push_back(raw.time[at]);
        e.y.push_back(values(static_cast<Index>(at)));
        e.rows.push_back(raw.rows[at]);
        line.rows.push_back(static_cast<std::uint32_t>(raw.rows[at]));
    }
    line.x = e.x;
    line.y = e.y;
    e.lines.push_back(std::move(line));
    e.pointsHidden = true;
    e.subtitle = "n = " + countText(e.x.size());
    return e;
}

/// Changes of a series, each at its own moment; the first has none.
Exhibit changesAlongTime(const CheckInput& in, const VectorXd& values, const std::string& what) {
    Exhibit e = alongTime(in, values, "change of " + what);
    for (std::size_t i = e.y.size(); i-- > 1;) {
        e.y[i] -= e.y[i - 1];
    }
    e.y.erase(e.y.begin());
    e.x.erase(e.x.begin());
    e.rows.erase(e.rows.begin());
    e.lines.front().y = e.y;
    e.lines.front().x = e.x;
    e.lines.front().rows.erase(e.lines.front().rows.begin());
    e.zeroLine = true;
    return e;
}

/// “change(x)” and “lag(x)” of an expression.
std::string changeOf(const std::string& expression) { return "change(" + expression + ")"; }

std::string lagOf(const std::string& expression) { return "lag(" + expression + ")"; }

/// The question in changes: a constant is then the drift.
void offerChanges(const CheckInput& in, const std::set<std::string>& moving, CheckResult& result) {
    Question variant = variantBase(in, "in changes");
    variant.outcome = changeOf(in.question.outcome);
    for (Term& term : variant.terms) {
        if (term.kind == Term::Kind::Expression && moving.contains(canonicalText(term.parts[0]))) {
            term.parts[0] = changeOf(term.parts[0]);
        }
    }
    result.remedies.push_back(
        {"Ask in changes", "what wanders is taken out; an effect is then what a change goes with",
         variant});
}

void offerTrend(const CheckInput& in, CheckResult& result) {
    Question variant = variantBase(in, "with a trend");
    variant.terms.push_back(Term::expression("trend()"));
    result.remedies.push_back({"Add a trend",
                               "what grows by itself stands in the model; it does not help where "
                               "series wander",
                               variant});
}

/// Changes on changes and on the levels of the moment before.
void offerErrorCorrection(const CheckInput& in, const std::set<std::string>& moving,
                          CheckResult& result) {
    Question variant = variantBase(in, "in error-correction form");
    variant.outcome = changeOf(in.question.outcome);
    std::vector<Term> before = {Term::expression(lagOf(in.question.outcome))};
    for (Term& term : variant.terms) {
        if (term.kind == Term::Kind::Expression && moving.contains(canonicalText(term.parts[0]))) {
            before.push_back(Term::expression(lagOf(term.parts[0])));
            term.parts[0] = changeOf(term.parts[0]);
        }
    }
    variant.terms.insert(variant.terms.end(), before.begin(), before.end());
    result.remedies.push_back({"Error-correction form",
                               "changes by changes and by how far the levels were apart: tells "
                               "the short run from the long",
                               variant});
}

/// The names among the terms that wander and can be changed.
std::set<std::string> movingTerms(const CheckInput& in, const Wandering& seen) {
    std::set<std::string> out;
    for (const std::string& name : seen.wanderers(in.alpha)) {
        if (!isPastOf(name, rawOf(in).outcome)) {
            out.insert(name);
        }
    }
    return out;
}

void offerWaysOut(const CheckInput& in, const Wandering& seen, CheckResult& result) {
    const auto moving = movingTerms(in, seen);
    offerChanges(in, moving, result);
    if (!moving.empty()) {
        offerErrorCorrection(in, moving, result);
    }
    offerLaggedOutcome(in, result);
    if (!seen.trendHeld) {
        offerTrend(in, result);
    }
    offerEchoTakenOut(in, result);
}

}  // namespace

CheckResult checkUnitRoot(const CheckInput& in) {
    if (const std::string problem = seriesProblem(in); !problem.empty()) {
        return notApplicable(problem);
    }
    const Wandering seen = lookAt(in);
    const Followed& outcome = seen.series.front();
    if (!outcome.root || !outcome.root->p) {
        const auto why = unitRootTest(outcome.runs, seen.with, seen.rule);
        return notApplicable(why ? "The series is too short for its law: some fifteen neighbouring "
                                   "moments are needed."
                                 : capitalised(why.error().what) + ".");
    }
    const UnitRootTest& root = *outcome.root;
    CheckResult result;
    result.statistic = root.t;
    result.statisticName = "Dickey–Fuller t";
    result.distribution = "unit root";
    result.p = root.p;
    for (const Followed& one : seen.series) {
        if (one.root && one.root->p) {
            result.details.emplace_back("t " + one.name, one.root->t);
            result.details.emplace_back("p " + one.name, *one.root->p);
            result.details.emplace_back("lags " + one.name, one.root->lags);
        }
    }
    result.headline = pClause(*root.p);
    const auto wanderers = seen.wanderers(in.alpha);
    const std::string how = "(t " + fixedNumber(root.t, 2) + " " + withWords(seen.with) + " with " +
                            plural(static_cast<std::size_t>(root.lags), "lag", "lags") + ", " +
                            pClause(*root.p) + ")";
    if (!outcome.wanders(in.alpha)) {
        result.verdict = Verdict::Fine;
        result.reading =
            outcome.name + " comes back to where it was " + how + "." +
            (wanderers.empty() ? "" : " What may wander: " + joinedNames(wanderers) + ".");
    } else {
        const bool shared = isShared(in, seen);
        result.verdict = shared ? Verdict::Noted : Verdict::Weigh;
        result.reading =
            outcome.name + " may wander: nothing says that it comes back " + how + ". " +
            (wanderers.empty()
                 ? "None of the terms does, so they cannot follow it: its changes can be asked "
                   "about."
             : shared ? "So may " + joinedNames(wanderers) +
                            ", and what they leave comes back: they share a trend."
                      : "So may " + joinedNames(wanderers) +
                            ". Series that wander seem related when they are not: see whether what "
                            "is left comes back.");
        if (!shared) {
            offerWaysOut(in, seen, result);
        }
    }
    result.exhibit = alongTime(in, rawOf(in).y, outcome.name);
    result.exhibit.title =
        result.verdict == Verdict::Fine ? "The outcome comes back" : "The outcome may wander";
    return result;
}

CheckResult checkLevelStationary(const CheckInput& in) {
    if (const std::string problem = seriesProblem(in); !problem.empty()) {
        return notApplicable(problem);
    }
    Wandering seen = lookAt(in);
    const Deterministic with =
        in.options.with == "trend" ? Deterministic::Trend : Deterministic::Constant;
    const auto outcome = levelTest(seen.series.front().runs, with, in.options.lags);
    if (!outcome) {
        return notApplicable(capitalised(outcome.error().what) + ".");
    }
    CheckResult result;
    result.statistic = outcome->statistic;
    result.statisticName = "Kwiatkowski–Phillips–Schmidt–Shin η";
    result.p = outcome->p;
    for (const Followed& one : seen.series) {
        if (const auto found = levelTest(one.runs, with, in.options.lags)) {
            result.details.emplace_back("t " + one.name, found->statistic);
            result.details.emplace_back("p " + one.name, found->p);
            result.details.emplace_back("lags " + one.name, found->lags);
        }
    }
    const std::string& name = seen.series.front().name;
    const std::string kept = with == Deterministic::Trend ? "its trend" : "its level";
    const std::string said = !outcome->atEnd     ? pClause(outcome->p)
                             : outcome->p > 0.05 ? std::string("p above .10")
                                                 : std::string("p below .01");
    const std::string how = "(η " + fixedNumber(outcome->statistic, 3) + " with " +
                            plural(static_cast<std::size_t>(outcome->lags), "lag", "lags") + ", " +
                            said + ")";
    result.headline = said;
    // The table reaches from .10 to .01: beyond its end nothing finer is known.
    const bool departs = outcome->p < in.alpha || (outcome->atEnd && outcome->p <= 0.01);
    const bool shared = departs && isShared(in, seen);
    result.verdict = !departs ? Verdict::Fine : shared ? Verdict::Noted : Verdict::Weigh;
    if (!departs) {
        result.reading = "That " + name + " keeps " + kept + " can stand " + how + ".";
        if (seen.series.front().wanders(in.alpha)) {
            result.reading +=
                " That it wanders can stand, too: a series of this length cannot "
                "tell the two apart.";
        }
    } else {
        result.reading = name + " does not keep " + kept + " " + how + "." +
                         (shared ? " The terms move with it and what they leave comes back."
                          : seen.series.front().comesBack(in.alpha)
                              ? " It comes back all the same: between the two lies a long memory, "
                                "a break or a trend."
                              : "");
        if (!shared) {
            offerWaysOut(in, seen, result);
        }
    }
    result.exhibit = changesAlongTime(in, rawOf(in).y, name);
    result.exhibit.title = "Changes of the outcome";
    return result;
}

CheckResult checkSharedTrend(const CheckInput& in) {
    if (const std::string problem = seriesProblem(in); !problem.empty()) {
        return notApplicable(problem);
    }
    const Wandering seen = lookAt(in);
    const Followed& outcome = seen.series.front();
    if (!outcome.root || !outcome.root->p) {
        return notApplicable("The series is too short to tell whether it wanders.");
    }
    if (!outcome.wanders(in.alpha)) {
        return notApplicable(outcome.name +
                             " comes back by itself: there is no trend of it to be shared.");
    }
    const auto wanderers = seen.wanderers(in.alpha);
    if (wanderers.empty()) {
        return notApplicable("None of the terms wanders, so none can share a trend with " +
                             outcome.name + ".");
    }
    if (seen.pastHeld) {
        return notApplicable(
            "The outcome’s own past stands among the terms: what carries over is "
            "in the model, and the law of the test does not hold.");
    }
    const auto left = residualRoot(in, seen);
    if (!left) {
        return notApplicable(
            static_cast<int>(wanderers.size()) >= kMostTrending
                ? "More than " + std::to_string(kMostTrending - 1) +
                      " terms wander: there is no law for so many."
                : "Too few neighbouring moments are left: some twenty are needed.");
    }
    CheckResult result;
    result.statistic = left->t;
    result.statisticName = "Engle–Granger t";
    result.distribution = "unit root";
    result.p = left->p;
    result.details = {{"trending", static_cast<double>(1 + wanderers.size())},
                      {"lags", static_cast<double>(left->lags)},
                      {"rows", static_cast<double>(left->rows)}};
    result.headline = pClause(*left->p);
    const std::string how = "(t " + fixedNumber(left->t, 2) + " for " +
                            plural(1 + wanderers.size(), "series", "series") + " with " +
                            plural(static_cast<std::size_t>(left->lags), "lag", "lags") + ", " +
                            pClause(*left->p) + ")";
    if (*left->p < in.alpha) {
        result.verdict = Verdict::Fine;
        result.reading = outcome.name + " and " + joinedNames(wanderers) +
                         " wander together: what the terms leave comes back " + how +
                         ". Their levels belong together; t and p of a regression in levels are "
                         "still not those of its tables. The error-correction form gives both.";
        offerErrorCorrection(in, movingTerms(in, seen), result);
    } else {
        result.verdict = Verdict::Fails;
        result.reading =
            outcome.name + " and " + joinedNames(wanderers) +
            " may each wander by themselves, and so may what the terms leave " + how +
            ". Series like these explain each other well when nothing ties them together: neither "
            "R² nor t can be believed before the question is asked in another form.";
        offerWaysOut(in, seen, result);
    }
    result.exhibit = alongTime(in, leftOver(in), "what is left");
    const double wide = 2.0 * in.fit.statistics.sigma;
    Exhibit& e = result.exhibit;
    e.bands.push_back(
        {"", e.x, std::vector<double>(e.x.size(), -wide), std::vector<double>(e.x.size(), wide)});
    e.zeroLine = true;
    e.subtitle += " · the band is two standard deviations";
    e.title = result.verdict == Verdict::Fine ? "What is left comes back"
                                              : "What is left may wander, too";
    return result;
}

CheckResult checkPanelUnitRoot(const CheckInput& in) {
    const Design& raw = rawOf(in);
    if (in.design.layout != Layout::Kind::Panel || raw.units.empty()) {
        return notApplicable("No row is a unit at a moment. Of one series ‘a unit root’ asks.");
    }
    std::map<std::int32_t, std::pair<std::vector<double>, std::vector<std::int64_t>>> of;
    for (std::size_t i = 0; i < raw.units.size(); ++i) {
        auto& [values, moments] = of[raw.units[i]];
        values.push_back(raw.y(static_cast<Index>(i)));
        moments.push_back(raw.unitMoments[i]);
    }
    std::vector<SeriesRuns> units;
    units.reserve(of.size());
    for (const auto& [unit, series] : of) {
        units.push_back(runsOf(series.first, series.second));
    }
    const Deterministic with = withOf(in.options);
    const auto found = panelUnitRootTest(units, with, ruleOf(in.options));
    if (!found) {
        return notApplicable(capitalised(found.error().what) +
                             ": some fifteen neighbouring "
                             "moments a unit are needed.");
    }
    CheckResult result;
    result.statistic = found->w;
    result.statisticName = "Im–Pesaran–Shin W";
    result.distribution = "normal";
    result.p = found->p;
    result.details = {{"mean t", found->meanT},
                      {"fisher", found->fisher},
                      {"fisher df", 2.0 * static_cast<double>(found->units)},
                      {"fisher p", found->fisherP},
                      {"units", static_cast<double>(found->units)},
                      {"units without", static_cast<double>(found->without)}};
    result.headline = pClause(found->p);
    const bool wanders = found->p >= in.alpha;
    result.verdict = wanders ? Verdict::Weigh : Verdict::Fine;
    result.reading =
        (wanders ? "In no unit does anything say that " + raw.outcome + " comes back "
                 : raw.outcome + " comes back in some of the units at least ") +
        "(mean t " + fixedNumber(found->meanT, 2) + " of " + plural(found->units, "unit", "units") +
        ", W " + fixedNumber(found->w, 2) + ", " + pClause(found->p) + "; by the units’ own p " +
        pClause(found->fisherP) + ")." +
        (found->without > 0
             ? " " + plural(found->without, "unit is", "units are") + " too short to be asked."
             : "") +
        (wanders ? " Levels that wander seem related when they are not: changes within units, or "
                   "the outcome’s own past, say more."
                 : " Units are taken as unrelated: what they share at a moment makes p too small.");
    constexpr double kShort = 60.0;  // Moments a unit, on average; see docs/methods.md.
    const double moments = static_cast<double>(raw.units.size()) / static_cast<double>(of.size());
    if (!wanders && !in.options.lags && moments < kShort) {
        result.reading +=
            " Lags were chosen unit by unit, which makes p too small in series as "
            "short as these: ask with a number of lags to be sure.";
    }
    Exhibit& e = result.exhibit;
    e.title = wanders ? "Units do not come back" : "Some units come back";
    e.xTitle = "t of a unit, in order";
    e.yTitle = "Dickey–Fuller t";
    std::vector<double> sorted = found->ts;
    std::sort(sorted.begin(), sorted.end());
    for (std::size_t k = 0; k < sorted.size(); ++k) {
        e.x.push_back(static_cast<double>(k + 1));
        e.y.push_back(sorted[k]);
    }
    e.lines.push_back({.name = "mean",
                       .x = {1.0, static_cast<double>(sorted.size())},
                       .y = {found->meanT, found->meanT},
                       .dashed = true});
    e.subtitle = "a point a unit · n = " + countText(sorted.size());
    if (wanders) {
        std::set<std::string> moving;
        for (const auto& [term, column] : quantities(raw)) {
            if (!isPastOf(term->name, raw.outcome)) {
                moving.insert(term->name);
            }
        }
        offerChanges(in, moving, result);
    }
    return result;
}

}  // namespace rapporto
