// Do they only trend together? Levels that are kept, trends that are shared, ways out.
#include "core/base/format.h"
#include "core/checks/wandering.h"
#include "core/expression/expression.h"

#include <algorithm>
#include <cmath>
#include <numeric>
#include <set>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::VectorXd;

std::string withWords(Deterministic with) {
    return with == Deterministic::None    ? "about zero"
           : with == Deterministic::Trend ? "about a trend"
                                          : "about a level";
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

/// Changes of a series, each at its own moment; none at the first one and after a gap.
Exhibit changesAlongTime(const CheckInput& in, const VectorXd& values, const std::string& what) {
    const Exhibit levels = alongTime(in, values, "change of " + what);
    std::vector<std::int64_t> moments = rawOf(in).moments;
    std::sort(moments.begin(), moments.end());
    Exhibit e = levels;
    Exhibit::Line& line = e.lines.front();
    for (auto* list : {&e.x, &e.y, &line.x, &line.y}) {
        list->clear();
    }
    e.rows.clear();
    line.rows.clear();
    for (std::size_t i = 1; i < levels.y.size(); ++i) {
        if (moments[i] != moments[i - 1] + 1) {
            continue;
        }
        e.x.push_back(levels.x[i]);
        e.y.push_back(levels.y[i] - levels.y[i - 1]);
        e.rows.push_back(levels.rows[i]);
        line.rows.push_back(levels.lines.front().rows[i]);
    }
    line.x = e.x;
    line.y = e.y;
    e.zeroLine = true;
    e.subtitle = "n = " + countText(e.x.size());
    return e;
}

/// “change(x)” and “lag(x)” of an expression.
std::string changeOf(const std::string& expression) { return "change(" + expression + ")"; }

std::string lagOf(const std::string& expression) { return "lag(" + expression + ")"; }

}  // namespace

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

namespace {

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
    Wandering seen = seriesOf(in);
    askAll(in, seen);
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
    Wandering seen = seriesOf(in);
    seen.rule = LagRule{};  // The lags asked for are those of the long-run variance.
    askOutcome(seen);
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
    if (departs) {
        askAll(in, seen);
    }
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
    Wandering seen = seriesOf(in);
    askOutcome(seen);
    const Followed& outcome = seen.series.front();
    if (!outcome.root || !outcome.root->p) {
        return notApplicable("The series is too short to tell whether it wanders.");
    }
    if (!outcome.wanders(in.alpha)) {
        return notApplicable(outcome.name +
                             " comes back by itself: there is no trend of it to be shared.");
    }
    askAll(in, seen);
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

}  // namespace rapporto
