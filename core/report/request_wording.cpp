// Readings of what is asked beside the fit: predictions, hypotheses, turning points, bends.
#include "core/report/request_wording.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/model/likelihood.h"
#include "core/model/multilevel.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

std::string level(double alpha) { return shortNumber(100.0 * (1.0 - alpha)) + " %"; }

std::string unitOf(const Answer& answer) {
    return answer.design->outcomeUnit.empty() ? "" : " " + answer.design->outcomeUnit;
}

std::string digits(double value, double se) { return fixedNumber(value, decimalsFor(se)); }

}  // namespace

std::string scenarioText(const ScenarioMap& map, const ScenarioValues& at) {
    std::string out;
    for (const auto& [name, value] : at) {
        const ScenarioVariable* v = map.find(name);
        v = v != nullptr ? v : map.grouping(name);
        std::string shown = std::holds_alternative<double>(value)
                                ? shortNumber(std::get<double>(value), 5)
                                : std::get<std::string>(value);
        if (v != nullptr && v->yesNo() && std::holds_alternative<double>(value)) {
            shown = std::get<double>(value) == 1.0   ? "yes"
                    : std::get<double>(value) == 0.0 ? "no"
                                                     : shown;
        }
        if (v != nullptr && v->groups) {
            for (const FoundLevel& l : v->levels) {
                shown = l.value == keyText(value) ? l.label : shown;
            }
        }
        out += (out.empty() ? "" : ", ") + name + " " + shown;
    }
    return out.empty() ? "everything at its mean or base" : out;
}

std::vector<std::string> predictionReading(const Answer& answer, std::size_t i) {
    if (!answer.predictions) {
        return {"~" + answer.predictions.error().text()};
    }
    const Prediction& p = (*answer.predictions)[i];
    const std::string where = scenarioText(*answer.scenarios, p.at);
    std::vector<std::string> out;
    if (p.original) {
        const Retransformed& r = *p.original;
        out.push_back("With " + where + ", the mean of " + shownNames(answer.design->outcomeLogOf) +
                      " is **" + shortNumber(r.mean, 4) + "** (" + level(answer.alpha) + ": " +
                      shortNumber(r.low, 4) + " to " + shortNumber(r.high, 4) +
                      "); a single row lies between " + shortNumber(r.rowLow, 3) + " and " +
                      shortNumber(r.rowHigh, 3) + ".");
        out.push_back(
            "Carried back from the logarithm by smearing" +
            std::string(answer.fit->levels && p.groups.size() < answer.fit->levels->levels.size()
                            ? " (the spread of new groups counted in)"
                            : "") +
            ": the mean is " + fixedNumber(r.factor, 2) + " times exp of the predicted log, " +
            shortNumber(r.middle, 4) + ", which is the middle such row.");
    } else if (!p.shares.empty()) {
        std::string text = "With " + where + ", ";
        for (std::size_t q = 0; q < p.shares.size(); ++q) {
            const Estimate& e = p.shares[q].second;
            text += (q > 0 ? "; " : "") + p.shares[q].first + " **" + digits(e.value, e.se) +
                    "** (" + digits(e.low, e.se) + " to " + digits(e.high, e.se) + ")";
        }
        out.push_back(text + (answer.fit->likelihood ? ": probabilities of the levels." : "."));
    } else {
        const bool share = answer.fit->likelihood &&
                           answer.fit->likelihood->family->outcome == Family::Outcome::YesNo;
        const std::string row = !std::isfinite(p.rowLow) ? std::string()
                                : answer.fit->likelihood
                                    ? "; a single row lies between " + shortNumber(p.rowLow) +
                                          " and " + shortNumber(p.rowHigh)
                                    : "; a single row lies between " +
                                          digits(p.rowLow, answer.fit->statistics.sigma) + " and " +
                                          digits(p.rowHigh, answer.fit->statistics.sigma);
        out.push_back("With " + where + ", the " +
                      (share                  ? "probability of "
                       : answer.fit->quantile ? "quantile of "
                                              : "mean of ") +
                      shownNames(answer.design->outcome) + " is **" +
                      digits(p.mean.value, p.mean.se) + (share ? "" : unitOf(answer)) + "** (" +
                      level(answer.alpha) + ": " + digits(p.mean.low, p.mean.se) + " to " +
                      digits(p.mean.high, p.mean.se) + ")" + row + ".");
    }
    if (p.difference && p.original) {
        const double factor = std::exp(p.difference->value);
        out.push_back("That is **" + fixedNumber(factor, 3) + " times** the first (" +
                      fixedNumber(std::exp(p.difference->low), 3) + " to " +
                      fixedNumber(std::exp(p.difference->high), 3) + ").");
    } else if (p.difference) {
        const Estimate& d = *p.difference;
        out.push_back("Against the first it is **" + digits(d.value, d.se) + unitOf(answer) +
                      "** (" + digits(d.low, d.se) + " to " + digits(d.high, d.se) + ").");
    }
    for (const KnownGroup& group : p.groups) {
        out.push_back("~" + group.by + " " + group.group + " adds " +
                      (group.adds >= 0.0 ? "+" : "") + shortNumber(group.adds) +
                      (answer.fit->likelihood                ? " to the index"
                       : answer.design->outcomeLogOf.empty() ? ""
                                                             : " to the logarithm") +
                      ": " + plural(group.rows, "row tells", "rows tell") +
                      " of it, and what they tell is drawn to the middle.");
    }
    if (p.overGroups) {
        out.push_back("Over all groups together the mean is **" +
                      digits(p.overGroups->value, p.overGroups->se) + "** (" +
                      digits(p.overGroups->low, p.overGroups->se) + " to " +
                      digits(p.overGroups->high, p.overGroups->se) +
                      "), their spread taken as known.");
    }
    for (const std::string& warning : p.warnings) {
        out.push_back("~" + warning + ".");
    }
    if (!std::isfinite(p.rowLow) || answer.fit->likelihood) {
        return out;
    }
    out.emplace_back(
        "~The interval of a single row asks for errors of one spread and near normal; the mean’s "
        "rests on the errors of the question.");
    return out;
}

