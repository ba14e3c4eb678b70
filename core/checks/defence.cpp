// Checks of the one effect that a person has named as the one to defend. What they look at was
// worked out beside the fit, as it was asked.
#include "core/defend/defence.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/checks/check.h"
#include "core/checks/common.h"
#include "core/defend/lots_picture.h"
#include "core/model/effect_named.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

CheckResult notNamed(const std::string& what) {
    return notApplicable("No effect is named for it: choose one under Model, and " + what +
                         " under what you can do.");
}

/// Its interval holds zero: nobody needs another cause to doubt it.
bool isOpen(const CheckInput& in, const std::string& of) {
    const Coefficient* c = effectNamed(in.fit, of);
    return c == nullptr || !c->p || *c->p >= in.alpha;
}

/// The bound as strong as its benchmark that leaves the least of the effect; null without one.
const LeftOutBound* strongest(const LeftOut& found) {
    const LeftOutBound* out = nullptr;
    const double sign = std::copysign(1.0, found.estimate);
    for (const LeftOutBound& bound : found.bounds) {
        if (bound.multiple == 1.0 && bound.estimate &&
            (out == nullptr || sign * *bound.estimate < sign * *out->estimate)) {
            out = &bound;
        }
    }
    return out;
}

}  // namespace

CheckResult checkLeftOut(const CheckInput& in) {
    if (in.defence == nullptr || !in.defence->leftOut) {
        return notNamed("ask what may be left out");
    }
    const Result<LeftOut>& asked = *in.defence->leftOut;
    if (!asked) {
        return notApplicable(asked.error().text());
    }
    const LeftOut& found = *asked;
    const LeftOutBound* bound = strongest(found);
    if (bound == nullptr || !found.robustnessAlpha) {
        return notApplicable(found.bounds.empty()
                                 ? "There is no benchmark among the terms to measure it by."
                                 : "No cause left out can be as strong as " +
                                       found.bounds.front().benchmark + ": " +
                                       found.bounds.front().why + ".");
    }
    if (isOpen(in, found.of)) {
        return notApplicable("The interval of " + found.of +
                             " holds zero as it is: no cause left out is needed to doubt it.");
    }
    CheckResult result;
    result.statistic = found.robustnessAlpha;
    result.statisticName = "robustness value";
    const double sign = std::copysign(1.0, found.estimate);
    const double end = sign > 0.0 ? *bound->low : *bound->high;
    const bool gone = sign * *bound->estimate <= 0.0;
    const bool open = sign * end <= 0.0;
    result.verdict = gone ? Verdict::Fails : open ? Verdict::Weigh : Verdict::Fine;
    result.headline = "robustness value " + fixedNumber(*found.robustnessAlpha, 3, true);
    const int decimals = decimalsFor(found.se);
    result.reading = "A cause left out that is as strong as " + bound->benchmark +
                     " on both sides would leave " + fixedNumber(*bound->estimate, decimals, true) +
                     " of the effect of " + found.of + " (" +
                     fixedNumber(found.estimate, decimals, true) + "), with an interval from " +
                     fixedNumber(*bound->low, decimals, true) + " to " +
                     fixedNumber(*bound->high, decimals, true) + ". " +
                     (gone   ? "So little undoes it: say which causes of that strength are out, "
                               "and why."
                      : open ? "Its sign would stand, and no longer beyond chance."
                             : "It would stand.");
    for (const LeftOutBound& one : found.bounds) {
        if (one.multiple == 1.0 && one.estimate) {
            result.details.emplace_back("left beside " + one.benchmark, *one.estimate);
        }
    }
    result.details.emplace_back("robustness value of the estimate", found.robustness.value_or(0.0));
    if (isDoubt(result.verdict)) {
        offerHeldFixed(in, result);
        offerWithoutTerm(in, bound->benchmark, result);
        for (Remedy& remedy : result.remedies) {
            // A benchmark that leaves is none.
            std::erase_if(remedy.variant.leftOut->benchmarks, [&](const Term& term) {
                return remedy.variant.terms.size() < in.question.terms.size() &&
                       plainName(term.shown()) == plainName(bound->benchmark);
            });
        }
    }
    return result;
}

