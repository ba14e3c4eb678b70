#include "core/report/defence_wording.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/expression/expression.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

std::string percent(double share) { return shortNumber(100.0 * share, 3) + " %"; }

std::string whole(double count) { return countText(static_cast<std::size_t>(count)); }

/// The law of the errors and the lots come to different ends.
bool disagree(const ByLot& found, double alpha) {
    return found.lawP && (*found.lawP < alpha) != (found.p < alpha);
}

std::string intervalOfLots(const ByLot& found, double alpha) {
    const double spread =
        found.low && found.high ? (*found.high - *found.low) / 4.0 : std::abs(found.estimate) / 4.0;
    const auto number = [&](double x) { return fixedNumber(x, decimalsFor(spread), true); };
    if (!found.low && !found.high) {
        return "There are too few lots for an interval of " + percentLevel(alpha) +
               ": none of them rejects anything.";
    }
    const std::string from = found.low ? "from **" + number(*found.low) + "**" : "from below";
    const std::string to = found.high ? " to **" + number(*found.high) + "**" : " upwards";
    return "Effects " + from + to + ", the same for everybody, are in keeping with the lots (" +
           percentLevel(alpha) + ").";
}

std::string seenEitherWay(const AlwaysSeen& found, const std::string& of, double alpha) {
    const auto number = [&](double x) {
        return fixedNumber(x, decimalsFor(std::max(found.lower.se, found.upper.se)), true);
    };
    std::string out = "The outcome is seen in **" + percent(found.seenWith) +
                      "** of the rows with " + of + " and in **" + percent(found.seenWithout) +
                      "** of those without (" + pClause(found.p) + ")";
    if (found.trimmed == 0.0) {
        return out + ".";
    }
    return out +
           ". On those who are seen either way its effect, without the other terms, lies between "
           "**" +
           number(found.lower.estimate) + "** and **" + number(found.upper.estimate) +
           "** (with what chance adds, " + number(found.low) + " to " + number(found.high) + ", " +
           percentLevel(alpha) + "), if " + of + " moves everybody’s being seen to one side.";
}

bool isAbout(const std::string& of, const std::string& term) {
    return of == term || canonicalText(of) == term || term.starts_with(of + "=");
}

}  // namespace

std::vector<std::string> lotsReading(const ByLot& found, const LotRequest& request, double alpha) {
    std::string who = "among " + found.drawn;
    if (!request.within.empty()) {
        who += ", within " + joinedNames(request.within);
    }
    const std::string lots = found.exact ? "all " + whole(found.draws) + " lots there are"
                                         : whole(found.draws) + " lots";
    std::vector<std::string> out;
    out.push_back("Were " + found.of + " drawn by lot " + who +
                  " and did nothing to anybody, as much as here would be seen in **" +
                  (found.p < 0.001 ? "under 0.1 %" : percent(found.p)) + "** of " + lots + " (" +
                  pClause(found.p) + ").");
    if (!found.joint) {
        out.push_back(intervalOfLots(found, alpha));
    }
    if (disagree(found, alpha)) {
        out.push_back("The errors of the question say otherwise (" + pClause(*found.lawP) +
                      "): they rest on a law for many rows, the lots on the drawing alone. Where "
                      "few rows or groups differ, trust the lots.");
    }
    out.emplace_back(
        "Lots speak of chance alone; whether the cause was as good as drawn by lot is "
        "known from how it came about.");
    return out;
}