std::vector<std::string> groupReading(const Answer& answer,
                                      const std::vector<MarginalEffect>& effects) {
    std::vector<std::string> out;
    if (effects.empty()) {
        return out;
    }
    const bool points = answer.fit->likelihood &&
                        (answer.fit->likelihood->family->outcome == Family::Outcome::YesNo ||
                         !effects.front().outcome.empty());
    const double unit = points ? 100.0 : 1.0;
    for (const MarginalEffect& e : effects) {
        const double se = unit * e.effect.se;
        std::string text = "In **" + e.group + "**" + (e.level.empty() ? "" : ", " + e.level) +
                           (e.outcome.empty() ? "" : ", " + e.outcome) + ": **" +
                           digits(unit * e.effect.value, se) + (points ? " points" : "") + "** (" +
                           digits(unit * e.effect.low, se) + " to " +
                           digits(unit * e.effect.high, se) + ")";
        if (e.contrast && e.contrast->p) {
            const double width = unit * e.contrast->se;
            text += ", " + digits(std::abs(unit * e.contrast->value), width) +
                    (e.contrast->value < 0.0 ? " less" : " more") + " than in " +
                    effects.front().group + " (" + pClause(*e.contrast->p) + ")";
        }
        out.push_back(text + ".");
    }
    const bool alike = std::all_of(effects.begin(), effects.end(), [&](const MarginalEffect& e) {
        return !e.contrast || e.contrast->se <= 1e-10 * std::abs(effects.front().effect.se);
    });
    if (alike && effects.size() > 1) {
        out = {"The effect is the same in every group of " + effects.front().request.over +
               ": no term lets it differ. Add a product with it to let it."};
    }
    return out;
}

