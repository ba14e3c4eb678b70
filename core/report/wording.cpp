#include "core/report/wording.h"

#include "core/base/format.h"
#include "core/describe/summary.h"
#include "core/describe/survey_mean.h"
#include "core/model/event_study.h"
#include "core/model/likelihood.h"
#include "core/model/long_run.h"
#include "core/model/multilevel.h"
#include "core/model/outcome_models.h"
#include "core/model/quantile.h"
#include "core/model/response.h"
#include "core/model/smallest_seen.h"
#include "core/numerics/distributions.h"
#include "core/paths/trace.h"
#include "core/paths/trace_kind.h"
#include "core/report/assumptions.h"
#include "core/report/cause_reading.h"
#include "core/report/defence_wording.h"
#include "core/report/left_out_wording.h"
#include "core/report/left_wording.h"
#include "core/report/missing_wording.h"
#include "core/report/request_wording.h"
#include "core/report/term_choice_picture.h"
#include "core/study/model_comparison.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <set>

namespace rapporto {
namespace {

/// 100(e^b − 1) with decimals that its interval needs.
std::string percent(double b, double se) {
    const double value = 100.0 * std::expm1(b);
    return fixedNumber(value, std::clamp(decimalsFor(100.0 * std::exp(b) * se), 0, 3)) + " %";
}

/// The same without its sign, which a word tells.
std::string percentSize(double b, double se) {
    std::string text = percent(b, se);
    const std::string minus = "−";
    return text.starts_with(minus) ? text.substr(minus.size()) : text;
}

std::string withUnit(const std::string& number, const std::string& unit) {
    return unit.empty() ? number : number + " " + unit;
}

std::string pSentence(double p) {
    const double share = p * 1000.0;
    const std::string often = share < 1.0 ? "in fewer than 1 sample in 1 000"
                              : p < 0.1
                                  ? "in about " + fixedNumber(share, 0) + " samples in 1 000"
                                  : "in about " + fixedNumber(100.0 * p, 0) + " samples in 100";
    return "If there were no difference, one at least this large would turn up " + often + " (" +
           pClause(p) + ").";
}

/// Other columns through which the same variables enter.
bool entersElsewhere(const Design& design, std::size_t term) {
    const auto& own = design.terms[term].names;
    for (std::size_t t = 0; t < design.terms.size(); ++t) {
        if (t == term) {
            continue;
        }
        for (const auto& name : own) {
            if (design.terms[t].names.contains(name)) {
                return true;
            }
        }
    }
    return false;
}

std::string among(const Design& design, int term) {
    return design.terms.size() > 1 && term >= 0 ? "among rows alike in the other terms, " : "";
}

/// “is higher by …” with its interval, for a step in the term.
std::string difference(const Answer& answer, const Coefficient& c) {
    const Design& design = *answer.design;
    const int decimals = decimalsFor(c.se);
    const std::string level = percentLevel(answer.alpha);
    const std::string direction = c.estimate < 0.0 ? "lower" : "higher";
    const std::string whose = answer.fit->quantile && c.equation.starts_with("quantile ")
                                  ? (c.equation == "quantile 0.5" ? std::string("the median of ")
                                                                  : "the " + c.equation + " of ")
                                  : std::string();
    if (!design.outcomeLogOf.empty()) {
        return fmt::format("{} is **{} {}** ({}: {} to {})", whose + design.outcomeLogOf,
                           percentSize(c.estimate, c.se), direction, level, percent(c.low, c.se),
                           percent(c.high, c.se));
    }
    const std::string unit = design.outcomeUnit;
    if (design.outcomeYesNo) {
        return fmt::format("the share with {} is **{} points {}** ({}: {} to {})",
                           design.outcomeLabel,
                           fixedNumber(100.0 * std::abs(c.estimate), std::max(decimals - 2, 0)),
                           direction, level, fixedNumber(100.0 * c.low, std::max(decimals - 2, 0)),
                           fixedNumber(100.0 * c.high, std::max(decimals - 2, 0)));
    }
    return fmt::format("{} is **{} {}** ({}: {} to {})", whose + design.outcomeLabel,
                       withUnit(fixedNumber(std::abs(c.estimate), decimals), unit), direction,
                       level, fixedNumber(c.low, decimals), fixedNumber(c.high, decimals));
}

std::string elasticity(const Answer& answer, const Coefficient& c, const DesignTerm& term) {
    const Design& design = *answer.design;
    const std::string level = percentLevel(answer.alpha);
    const int decimals = decimalsFor(c.se);
    if (!design.outcomeLogOf.empty()) {
        return fmt::format("One per cent more {} goes with **{} %** {} {} ({}: {} to {}).",
                           term.logOf, fixedNumber(std::abs(c.estimate), decimals),
                           c.estimate < 0.0 ? "less" : "more", design.outcomeLogOf, level,
                           fixedNumber(c.low, decimals), fixedNumber(c.high, decimals));
    }
    return fmt::format("Ten per cent more {} goes with a {} that is **{} {}** ({}: {} to {}).",
                       term.logOf, design.outcomeLabel,
                       withUnit(fixedNumber(std::abs(c.estimate) * std::log(1.1), decimals + 1),
                                design.outcomeUnit),
                       c.estimate < 0.0 ? "lower" : "higher", level,
                       fixedNumber(c.low * std::log(1.1), decimals + 1),
                       fixedNumber(c.high * std::log(1.1), decimals + 1));
}

std::string capital(std::string text) {
    if (!text.empty() && text.front() >= 'a' && text.front() <= 'z') {
        text.front() = static_cast<char>(text.front() - 'a' + 'A');
    }
    return text;
}

}  // namespace

namespace {

/// A coefficient of a likelihood in words: a ratio of rates or odds where its index is a logarithm.
std::string likelihoodEffect(const Answer& answer, const Coefficient& c, const DesignTerm& term) {
    const Family& family = *answer.fit->likelihood->family;
    const Design& design = *answer.design;
    const std::string step = term.groups  ? "in " + c.label + " "
                             : term.yesNo ? "where " + term.label + " is yes, "
                             : !term.logOf.empty()
                                 ? "for each step of one in ln(" + term.logOf + ") "
                                 : "for each further " +
                                       (term.unit.empty() ? "step" : "unit (" + term.unit + ")") +
                                       " of " + term.label + ", ";
    const std::string against = term.groups ? " than in " + term.base : std::string();
    const bool groups = family.outcome == Family::Outcome::Groups && design.levelNames.size() > 1;
    const std::string what =
        groups ? "the odds of " + design.levelNames[1] + " against " + design.levelNames[0]
        : *family.ratio.before == 0
            ? std::string()
            : family.ratio.before + (family.ratioOfLabel ? design.outcomeLabel : design.outcome) +
                  family.ratio.after;
    const std::string start = capital(among(design, c.designTerm));
    if (*family.latent != 0) {
        const int digits = decimalsFor(c.se);
        return start + step + design.outcomeLabel + family.latent + " is **" +
               fixedNumber(std::abs(c.estimate), digits) +
               (c.estimate < 0.0 ? " lower" : " higher") + "**" + against + " (" +
               percentLevel(answer.alpha) + ": " + fixedNumber(c.low, digits) + " to " +
               fixedNumber(c.high, digits) + ").";
    }
    if (what.empty()) {
        return start + step + "the index behind " + design.outcome + " is **" +
               fixedNumber(std::abs(c.estimate), decimalsFor(c.se)) +
               (c.estimate < 0.0 ? " lower" : " higher") + "**" + against + " (" +
               percentLevel(answer.alpha) + ": " + fixedNumber(c.low, decimalsFor(c.se)) + " to " +
               fixedNumber(c.high, decimalsFor(c.se)) + ").";
    }
    const double ratio = std::exp(c.estimate);
    const int digits = decimalsFor(ratio * c.se);
    const bool odds = what.find("the odds of") != std::string::npos;
    return start + step + what + (odds ? " are **" : " is **") + fixedNumber(ratio, digits) +
           " times** as high" + (term.groups ? " as in " + term.base : std::string()) + " (" +
           percentLevel(answer.alpha) + ": " + fixedNumber(std::exp(c.low), digits) + " to " +
           fixedNumber(std::exp(c.high), digits) + ").";
}

/// What that means on the outcome’s own scale, on average over the rows.
std::string onTheOutcome(const Answer& answer, const Coefficient& c) {
    const Family::Outcome kind = answer.fit->likelihood->family->outcome;
    // Of several sets these rows are those of one: effects that are asked for are pooled.
    const bool told = kind == Family::Outcome::Count || kind == Family::Outcome::YesNo ||
                      kind == Family::Outcome::Share;
    if (!told || answer.rows.used > 200000 || answer.fit->pooled) {
        return {};
    }
    for (const Coefficient& own : columnEffects(*answer.design, *answer.fit, answer.alpha)) {
        if (own.column == c.column) {
            const bool points = kind != Family::Outcome::Count;
            const double unit = points ? 100.0 : 1.0;
            const int digits = decimalsFor(unit * own.se);
            return std::string("On average over the rows") +
                   (answer.fit->levels ? ", in a group at the middle," : "") + " that is **" +
                   fixedNumber(unit * std::abs(own.estimate), digits) + (points ? " points" : "") +
                   (own.estimate < 0.0 ? " less" : " more") + "** (" +
                   fixedNumber(unit * own.low, digits) + " to " +
                   fixedNumber(unit * own.high, digits) + ").";
        }
    }
    return {};
}

/// An effect at a distance from a change.
std::string placeReading(const Answer& answer, const Coefficient& c) {
    const EventFit& event = *answer.fit->event;
    std::string text = "At " + c.term;
    for (const EventFit::Place& place : event.places) {
        if (place.estimate == c.estimate && place.se == c.se && !place.reference) {
            const auto far = static_cast<std::size_t>(std::abs(place.at));
            text = place.at == 0
                       ? "At the moment " + event.variable + " is switched on"
                       : plural(far, "moment", "moments") + (place.open ? " or more " : " ") +
                             (place.at < 0 ? "before " : "after ") + event.variable +
                             " is switched on";
        }
    }
    return text + ", " + difference(answer, c) +
           " than at the moment before the change, held against units that do not change then.";
}

}  // namespace

namespace {

/// What a step that stays comes to in the end.
std::string longRunText(const Answer& answer, const LongRunEffect& far) {
    const int decimals = decimalsFor(far.se);
    return "Carried on by the outcome’s own past, a step of " + far.of + " that stays comes to **" +
           fixedNumber(far.estimate, decimals, true) + "** (" + percentLevel(answer.alpha) + ": " +
           fixedNumber(far.low, decimals, true) + " to " + fixedNumber(far.high, decimals, true) +
           ") in the long run." +
           (far.loose ? " So little is lost from one moment to the next that this interval cannot "
                        "be trusted."
                      : "");
}

/// How small an effect this design would still have found.
std::string seenText(const Answer& answer, const Coefficient& c) {
    const auto seen = smallestSeen(c, answer.alpha);
    if (!seen) {
        return {};
    }
    const std::string in = effectsIn(*answer.fit);
    return " Rows like these find an effect of **" + fixedNumber(*seen, decimalsFor(c.se), true) +
           "**" +
           (in != "the outcome"                    ? " in " + in
            : !answer.design->outcomeLogOf.empty() ? " in logs"
                                                   : std::string()) +
           " or more in four samples of five; a smaller one may be there unseen.";
}

}  // namespace

std::vector<std::string> effectReading(const Answer& answer, std::size_t coefficient) {
    std::vector<std::string> out;
    if (!answer.fit || coefficient >= answer.fit->coefficients.size()) {
        return out;
    }
    const Design& design = *answer.design;
    const Coefficient& c = answer.fit->coefficients[coefficient];
    if (c.designTerm < 0 && design.terms.empty() && design.effects.empty() &&
        !answer.fit->likelihood && !answer.fit->quantile && !answer.fit->robust) {
        const int digits = decimalsFor(c.se);
        out.push_back("With a constant alone the question asks for a mean: that of " +
                      design.outcome + " is **" + fixedNumber(c.estimate, digits) + "**" +
                      (design.outcomeUnit.empty() ? "" : " " + design.outcomeUnit) +
                      (std::isnan(c.low)
                           ? std::string()
                           : " (" + percentLevel(answer.alpha) + ": " + fixedNumber(c.low, digits) +
                                 " to " + fixedNumber(c.high, digits) + ")") +
                      ". Add a term to ask what it goes with.");
        return out;
    }
    if (c.designTerm < 0) {
        out.push_back(
            "The constant is where the fit meets **all terms at zero** and all groups at their "
            "base: " +
            fixedNumber(c.estimate, decimalsFor(c.se)) +
            (design.outcomeUnit.empty() ? "" : " " + design.outcomeUnit) + ".");
        out.emplace_back(
            "It is rarely a row that exists; read it only where zero means something for every "
            "term.");
        return out;
    }
    const auto t = static_cast<std::size_t>(c.designTerm);
    const DesignTerm& term = design.terms[t];
    const bool shared = entersElsewhere(design, t);
    if (answer.fit->event && t == 0) {
        out.push_back(placeReading(answer, c));
    } else if (answer.fit->likelihood) {
        out.push_back(likelihoodEffect(answer, c, term));
        if (!shared) {
            if (const std::string own = onTheOutcome(answer, c); !own.empty()) {
                out.push_back(own);
            }
        }
    } else if (shared && !term.groups) {
        out.push_back(capital(among(design, c.designTerm)) + "the coefficient of " + c.term +
                      " is **" + fixedNumber(c.estimate, decimalsFor(c.se)) + "** (" +
                      percentLevel(answer.alpha) + ": " + fixedNumber(c.low, decimalsFor(c.se)) +
                      " to " + fixedNumber(c.high, decimalsFor(c.se)) + ").");
        out.emplace_back(
            "It cannot be read alone: the same variable enters through another term, so its effect "
            "differs from place to place.");
    } else if (!term.logOf.empty()) {
        out.push_back(elasticity(answer, c, term));
    } else if (term.groups) {
        out.push_back(capital(among(design, c.designTerm)) + "in " + c.label + " " +
                      difference(answer, c) + " than in " + term.base + ", the base of " +
                      term.label + ".");
    } else if (term.yesNo) {
        out.push_back(capital(among(design, c.designTerm)) + "where " + term.label + " is yes, " +
                      difference(answer, c) + " than where it is no.");
    } else if (term.isProduct) {
        out.push_back("For each step in one part, the effect of the other part of " + c.term +
                      " changes by **" + fixedNumber(c.estimate, decimalsFor(c.se)) + "** (" +
                      percentLevel(answer.alpha) + ": " + fixedNumber(c.low, decimalsFor(c.se)) +
                      " to " + fixedNumber(c.high, decimalsFor(c.se)) + ").");
    } else {
        out.push_back(capital(among(design, c.designTerm)) + "for each further " +
                      (term.unit.empty() ? "step" : "unit (" + term.unit + ")") + " of " +
                      term.label + ", " + difference(answer, c) + ".");
    }
    if (c.p) {
        out.push_back(pSentence(*c.p));
        if (*c.p >= answer.alpha) {
            out.push_back(
                "The interval holds zero **and** everything up to its ends: this is not evidence "
                "of no effect." +
                seenText(answer, c));
        }
    } else {
        out.emplace_back("The fit is perfect, so there is no standard error and no p.");
    }
    for (const LongRunEffect& far : longRunEffects(design, *answer.fit, answer.alpha)) {
        if (far.of == withoutLag(c.term)) {
            out.push_back(longRunText(answer, far));
        }
    }
    if (answer.question.leftOut &&
        (!answer.leftOut || !*answer.leftOut || (*answer.leftOut)->of == c.term)) {
        for (std::string& words : leftOutReading(answer)) {
            out.push_back(std::move(words));
        }
    }
    for (std::string& words : defenceReading(answer, c.term)) {
        out.push_back(std::move(words));
    }
    if (c.designEffect) {
        out.push_back("Drawn as they were, the rows tell this effect with **" +
                      shortNumber(*c.designEffect, 2) +
                      " times** the variance of as many rows drawn one by one.");
    }
    std::vector<std::string> ofData;
    for (const CheckResult& r : answer.checks) {
        const Check* check = findCheck(r.id);
        if (check != nullptr && check->isOfData() && isDoubt(r.verdict) && !r.awaited &&
            !isDecided(answer.question, r.id)) {
            ofData.push_back(r.headline);
        }
    }
    if (!ofData.empty()) {
        // Before any number: whether it is one of what it seems to be of.
        out.insert(out.begin(),
                   "~The data may not be what they seem: " + joinedNames(ofData) + ". See Checks.");
    }
    for (const CheckResult& r : answer.checks) {
        const Check* check = findCheck(r.id);
        if (check != nullptr && check->has(traits::kTrendsAlone) && r.verdict == Verdict::Fails &&
            !r.awaited && !isDecided(answer.question, r.id)) {
            out.insert(out.begin(), "~These series may only trend together (" + r.headline +
                                        "): neither this effect nor its p can be believed in "
                                        "levels. See Checks.");
        }
    }
    // By what the tests of it say together, as everywhere.
    const auto doubts = openDoubts(answer);
    const bool uneven = std::any_of(doubts.begin(), doubts.end(), [](const GroupVerdict& one) {
        return one.worst == Verdict::Fails && findCheck(one.ids.front())->has(traits::kOfSpread);
    });
    if (uneven) {
        out.emplace_back(
            "~The spread of the errors is uneven and the errors here are classical: the interval "
            "and p are in doubt. See Checks.");
    }
    if (term.endogenous && answer.fit->instrumented) {
        for (const Coefficient& least : answer.fit->instrumented->leastSquares) {
            if (least.column == c.column) {
                const int digits = decimalsFor(least.se);
                out.push_back("Least squares says " + fixedNumber(least.estimate, digits) + " (" +
                              fixedNumber(least.low, digits) + " to " +
                              fixedNumber(least.high, digits) +
                              "). The instruments speak only for the rows that they move.");
            }
        }
        out.emplace_back(
            "~An effect by instruments stands on what cannot be tested: that they reach the "
            "outcome through " +
            term.label + " alone.");
    } else if (answer.design->swept && !answer.design->units.empty()) {
        out.emplace_back(
            "~This compares rows that share what is held fixed. What changes along with the term "
            "within them is still mixed in.");
    } else if (term.yesNo || term.groups) {
        out.emplace_back(
            "~A difference between rows is an effect only if nothing left out moves both sides.");
    }
    for (std::string& paragraph : out) {
        paragraph = capital(std::move(paragraph));
    }
    return out;
}

std::string rowsReading(const RowCounts& rows) {
    std::string text = countText(rows.used) + " of " + countText(rows.source) + " rows";
    const auto add = [&](std::size_t count, const std::string& what) {
        text += count > 0 ? " · " + countText(count) + " " + what : "";
    };
    add(rows.missing, "missing");
    add(rows.setAside, "set aside");
    add(rows.byRule, "by rule");
    add(rows.dropped, "dropped");
    return text;
}

namespace {

/// Which terms the test of all together speaks of.
std::string jointWords(const Fit& fit) {
    std::set<std::string> equations;
    bool further = false;
    for (const Coefficient& c : fit.coefficients) {
        const bool several = c.equation.starts_with("to ") || c.equation.starts_with("quantile ");
        if (several) {
            equations.insert(c.equation);
        }
        further = further || c.equation == "zero" || c.equation == "seen" || c.equation == "first";
    }
    const bool quantiles = fit.quantile != nullptr;
    return equations.size() > 1 ? (quantiles ? "All terms at all quantiles together"
                                             : "All terms in all equations together")
           : further            ? "All terms of the outcome’s equation together"
           : fit.likelihood && fit.likelihood->penalisedRatio
               ? "All terms together, by the penalised likelihood ratio"
               : "All terms together";
}

}  // namespace

std::string explainReading(const Answer& answer) {
    if (!answer.fit) {
        return answer.refusal ? capital(answer.refusal->text()) : "";
    }
    const Fit& fit = *answer.fit;
    const FitStatistics& s = fit.statistics;
    const std::string sigma =
        withUnit(shortNumber(s.sigma, 3),
                 answer.design->outcomeLogOf.empty() ? answer.design->outcomeUnit : "");
    std::string text = outcomeReading(answer);
    const bool within = ofUnits(answer.question.method) == OfUnits::Within;
    if (!text.empty()) {
        // It says by itself what stands for a share of variation.
    } else if (fit.exact) {
        text = "The terms tell " + answer.design->outcome + " **exactly** in " +
               plural(answer.rows.used, "row", "rows") +
               ": nothing is left to judge them by, so there is no standard error, no test and no "
               "check. Is one of them the outcome in another form?";
    } else if (s.rSquared && fit.statistics.f == std::nullopt &&
               jointEffects(*answer.design, fit.coefficients).empty() && !answer.design->swept) {
        text = "Nothing explains " + answer.design->outcome + " here but a constant: in " +
               plural(answer.rows.used, "row", "rows") +
               " it scatters about it with a standard deviation of " + sigma + ".";
    } else if (s.rSquared) {
        text = (answer.design->swept && !within ? "The terms and what is held fixed account for **"
                : within                        ? "Within units the terms account for **"
                                                : "The terms account for **") +
               fixedNumber(100.0 * *s.rSquared, 1) + " %** of the variation in " +
               answer.design->outcome +
               (s.uncentred && ofUnits(answer.question.method) != OfUnits::AtRandom && !fit.echo
                    ? " about zero (there is no constant)"
                    : "") +
               " in " + plural(answer.rows.used, "row", "rows") +
               "; what is left has a standard "
               "deviation of " +
               sigma + ".";
        if (answer.design->swept && s.within && !within) {
            text += " The terms alone account for " + fixedNumber(100.0 * *s.within, 1) +
                    " % of what the effects leave.";
        }
    } else {
        text = "In " + plural(answer.rows.used, "row", "rows") +
               " the equation leaves a standard deviation of " + sigma +
               (fit.instrumented
                    ? ". A share of variation is not told where instruments move a term: it would "
                      "mean nothing."
                    : ". A share of variation is not told: the equation is one part of two.");
        if (!fit.instrumented) {
            for (const std::string& note : fit.notes) {
                text += " " + note;
            }
        }
    }
    if (!answer.question.instruments.empty() && !fit.instrumented && !fit.dynamic &&
        !fit.likelihood) {
        text += " The instruments are not used: this is least squares, to hold them against.";
    }
    text += missingReading(answer);
    text += methodReading(answer);
    if (s.f && !std::isfinite(s.f->df2)) {
        text += " " + jointWords(fit) + ": chi-square(" + shortNumber(s.f->df1) +
                ") = " + shortNumber(s.f->value * s.f->df1, 3) + ", " + pClause(s.f->p) + ".";
    } else if (s.f) {
        text += " " + jointWords(fit) + ": F(" + shortNumber(s.f->df1) + ", " +
                shortNumber(s.f->df2) + ") = " + shortNumber(s.f->value, 3) + ", " +
                pClause(s.f->p) + ".";
    }
    // Few clusters, lonely strata, repairs: what stands behind the semicolon is a caution.
    if (fit.errorNote.find(';') != std::string::npos) {
        text += " Errors stand on " + fit.errorNote + ".";
    }
    for (const DroppedTerm& d : fit.dropped) {
        text += " " + (d.name.starts_with("the ") ? capital(d.name) : d.name) +
                " was left out: it " + d.reason + ".";
    }
    for (const auto& warning : answer.design->warnings) {
        text += " " + warning;
    }
    if (const std::string warning = choiceWarning(answer.question); !warning.empty()) {
        text += " **" + warning + "**";
    }
    std::string doubts;
    std::size_t count = 0;
    for (const GroupVerdict& group : openDoubts(answer)) {
        doubts +=
            (doubts.empty() ? " " : "; ") + group.group + " (" + joinedNames(group.names) + ")";
        ++count;
    }
    if (count > 0) {
        text += " **" + plural(count, "doubt remains", "doubts remain") + "**:" + doubts + ".";
    }
    return text;
}

namespace {

std::string namesOf(const std::vector<Term>& terms) {
    std::vector<std::string> names;
    for (const Term& term : terms) {
        names.push_back(term.shown());
    }
    return joinedNames(names);
}

/// What is held fixed, and what moves what.
std::string heldText(const Question& q) {
    std::string text;
    if (!q.fixedEffects.empty()) {
        text += " holding fixed " + joinedNames(q.fixedEffects);
    }
    if (!q.ownSlopes.empty()) {
        text += (q.fixedEffects.empty() ? " holding fixed" : " and") +
                std::string(" own slopes in ") + joinedNames(q.ownSlopes);
    }
    if (!q.endogenous.empty()) {
        text += " where " + namesOf(q.endogenous) + " is moved by " +
                (!q.instruments.empty()                ? namesOf(q.instruments)
                 : hasTrait(q.method, trait::kOwnPast) ? "its own past"
                                                       : "nothing yet");
    }
    return text;
}

}  // namespace

std::string explainSentence(const Question& q) {
    std::string text = "Explain " + q.outcome;
    std::string with;
    for (const Term& term : q.terms) {
        with += term.muted ? "" : (with.empty() ? " with " : ", ") + term.shown();
    }
    text += with + heldText(q);
    if (!q.settings.zeroTerms.empty()) {
        text += (hasTrait(q.method, trait::kUnseen) ? ", seen by " : ", zeros by ") +
                joinedNames(q.settings.zeroTerms);
    }
    text += " by " + methodText(q);
    if (!q.exposure.empty()) {
        text += " per " + q.exposure;
    }
    if (!q.offset.empty()) {
        text += " with offset " + q.offset;
    }
    text += " · errors " + q.errors.shown();
    if (const std::string missing = missingText(q); !missing.empty()) {
        text += " · " + missing;
    }
    if (q.weightKind != WeightKind::None) {
        text += " · weighted by " + q.weight + " (" + weightName(q.weightKind) + ")";
    }
    if (!q.where.empty()) {
        text += " · among " + q.where;
    }
    if (!q.without.empty()) {
        text += " · without " + plural(q.without.size(), "row", "rows");
    }
    return text + (q.intercept ? "" : " · no constant");
}

namespace {

bool isEffect(const Coefficient& c) {
    return c.designTerm >= 0 ||
           (c.term != "(constant)" && (c.equation == "zero" || c.equation == "seen" ||
                                       c.equation == "first" || c.equation.starts_with("to ")));
}

/// An equation beside the main one, with what its effects are counted in.
std::string furtherEquation(const Fit& fit, const std::string& equation) {
    if (equation == "zero") {
        return fit.likelihood && fit.likelihood->family->zeros == Family::Zeros::Hurdle
                   ? "any at all, log odds"
                   : "always zero, log odds";
    }
    return equation == "seen" ? "whether seen, probit index" : equation;
}

}  // namespace

std::vector<ComparedEffect> comparedEffects(const Fit& fit) {
    std::vector<ComparedEffect> out;
    bool alone = true;
    for (const Coefficient& c : fit.coefficients) {
        if (isEffect(c)) {
            out.push_back({{c.term, c.equation}, &c});
            alone = alone && c.equation == out.front().row.equation;
        }
    }
    for (ComparedEffect& one : out) {
        one.row.equation = alone || one.row.equation == "main"
                               ? std::string()
                               : furtherEquation(fit, one.row.equation);
    }
    return out;
}

std::vector<ComparedEffect> comparedEffects(const Answer& answer) {
    if (answer.fit) {
        return comparedEffects(*answer.fit);
    }
    std::vector<ComparedEffect> out;
    if (answer.trace) {
        const auto& effects = answer.trace->effects;
        for (std::size_t k = 0; k < effects.size(); ++k) {
            // One way alone is its own sum.
            const auto ways =
                std::count_if(effects.begin(), effects.end(), [&](const TraceEffect& one) {
                    return one.from == effects[k].from && one.to == effects[k].to &&
                           one.at == effects[k].at && one.kind == effects[k].kind &&
                           !one.through.empty();
                });
            const Coefficient& row = answer.trace->effectRows[k];
            if (ways != 1 || !effects[k].through.empty()) {
                out.push_back({{row.term, row.equation}, &row});
            }
        }
    }
    return out;
}

std::string effectAxis(const Answer& answer) {
    return answer.fit ? answer.design->outcome + '\n' + effectsIn(*answer.fit) : std::string();
}

const Coefficient* effectIn(const std::vector<ComparedEffect>& effects, const ComparedRow& row) {
    const auto found = std::find_if(effects.begin(), effects.end(),
                                    [&](const ComparedEffect& one) { return one.row == row; });
    return found == effects.end() ? nullptr : found->effect;
}

std::vector<ComparedRow> comparedRows(const std::vector<std::vector<ComparedEffect>>& fits) {
    std::vector<ComparedRow> out;
    for (const auto& effects : fits) {
        for (const ComparedEffect& one : effects) {
            if (std::find(out.begin(), out.end(), one.row) != out.end()) {
                continue;
            }
            // Behind the last row of its term.
            const auto last = std::find_if(out.rbegin(), out.rend(), [&](const ComparedRow& row) {
                return row.term == one.row.term;
            });
            out.insert(last == out.rend() ? out.end() : last.base(), one.row);
        }
    }
    return out;
}

std::string effectsIn(const Fit& fit) {
    return fit.likelihood ? fit.likelihood->family->scale : "the outcome";
}

bool isOfLogs(const Answer& answer) {
    if (!answer.fit || !answer.design) {
        return false;
    }
    if (!answer.fit->likelihood) {
        return !answer.design->outcomeLogOf.empty();
    }
    return answer.fit->likelihood->family->inLogs();
}

namespace {

/// The test between two models of one outcome, where there is one and it does not take long.
std::string testReading(const Answer& from, const Answer& to) {
    using Kind = ModelComparison::Kind;
    const auto test = comparedModels(from, to, Job());
    if (!test) {
        return {};
    }
    const std::string more = test->grows ? "What it adds" : "What it leaves out";
    const std::string ending = test->p < to.alpha
                                   ? ": the larger model is wanted."
                                   : ": the data do not ask for the larger model, which does not "
                                     "prove the smaller one.";
    if (test->kind == Kind::LikelihoodRatio) {
        return more + " raises twice the log-likelihood by " + fixedNumber(test->statistic, 2) +
               " (chi-square(" + shortNumber(test->df1) + ")" +
               (test->half ? ", half of it at zero" : "") + ", " + pClause(test->p) +
               (test->score ? "; by the scores of the smaller " + fixedNumber(*test->score, 2) +
                                  ", " + pClause(*test->scoreP)
                            : std::string()) +
               ")" + ending;
    }
    if (test->kind == Kind::Nested) {
        return more + " is told apart from nothing with F(" + shortNumber(test->df1) + ", " +
               shortNumber(test->df2.value_or(0.0)) + ") = " + fixedNumber(test->statistic, 2) +
               ", " + pClause(test->p) + ending;
    }
    const bool againstFrom = test->first.p < to.alpha;
    const bool againstTo = test->second.p < to.alpha;
    return "Neither holds the other’s terms. The other’s fit beside its own terms: in the first " +
           pClause(test->first.p) + ", in the second " + pClause(test->second.p) +
           " (Davidson & MacKinnon’s J; Cox and Pesaran: " + pText(test->first.pCox) + " and " +
           pText(test->second.pCox) + "). " +
           (againstFrom && againstTo ? "Each lacks something the other has."
            : againstFrom            ? "This speaks for the second."
            : againstTo              ? "This speaks for the first."
                                     : "The data do not tell them apart.");
}

}  // namespace

std::vector<std::string> differenceReading(const Answer& from, const Answer& to) {
    std::vector<std::string> out;
    if (from.trace && to.trace) {
        return traceDifference(from, to);
    }
    if (!from.fit || !to.fit) {
        out.emplace_back(
            "These are questions of different kinds: their numbers do not stand side "
            "by side.");
        return out;
    }
    const Question& a = from.question;
    const Question& b = to.question;
    std::string what;
    const auto add = [&](const std::string& text) { what += (what.empty() ? "" : "; ") + text; };
    if (a.outcome != b.outcome) {
        add("the outcome is " + b.outcome + " instead of " + a.outcome);
    }
    const auto listed = [](const Question& q, const Question& other) {
        std::string names;
        for (const Term& term : q.terms) {
            const bool there = std::any_of(other.terms.begin(), other.terms.end(),
                                           [&](const Term& t) { return t == term; });
            names += there || term.muted ? "" : (names.empty() ? "" : ", ") + term.shown();
        }
        return names;
    };
    if (const std::string more = listed(b, a); !more.empty()) {
        add("it adds " + more);
    }
    if (const std::string less = listed(a, b); !less.empty()) {
        add("it leaves out " + less);
    }
    if (a.fixedEffects != b.fixedEffects) {
        add(b.fixedEffects.empty() ? "nothing is held fixed"
                                   : "it holds " + joinedNames(b.fixedEffects) + " fixed");
    }
    if (a.endogenous != b.endogenous || a.instruments != b.instruments) {
        add(b.endogenous.empty()
                ? "no term is moved by instruments"
                : namesOf(b.endogenous) + " is moved by " +
                      (b.instruments.empty() ? "nothing yet" : namesOf(b.instruments)));
    }
    if (a.method != b.method || !(a.settings == b.settings)) {
        add("it is by " + methodText(b) + " instead of " + methodText(a));
    }
    if (!(a.errors == b.errors)) {
        add("errors are " + b.errors.shown() + " instead of " + a.errors.shown());
    }
    if (a.where != b.where || a.without != b.without) {
        add("the rows differ");
    }
    if (a.weightKind != b.weightKind || a.weight != b.weight) {
        add("the weights differ");
    }
    if (a.missing != b.missing || a.completeBy != b.completeBy) {
        const std::string now = missingText(b);
        add(now.empty() ? "rows that lack an answer are left out" : "it has " + now);
    }
    if (a.intercept != b.intercept) {
        add(b.intercept ? "it has a constant" : "it has no constant");
    }
    out.push_back(what.empty() ? "The two questions are the same." : capital(what) + ".");
    if (!from.fit || !to.fit) {
        out.emplace_back("One of them is refused, so there is nothing to compare.");
        return out;
    }
    if (a.outcome != b.outcome) {
        out.emplace_back(
            "~The outcomes differ, so neither estimates nor R² can be set against each other: "
            "compare signs, shapes and checks.");
        return out;
    }
    const Coefficient* widest = nullptr;
    const Coefficient* was = nullptr;
    double most = -1.0;
    const bool alike = effectsIn(*from.fit) == effectsIn(*to.fit);
    if (!alike) {
        out.push_back("~Effects are counted in " + effectsIn(*to.fit) + " here and in " +
                      effectsIn(*from.fit) +
                      " there, so that their sizes cannot be set against each other: compare signs "
                      "and checks, or both “on the outcome” under Model.");
    }
    const auto before = comparedEffects(*from.fit);
    std::string changed;
    for (const ComparedEffect& one : comparedEffects(*to.fit)) {
        const Coefficient* o = alike ? effectIn(before, one.row) : nullptr;
        if (o == nullptr) {
            continue;
        }
        const Coefficient& c = *one.effect;
        const double moved = o->se > 0.0 ? std::abs(c.estimate - o->estimate) / o->se +
                                               std::abs(std::log(std::max(c.se, 1e-300) / o->se))
                                         : 0.0;
        if (moved > most) {
            most = moved;
            widest = &c;
            was = o;
            changed = one.row.text();
        }
    }
    if (alike && widest == nullptr) {
        out.emplace_back(
            "No effect stands in both in the same way: look at the rows of a term one below the "
            "other.");
    }
    if (widest != nullptr) {
        const int decimals = decimalsFor(std::min(widest->se, was->se));
        const double ratio = was->se > 0.0 ? widest->se / was->se : 1.0;
        const bool moved =
            std::abs(widest->estimate - was->estimate) > 1e-9 * (std::abs(was->estimate) + was->se);
        out.push_back("Most changed is **" + changed + "**: " +
                      (moved ? "from " + fixedNumber(was->estimate, decimals) + " to **" +
                                   fixedNumber(widest->estimate, decimals) + "**, and its"
                             : "the estimate stays at " + fixedNumber(was->estimate, decimals) +
                                   ", but its") +
                      " standard error is " + fixedNumber(ratio, 2) + " times what it was.");
        const bool zeroBefore = was->low < 0.0 && was->high > 0.0;
        const bool zeroNow = widest->low < 0.0 && widest->high > 0.0;
        if (zeroBefore != zeroNow) {
            out.push_back(
                zeroNow ? "Its interval no longer excludes zero: " +
                              fixedNumber(widest->low, decimals) + " to " +
                              fixedNumber(widest->high, decimals) + "."
                        : "Its interval now excludes zero: " + fixedNumber(widest->low, decimals) +
                              " to " + fixedNumber(widest->high, decimals) + ".");
        }
    }
    // The checks that hold two methods against each other stand with one of them.
    for (const Answer* one : {&to, &from}) {
        const auto check =
            std::find_if(one->checks.begin(), one->checks.end(), [&](const CheckResult& c) {
                return a.method != b.method && c.p &&
                       c.id == (one->fit->instrumented ? "endogeneity" : "hausman");
            });
        if (check != one->checks.end()) {
            out.push_back(check->reading);
            break;
        }
    }
    if (const std::string test = testReading(from, to); !test.empty()) {
        out.push_back(test);
    }
    if (from.rows.used != to.rows.used) {
        out.push_back("~They stand on different rows: " + countText(from.rows.used) + " and " +
                      countText(to.rows.used) + ".");
    }
    return out;
}

std::string levelsErrors(const LevelsFit& fit) {
    if (fit.family != nullptr) {
        return "those of the curvature of the likelihood over effects and spreads together (" +
               std::string(fit.points > 1 ? "adaptive quadrature, Pinheiro & Bates 1995"
                                          : "Laplace’s approximation") +
               "): they assume that groups’ effects are drawn from a normal law and unrelated to "
               "the terms; intervals of spreads are by its profile";
    }
    return std::string(fit.law == "kenward-roger"
                           ? "those of generalised least squares, adjusted for spreads that are "
                             "estimated, with degrees of freedom to match (Kenward & Roger 1997)"
                       : fit.law == "normal"
                           ? "those of generalised least squares at the estimated spreads, read by "
                             "the normal law"
                           : "those of generalised least squares at the estimated spreads, with "
                             "degrees of freedom by the observed information (Satterthwaite 1946; "
                             "of several terms Fai & Cornelius 1996)") +
           ": they assume that groups’ effects are drawn from a normal law and unrelated to the "
           "terms; spreads are those of the " +
           (fit.restricted ? "restricted likelihood (Patterson & Thompson 1971; Laird & Ware 1982)"
                           : "likelihood (Laird & Ware 1982)") +
           ", their intervals by its profile";
}

/// What errors that are not asked to allow for anything rest on, by the kind of fit.
std::string classicalReading(const Answer& answer) {
    const Fit& fit = *answer.fit;
    if (fit.likelihood != nullptr && fit.likelihood->family->firstStages) {
        return "from the rows’ scores of both stages (Newey 1984): they allow for an uneven spread "
               "and assume that rows are unrelated";
    }
    if (fit.dynamic != nullptr) {
        return "those of the moments with their weight taken for granted: they assume that errors "
               "of a unit are unrelated";
    }
    if (fit.robust != nullptr) {
        return "by the influence of rows (Huber 1981): they assume that what is left has one law "
               "in every row and that rows are unrelated";
    }
    if (fit.quantile != nullptr) {
        return "by the density of what is left at the quantile (Hall & Sheather 1988): they assume "
               "that it is the same in every row and that rows are unrelated";
    }
    if (fit.levels != nullptr) {
        return levelsErrors(*fit.levels);
    }
    if (fit.echo != nullptr) {
        return "classical: they assume one spread and, once the echo is taken out, unrelated "
               "errors";
    }
    return fit.likelihood != nullptr
               ? "those of the likelihood: they assume that its law holds and that rows are "
                 "unrelated"
               : "classical: they assume one spread and unrelated errors";
}

std::string explainMethods(const Answer& answer) {
    if (!answer.fit) {
        return {};
    }
    const Question& q = answer.question;
    std::string text = "Estimates are by " + methodText(q) + " of " + answer.design->outcome +
                       " on " +
                       plural(answer.fit->coefficients.size(), "coefficient", "coefficients") +
                       " in " + rowsReading(answer.rows) + ". Standard errors are ";
    if (q.errors.kind == "robust") {
        text += "heteroskedasticity-robust (" + q.errors.type +
                "; White 1980, MacKinnon & White 1985" +
                (q.errors.type == "HC4" ? ", Cribari-Neto 2004" : "") + ")";
    } else if (q.errors.kind == "clustered") {
        text += q.errors.shown() + " (Liang & Zeger 1986" +
                (q.errors.by.size() > 1 ? "; Cameron, Gelbach & Miller 2011" : "") + "; " +
                answer.fit->errorNote + ")";
    } else if (q.errors.kind == "autocorrelation") {
        text +=
            "robust to an uneven spread and to autocorrelation (Newey & West 1987, Bartlett "
            "weights, " +
            answer.fit->errorNote + (q.errors.automaticLags ? " by Newey & West 1994)" : ")");
    } else if (q.errors.kind == "bootstrap") {
        text += "by " + q.errors.shown() + " (" + answer.fit->errorNote +
                (q.errors.scheme == "wild-clusters" ? "; Cameron, Gelbach & Miller 2008)"
                                                    : "; Efron 1987)");
    } else if (q.errors.kind == "survey") {
        const SurveyRows* rows = answer.design->survey.get();
        text +=
            "linearised over the survey design (Binder 1983; " + answer.fit->errorNote +
            (rows == nullptr || rows->known == nullptr ? ")"
             : rows->calibration == "raking" ? "; Deming & Stephan 1940; Deville & Särndal 1992)"
                                             : "; Deville & Särndal 1992)");
    } else if (q.errors.kind == "panel-autocorrelation") {
        text += "robust to what units share at a moment and to its echo (Driscoll & Kraay 1998; " +
                answer.fit->errorNote + ")";
    } else {
        text += classicalReading(answer);
    }
    if (!longRunEffects(*answer.design, *answer.fit, answer.alpha).empty()) {
        text += "; what a step that stays comes to has errors by the delta method (Bårdsen 1989)";
    }
    text += ". Intervals hold " + percentLevel(answer.alpha) +
            (answer.fit->resampling ? " by the draws."
             : !answer.fit->coefficients.empty() && !answer.fit->coefficients.front().df
                 ? " by the normal law."
                 : " by Student’s t.");
    if (!q.endogenous.empty() && answer.fit->instrumented) {
        const bool many = q.endogenous.size() > 1;
        text += std::string(" The endogenous ") + (many ? "terms " : "term ") +
                namesOf(q.endogenous) + (many ? " are" : " is") + " taken to be moved by " +
                namesOf(q.instruments) + ", which are taken to reach the outcome through " +
                (q.endogenous.size() > 1 ? "them" : "it") + " alone.";
    }
    if (answer.design->swept) {
        std::vector<std::string> held;
        for (const SweptGrouping& effects : answer.design->effects) {
            held.push_back(effects.name + " (" +
                           countText(static_cast<std::size_t>(effects.count)) + ")");
        }
        text += " Held fixed: " + joinedNames(held) + ".";
    }
    if (answer.fit->bent && !answer.fit->bent->fixed) {
        text += " Bends were searched over all places (Muggeo 2003; existence by Davies 1987).";
    }
    if (q.weightKind != WeightKind::None) {
        text +=
            " Rows are weighted by " + q.weight + " (" + weightName(q.weightKind) + " weights).";
    }
    text += missingMethods(answer);
    text += defenceMethods(answer);
    if (const std::string warning = choiceWarning(q); !warning.empty()) {
        text += " " + warning;
    }
    for (const auto& note : answer.fit->notes) {
        text += " " + note;
    }
    return text;
}

std::vector<std::string> variableReading(const Frame& frame, const std::string& name) {
    std::vector<std::string> out;
    const Column* column = frame.column(name);
    const Variable* variable = frame.variable(name);
    if (column == nullptr) {
        const auto broken = frame.broken().find(name);
        out.push_back(broken == frame.broken().end() ? "There is no such variable."
                                                     : "~" + capital(broken->second.text()));
        return out;
    }
    if (frame.left() != nullptr) {
        out.push_back(leftVariableWords(*frame.left(), *variable) +
                      ". Its cells stay with the database.");
        return out;
    }
    if (const SummaryMatrix* moments = frame.moments()) {
        const auto at = static_cast<Eigen::Index>(
            std::find(moments->names.begin(), moments->names.end(), name) - moments->names.begin());
        out.push_back((moments->hasMeans
                           ? "Its mean is **" + shortNumber(moments->mean(at), 5) + "**"
                           : std::string("Its mean is not given")) +
                      (moments->hasScale
                           ? ", its standard deviation **" + shortNumber(moments->sd(at), 4) + "**"
                           : std::string(", nor its standard deviation")) +
                      ", over " + countText(static_cast<std::size_t>(moments->n)) +
                      " rows that are not at hand: its shape cannot be told.");
        return out;
    }
    const std::size_t missing = column->countMissing();
    if (missing == column->size()) {
        out.emplace_back("It is missing in **every row**.");
        return out;
    }
    if (isGrouping(variable->measure) || column->isText()) {
        const auto levels = levelsOf(*column, *variable);
        if (variable->measure == Measure::Text && levels.size() * 2 > column->size()) {
            out.push_back("A text that differs from row to row (**" + countText(levels.size()) +
                          "** of them), such as “" + levels.front().label +
                          "”: it names the rows in pictures.");
            return out;
        }
        std::string text = countText(levels.size()) + " levels in " +
                           countText(column->size() - missing) + " rows: ";
        for (std::size_t l = 0; l < std::min<std::size_t>(levels.size(), 6); ++l) {
            text += (l > 0 ? ", " : "") + levels[l].label + " (" + countText(levels[l].count) + ")";
        }
        out.push_back(text + (levels.size() > 6 ? " …" : "."));
        return out;
    }
    if (variable->measure == Measure::Date) {
        const Summary d = summarise(column->numbers());
        out.push_back("Dates from **" + dateText(d.low) + "** to **" + dateText(d.high) + "**.");
        return out;
    }
    const Summary s = summarise(column->numbers(), rowsInSample(frame));
    if (s.n == 0) {
        out.emplace_back("It is missing in **every row of the sample**.");
        return out;
    }
    const std::string unit = variable->unit.empty() ? "" : " " + variable->unit;
    if (variable->measure == Measure::YesNo) {
        out.push_back("Yes in **" + fixedNumber(100.0 * s.mean, 1) + " %** of " + countText(s.n) +
                      " rows.");
    } else {
        out.push_back("Half of the rows in the sample lie between " + shortNumber(s.lowerQuartile) +
                      " and " + shortNumber(s.upperQuartile) + unit + "; the middle one is at **" +
                      shortNumber(s.median) + "**.");
        if (std::abs(s.skewness) > 0.8) {
            out.push_back(
                std::string("A long tail ") +
                (s.skewness > 0.0 ? "to the right pulls the mean up to "
                                  : "to the left pulls the mean down to ") +
                shortNumber(s.mean) + " (skewness " + fixedNumber(s.skewness, 1) + ")." +
                (s.low > 0.0 && s.skewness > 1.0 ? " A logarithm may straighten it." : ""));
        } else {
            out.push_back("The mean is " + shortNumber(s.mean) + ", the standard deviation " +
                          shortNumber(s.sd, 3) + "; the two sides are about even.");
        }
    }
    for (const Loss& loss : frame.lossesIn(name)) {
        out.push_back("~" + plural(loss.rows, "row has", "rows have") + " no value: " + loss.cause +
                      ".");
    }
    return out;
}

}  // namespace rapporto