std::vector<std::string> worstCasesReading(const WorstCases& found, double alpha) {
    const double se = std::max(found.lower.se, found.upper.se);
    const auto number = [&](double x) { return fixedNumber(x, decimalsFor(se), true); };
    std::vector<std::string> out;
    const bool apart = found.low > 0.0 || found.high < 0.0;
    const bool sure = found.lower.estimate > 0.0 || found.upper.estimate < 0.0;
    out.push_back("**" + countText(found.unseen) + "** of " + countText(found.rows) +
                  " rows with every term have no outcome. Whatever it was between " +
                  shortNumber(found.from) + " and " + shortNumber(found.to) +
                  (found.asSeen ? " (the smallest and the largest seen)" : "") +
                  ", the effect of " + found.of + " lies between **" +
                  number(found.lower.estimate) + "** and **" + number(found.upper.estimate) +
                  "** (with what chance adds, " + number(found.low) + " to " + number(found.high) +
                  ", " + percentLevel(alpha) + "): " +
                  (apart  ? "its sign does not hang on what was not seen."
                   : sure ? "its sign holds, though not beyond chance."
                          : "what was not seen could undo it."));
    if (!found.always && !found.whyNotAlways.empty()) {
        out.push_back("Of those who are seen either way nothing is told, since " +
                      found.whyNotAlways + ".");
    }
    if (found.always) {
        out.push_back(seenEitherWay(*found.always, found.of, alpha));
    }
    return out;
}

std::string plannedReading(const Planned& found) {
    const std::string times = found.power == 0.8
                                  ? "in four samples of five"
                                  : "in " + shortNumber(100.0 * found.power, 4) + " of 100 samples";
    return "To find an effect of **" + shortNumber(found.effect) + "** of " + found.of + " " +
           times + " takes about **" + whole(found.rows) + "** rows like these" +
           (found.clusters ? " in " + whole(*found.clusters) + " groups of the same size" : "") +
           "; those at hand find it in " + shortNumber(100.0 * found.here, 3) + " of 100.";
}

std::vector<std::string> defenceReading(const Answer& answer, const std::string& term) {
    std::vector<std::string> out;
    const Question& q = answer.question;
    const auto add = [&](const std::string& title, const auto& part, const auto& words) {
        if (!part) {
            out.push_back("~" + title + ": being worked out …");
        } else if (!*part) {
            out.push_back("~" + capitalised(part->error().text()));
        } else {
            for (const std::string& one : words(**part)) {
                out.push_back(one);
            }
        }
    };
    if (!answer.defence) {
        return out;
    }
    if (q.byLot && isAbout(q.byLot->of, term)) {
        add("By lot", answer.defence->byLot,
            [&](const ByLot& found) { return lotsReading(found, *q.byLot, answer.alpha); });
    }
    if (q.worstCases && isAbout(q.worstCases->of, term)) {
        add("Worst cases", answer.defence->worstCases,
            [&](const WorstCases& found) { return worstCasesReading(found, answer.alpha); });
    }
    for (std::size_t k = 0; k < answer.defence->planned.size(); ++k) {
        const Result<Planned>& planned = answer.defence->planned[k];
        if (isAbout(q.planned[k].of, term)) {
            out.push_back(planned ? plannedReading(*planned)
                                  : "~" + capitalised(planned.error().text()));
        }
    }
    return out;
}

std::vector<std::string> defenceReading(const Answer& answer) {
    const Question& q = answer.question;
    std::vector<std::string> names;
    if (q.byLot) {
        names.push_back(q.byLot->of);
    }
    if (q.worstCases) {
        names.push_back(q.worstCases->of);
    }
    for (const PlannedRequest& one : q.planned) {
        names.push_back(one.of);
    }
    std::vector<std::string> out;
    for (const std::string& name : names) {
        for (const std::string& one : defenceReading(answer, name)) {
            if (std::find(out.begin(), out.end(), one) == out.end()) {
                out.push_back(one);
            }
        }
    }
    return out;
}