std::string hypothesisReading(const Answer& answer, std::size_t i) {
    if (!answer.hypotheses[i]) {
        return "~" + answer.hypotheses[i].error().text();
    }
    const HypothesisTest& h = *answer.hypotheses[i];
    if (!h.estimate) {
        return h.p < answer.alpha ? "The restrictions do not hold together (" + pClause(h.p) +
                                        "): data this far from them would be rare if they did."
                                  : "The data are compatible with all restrictions together (" +
                                        pClause(h.p) + "), which does not prove them.";
    }
    const std::string interval = "The left side less the right is " + digits(*h.estimate, *h.se) +
                                 " with a standard error of " + digits(*h.se, *h.se) + ". ";
    if (h.relation == "=") {
        return interval + (h.p < answer.alpha
                               ? "The two sides differ (" + pClause(h.p) + ")."
                               : "The data are compatible with equality (" + pClause(h.p) +
                                     "), and with every difference inside the interval.");
    }
    return interval +
           (h.p < answer.alpha
                ? "The claim stands: if it were not so, an estimate this far on its side "
                  "would come up with " +
                      pClause(h.p) + "."
                : "The claim is not shown (" + pClause(h.p) +
                      " one-sided). That does not show the opposite.");
}

std::string turningReading(const Answer& answer, const TurningPoint& t) {
    std::string text = "Along **" + t.of + "** the effect turns at **" + digits(t.at, t.se) + "**";
    if (t.low && !t.outside) {
        text += " (" + level(answer.alpha) + ": " + digits(*t.low, t.se) + " to " +
                digits(*t.high, t.se) + ")";
    }
    text += t.peak ? ", from rising to falling; " : ", from falling to rising; ";
    text += fixedNumber(100.0 * t.below, 0) + " % of the rows lie below it.";
    if (!t.low || t.outside) {
        text += " The square is too uncertain to say where: the interval of the turn is unbounded.";
    } else if (t.below < 0.05 || t.below > 0.95) {
        text += " Nearly all rows lie on one side: read it as a line that flattens, not as a turn.";
    }
    return text;
}

std::vector<std::string> bendReading(const Answer& answer) {
    std::vector<std::string> out;
    if (!answer.fit || !answer.fit->bent) {
        return out;
    }
    const BentLine& bent = *answer.fit->bent;
    for (std::size_t j = 0; j < bent.bends.size(); ++j) {
        const Bend& b = bent.bends[j];
        const double scale = b.se > 0.0 ? b.se : std::abs(b.at) * 0.01;
        const double slope = std::max(std::abs(b.slopeBefore), std::abs(b.slopeAfter)) * 0.01;
        out.push_back("The line bends at **" + digits(b.at, scale) + "**" +
                      (bent.fixed ? " (held there)"
                                  : " (" + level(answer.alpha) + ": " + digits(b.low, scale) +
                                        " to " + digits(b.high, scale) + ")") +
                      ": from " + digits(b.slopeBefore, slope) + " a unit of " + bent.variable +
                      " to " + digits(b.slopeAfter, slope) + ".");
    }
    out.push_back(bent.existence < answer.alpha
                      ? "A straight line is not enough: over all places the largest sign of a bend "
                        "would come up with p at most " +
                            pText(bent.existence) + " by chance."
                      : "Whether there is a bend at all is open (p at most " +
                            pText(bent.existence) + "): a straight line might do.");
    if (bent.choices.size() > 1) {
        const auto best =
            std::min_element(bent.choices.begin(), bent.choices.end(),
                             [](const auto& a, const auto& b) { return a.bic < b.bic; });
        std::string list;
        for (const BentLine::Choice& c : bent.choices) {
            list +=
                (list.empty() ? "" : ", ") + std::to_string(c.bends) + ": " + fixedNumber(c.bic, 1);
        }
        out.push_back("BIC by the number of bends: " + list + ". Least with **" +
                      plural(static_cast<std::size_t>(best->bends), "bend", "bends") + "**.");
    }
    out.emplace_back(
        "~Places that the data chose make the other intervals a little too narrow; rows next to a "
        "bend decide it.");
    return out;
}

}  // namespace rapporto
