// Units that wander: whether a panel’s outcome comes back anywhere.
#include "core/base/format.h"
#include "core/checks/wandering.h"

#include <algorithm>
#include <map>
#include <set>

namespace rapporto {

using Eigen::Index;

namespace {

/// The t of each unit in order, their mean as a line.
Exhibit unitsInOrder(const PanelUnitRootTest& found, bool wanders) {
    Exhibit e;
    e.title = wanders ? "Units do not come back" : "Some units come back";
    e.xTitle = "t of a unit, in order";
    e.yTitle = "Dickey–Fuller t";
    std::vector<double> sorted = found.ts;
    std::sort(sorted.begin(), sorted.end());
    for (std::size_t k = 0; k < sorted.size(); ++k) {
        e.x.push_back(static_cast<double>(k + 1));
        e.y.push_back(sorted[k]);
    }
    e.lines.push_back({.name = "mean",
                       .x = {1.0, static_cast<double>(sorted.size())},
                       .y = {found.meanT, found.meanT},
                       .dashed = true});
    e.subtitle = "a point a unit · n = " + countText(sorted.size());
    return e;
}

}  // namespace

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
    result.exhibit = unitsInOrder(*found, wanders);
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