std::string defenceMethods(const Answer& answer) {
    std::string out;
    const Defence* defence = answer.defence.get();
    if (answer.leftOut && *answer.leftOut) {
        const LeftOut& found = **answer.leftOut;
        out += " What may be left out of " + found.of + " is bounded by " +
               (found.eValue ? "E-values (VanderWeele & Ding 2017)."
                : found.robustness
                    ? std::string("robustness values (Cinelli & Hazlett 2020)") +
                          (found.stability ? ", the stability of the effect (Oster 2019)" : "") +
                          (found.selection ? " and selection as on what is in (Altonji, Elder & "
                                             "Taber 2005)."
                                           : ".")
                    : "robustness values of the stages (Cinelli & Hazlett 2025).");
    }
    if (defence != nullptr && defence->byLot && *defence->byLot) {
        const ByLot& found = **defence->byLot;
        out += " " + capitalised(found.of) + " was drawn by lot among " + found.drawn + " (" +
               (found.exact ? "all " : "") + whole(found.draws) +
               " lots; Fisher 1935, Young 2019)" +
               (found.joint ? "." : ", its interval by inversion (Rosenbaum 2002).");
    }
    if (defence != nullptr && defence->worstCases && *defence->worstCases) {
        const WorstCases& found = **defence->worstCases;
        out +=
            " Bounds for outcomes not seen are by Horowitz & Manski 2000, their intervals by "
            "Imbens & Manski 2004";
        out += found.always ? "; for those seen either way by Lee 2009." : ".";
    }
    if (answer.forecast && *answer.forecast) {
        out += std::string(
                   " Moments to come are foretold with the errors of the coefficients and "
                   "of shocks to come (Lütkepohl 2005") +
               ((*answer.forecast)->echo != 0.0 ? "; Goldberger 1962)." : ").");
    }
    return out;
}

std::vector<std::string> forecastReading(const Answer& answer) {
    std::vector<std::string> out;
    if (!answer.forecast) {
        return out;
    }
    if (!*answer.forecast) {
        out.push_back("~" + capitalised(answer.forecast->error().text()));
        return out;
    }
    const Forecast& found = **answer.forecast;
    const auto place = [&](const ForecastPoint& point) {
        const double se = std::max(point.mean.se, (point.rowHigh - point.rowLow) / 8.0);
        const auto number = [&](double x) { return fixedNumber(x, decimalsFor(se), true); };
        if (point.original) {
            const Retransformed& r = *point.original;
            return "**" + shortNumber(r.mean) + "** (" + shortNumber(r.rowLow) + " to " +
                   shortNumber(r.rowHigh) + ")";
        }
        return "**" + number(point.mean.value) + "** (" + number(point.rowLow) + " to " +
               number(point.rowHigh) + ")";
    };
    const ForecastPoint& first = found.points.front();
    const ForecastPoint& last = found.points.back();
    const std::string& logged = answer.design->outcomeLogOf;
    std::string text = "Foretold for " + first.moment + ": " +
                       shownNames(logged.empty() ? answer.design->outcome : logged) + " " +
                       place(first);
    if (found.points.size() > 1) {
        text += "; for " + last.moment + ": " + place(last);
    }
    out.push_back(text + ". In brackets where it lies itself, " + percentLevel(answer.alpha) + ".");
    if (last.level) {
        out.push_back("That leads " + found.levelOf + " to **" + shortNumber(last.level->value) +
                      "** (" + shortNumber(last.levelRowLow) + " to " +
                      shortNumber(last.levelRowHigh) + ") by " + last.moment + ".");
    }
    std::string ways;
    for (const auto& [name, way] : found.goesOn) {
        ways += (ways.empty() ? "" : "; ") + name + " " + way;
    }
    if (!ways.empty()) {
        out.push_back("It rests on: " + ways + ".");
    }
    if (found.onItsPast) {
        out.emplace_back(
            "The outcome’s own past is among the terms: each moment is foretold from "
            "those foretold before it, and what is uncertain in them is carried on.");
    }
    if (found.echo != 0.0) {
        out.push_back("Of what is left at one moment **" + fixedNumber(found.echo, 2, true) +
                      "** carries over to the next.");
    }
    out.emplace_back(
        "The intervals take the equation and the terms to come as true; they know of "
        "no break: see under Checks whether it is stable.");
    for (const std::string& note : found.notes) {
        out.push_back(note);
    }
    return out;
}

}  // namespace rapporto