CheckResult checkByLot(const CheckInput& in) {
    if (in.defence == nullptr || !in.defence->byLot) {
        return notNamed("draw it by lot");
    }
    if (!*in.defence->byLot) {
        return notApplicable(in.defence->byLot->error().text());
    }
    const ByLot& found = **in.defence->byLot;
    CheckResult result;
    result.statistic = found.statistic;
    result.statisticName = found.joint ? "F" : "t";
    result.distribution = found.exact ? "exact" : "";
    result.p = found.p;
    result.headline = pClause(found.p);
    const bool apart = found.lawP && (*found.lawP < in.alpha) != (found.p < in.alpha);
    result.verdict = apart ? Verdict::Weigh : Verdict::Fine;
    const std::string lots = countText(static_cast<std::size_t>(found.draws)) + " lots";
    result.reading = "Drawn by lot among " + found.drawn + ", " + found.of +
                     " would be as loud as it is in " + shortNumber(100.0 * found.p, 3) + " % of " +
                     (found.exact ? "all " : "") + lots + " if it did nothing to anybody. " +
                     (!found.lawP ? ""
                      : apart     ? "The errors say p " + pText(*found.lawP) +
                                    ": where few rows or groups differ, trust the lots."
                              : "The errors (p " + pText(*found.lawP) + ") agree.");
    result.details.emplace_back("lots", found.draws);
    if (found.lawP) {
        result.details.emplace_back("p by the errors", *found.lawP);
    }
    if (found.low) {
        result.details.emplace_back("low", *found.low);
    }
    if (found.high) {
        result.details.emplace_back("high", *found.high);
    }
    result.exhibit = lotsExhibit(found);
    if (apart) {
        offerDrawing(in, result);
    }
    return result;
}

CheckResult checkNotSeen(const CheckInput& in) {
    if (in.defence == nullptr || !in.defence->worstCases) {
        return notNamed("ask for the worst cases");
    }
    if (!*in.defence->worstCases) {
        return notApplicable(in.defence->worstCases->error().text());
    }
    const WorstCases& found = **in.defence->worstCases;
    CheckResult result;
    const bool stands = found.low > 0.0 || found.high < 0.0;
    const int decimals = decimalsFor(std::max(found.lower.se, found.upper.se));
    const auto number = [&](double x) { return fixedNumber(x, decimals, true); };
    result.verdict = stands ? Verdict::Fine : Verdict::Noted;
    result.headline = number(found.lower.estimate) + " to " + number(found.upper.estimate);
    result.reading = "Whatever the " + plural(found.unseen, "outcome", "outcomes") + " that " +
                     (found.unseen == 1 ? "was" : "were") + " not seen, the effect of " + found.of +
                     " lies between " + number(found.lower.estimate) + " and " +
                     number(found.upper.estimate) + ". ";
    if (found.always) {
        const AlwaysSeen& always = *found.always;
        result.statistic =
            always.se > 0.0 ? std::optional(always.difference / always.se) : std::nullopt;
        result.statisticName = "z";
        result.distribution = "normal";
        result.p = result.statistic ? std::optional(always.p) : std::nullopt;
        const bool moved = always.p < in.alpha;
        const bool maybeNothing = always.low <= 0.0 && always.high >= 0.0;
        if (moved && maybeNothing && !stands && !isOpen(in, found.of)) {
            result.verdict = Verdict::Weigh;
        }
        result.reading += std::string("The cause ") + (moved ? "moves" : "hardly moves") +
                          " who is seen (" + pClause(always.p) +
                          "); on those seen either way its "
                          "effect lies between " +
                          number(always.lower.estimate) + " and " + number(always.upper.estimate) +
                          ", without the other terms. ";
        result.details = {{"seen with", always.seenWith},
                          {"seen without", always.seenWithout},
                          {"trimmed", always.trimmed}};
    }
    result.reading += stands
                          ? "Its sign does not hang on them."
                          : "What was not seen could undo it; say why it should be like the rest.";
    if (isDoubt(result.verdict)) {
        offerWeighted(in, result);
    }
    result.details.emplace_back("lower", found.lower.estimate);
    result.details.emplace_back("upper", found.upper.estimate);
    return result;
}

}  // namespace rapporto
