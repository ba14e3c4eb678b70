#include "core/base/format.h"
#include "core/model/event_study.h"
#include "core/model/instruments.h"
#include "core/model/likelihood.h"
#include "core/model/long_run.h"
#include "core/model/outcome_models.h"
#include "core/model/quantile.h"
#include "core/model/response.h"
#include "core/model/shown_question.h"
#include "core/model/smallest_seen.h"
#include "core/report/assumptions.h"
#include "core/report/defence_wording.h"
#include "core/report/left_out_wording.h"
#include "core/report/reading_words.h"
#include "core/report/wording.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

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

std::string pSentence(double p) {
    const double share = p * 1000.0;
    const std::string thousand = countText(1000);
    const std::string often = share < 1.0 ? "in fewer than 1 sample in " + thousand
                              : p < 0.1
                                  ? "in about " + fixedNumber(share, 0) + " samples in " + thousand
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
    const std::string start = capitalised(among(design, c.designTerm));
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

/// Of a question with a constant alone, or of the constant beside terms.
std::vector<std::string> constantReading(const Answer& answer, const Coefficient& c) {
    const Design& design = *answer.design;
    std::vector<std::string> out;
    if (design.terms.empty() && design.effects.empty() && !answer.fit->likelihood &&
        !answer.fit->quantile && !answer.fit->robust) {
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

/// How large the effect is: one or two paragraphs by what its term is and what is estimated.
std::vector<std::string> sizeReading(const Answer& answer, const Coefficient& c) {
    const Design& design = *answer.design;
    std::vector<std::string> out;
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
        out.push_back(capitalised(among(design, c.designTerm)) + "the coefficient of " + c.term +
                      " is **" + fixedNumber(c.estimate, decimalsFor(c.se)) + "** (" +
                      percentLevel(answer.alpha) + ": " + fixedNumber(c.low, decimalsFor(c.se)) +
                      " to " + fixedNumber(c.high, decimalsFor(c.se)) + ").");
        out.emplace_back(
            "It cannot be read alone: the same variable enters through another term, so its effect "
            "differs from place to place.");
    } else if (!term.logOf.empty()) {
        out.push_back(elasticity(answer, c, term));
    } else if (term.groups) {
        out.push_back(capitalised(among(design, c.designTerm)) + "in " + c.label + " " +
                      difference(answer, c) + " than in " + term.base + ", the base of " +
                      term.label + ".");
    } else if (term.yesNo) {
        out.push_back(capitalised(among(design, c.designTerm)) + "where " + term.label +
                      " is yes, " + difference(answer, c) + " than where it is no.");
    } else if (term.isProduct) {
        out.push_back("For each step in one part, the effect of the other part of " + c.term +
                      " changes by **" + fixedNumber(c.estimate, decimalsFor(c.se)) + "** (" +
                      percentLevel(answer.alpha) + ": " + fixedNumber(c.low, decimalsFor(c.se)) +
                      " to " + fixedNumber(c.high, decimalsFor(c.se)) + ").");
    } else {
        out.push_back(capitalised(among(design, c.designTerm)) + "for each further " +
                      (term.unit.empty() ? "step" : "unit (" + term.unit + ")") + " of " +
                      term.label + ", " + difference(answer, c) + ".");
    }
    return out;
}

/// What its p says, and what it does not.
std::vector<std::string> doubtOfNothing(const Answer& answer, const Coefficient& c) {
    std::vector<std::string> out;
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
    return out;
}

/// What was asked of the effect beside its size: where it ends, what may be left out, what it costs
/// that rows were drawn as they were.
std::vector<std::string> furtherReading(const Answer& answer, const Coefficient& c) {
    std::vector<std::string> out;
    for (const LongRunEffect& far : longRunEffects(*answer.design, *answer.fit, answer.alpha)) {
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
    return out;
}

/// What has to be known before any number: whether it is of what it seems to be of.
std::vector<std::string> firstCautions(const Answer& answer) {
    std::vector<std::string> out;
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
    return out;
}

/// What the effect stands on that no number tells.
std::vector<std::string> lastCautions(const Answer& answer, const Coefficient& c) {
    const DesignTerm& term = answer.design->terms[static_cast<std::size_t>(c.designTerm)];
    std::vector<std::string> out;
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
    return out;
}

}  // namespace

std::vector<std::string> effectReading(const Answer& answer, std::size_t coefficient) {
    if (!answer.fit || coefficient >= answer.fit->coefficients.size()) {
        return {};
    }
    const Coefficient& c = answer.fit->coefficients[coefficient];
    std::vector<std::string> out;
    if (c.designTerm < 0) {
        out = constantReading(answer, c);
    } else {
        out = firstCautions(answer);
        for (auto* part : {sizeReading, doubtOfNothing, furtherReading, lastCautions}) {
            for (std::string& paragraph : part(answer, c)) {
                out.push_back(capitalised(std::move(paragraph)));
            }
        }
    }
    for (std::string& paragraph : out) {
        paragraph = shownNames(paragraph, answer.question);
    }
    return out;
}

}  // namespace rapporto
