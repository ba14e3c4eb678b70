#include "core/model/offer.h"

#include "core/base/format.h"
#include "core/model/estimator.h"

#include <algorithm>

namespace rapporto::offers {
namespace {

using Place = OfferedMethod::Place;
using S = EstimatorSettings;

/// One offer where `fits`, else none.
OfferedMethods offered(bool fits, Place place, const char* why, S settings = {}) {
    OfferedMethods out;
    if (fits) {
        out.push_back({place, why, std::move(settings)});
    }
    return out;
}

bool isOfYesNo(const OfferedTo& to) {
    const Family* family = familyOf(to.question.method);
    return to.yesNo || (family != nullptr && family->row == Family::Row::YesNo);
}

bool isOfCounts(const OfferedTo& to) {
    return to.measure == Measure::Count || familyOf(to.question.method) != nullptr;
}

S momentsIn(const char* steps) {
    S out;
    out.steps = steps;
    return out;
}

/// A plain count for the rows beyond zero, and one with a spread of its own.
OfferedMethods withParts(const OfferedTo& to, const char* why) {
    OfferedMethods out = offered(isOfCounts(to), Place::Count, why);
    if (!out.empty()) {
        S spread;
        spread.count = "negative-binomial";
        out.push_back({Place::Count, "with spread beyond", spread});
    }
    return out;
}

bool asksForItsPast(const OfferedTo& to) {
    return to.panel &&
           (to.isByInstruments() ||
            std::any_of(to.question.terms.begin(), to.question.terms.end(), [](const Term& term) {
                return !term.muted && term.parts.front().starts_with("lag(");
            }));
}

S fewEarlierMoments() {
    S out;
    out.depth = 3;
    out.collapsed = true;
    return out;
}

/// What decides who is seen stays, where the question has it already.
S seenBy(const OfferedTo& to) {
    S out;
    if (hasTrait(to.question.method, trait::kUnseen)) {
        out.zeroTerms = to.question.settings.zeroTerms;
    }
    return out;
}

bool lacksRows(const OfferedTo& to) {
    return to.isAmount() && (to.lacksOutcome || hasTrait(to.question.method, trait::kUnseen));
}

}  // namespace

OfferedMethods leastSquares(const OfferedTo& /*to*/) {
    return offered(true, Place::Plain, "one straight effect a term");
}

OfferedMethods bentLine(const OfferedTo& to) {
    OfferedMethods out;
    for (const std::string& name : to.amounts) {
        for (const int bends : {1, 2}) {
            S settings;
            settings.variable = name;
            settings.bends = bends;
            out.push_back({Place::Bends, "its slope changes where it fits best", settings});
        }
    }
    return out;
}

OfferedMethods twoStage(const OfferedTo& to) {
    return offered(to.isByInstruments(), Place::Instruments, "the usual way with instruments");
}

OfferedMethods liml(const OfferedTo& to) {
    return offered(to.isByInstruments(), Place::Instruments,
                   "less drawn to least squares where instruments are weak");
}

OfferedMethods fuller(const OfferedTo& to) {
    return offered(to.isByInstruments(), Place::Instruments, "like it, with moments that exist");
}

OfferedMethods moments(const OfferedTo& to) {
    OfferedMethods out = offered(to.isByInstruments(), Place::Instruments,
                                 "instruments weighted by how sure they are", momentsIn("two"));
    if (!out.empty()) {
        out.push_back({Place::Instruments, "until the weights settle", momentsIn("iterated")});
        out.push_back(
            {Place::Instruments, "the weight moves with the estimate", momentsIn("continuous")});
    }
    return out;
}

OfferedMethods within(const OfferedTo& to) {
    return offered(to.panel, Place::Panel, "each unit with itself");
}

OfferedMethods randomUnits(const OfferedTo& to) {
    return offered(to.panel, Place::Panel, "units’ levels as chance, unrelated to the terms");
}

OfferedMethods between(const OfferedTo& to) {
    return offered(to.panel, Place::Panel, "the long run between units");
}

OfferedMethods firstDifference(const OfferedTo& to) {
    return offered(to.panel, Place::Panel, "changes from one moment to the next");
}

OfferedMethods echo(const OfferedTo& to) {
    return offered(to.inTime, Place::Time, "rows less a share of the moment before");
}

OfferedMethods differences(const OfferedTo& to) {
    return offered(asksForItsPast(to), Place::Past, "Arellano & Bond: for a lagged outcome",
                   fewEarlierMoments());
}

OfferedMethods differencesAndLevels(const OfferedTo& to) {
    return offered(asksForItsPast(to), Place::Past, "Blundell & Bond: where it hardly moves",
                   fewEarlierMoments());
}

OfferedMethods change(const OfferedTo& to) {
    OfferedMethods out;
    if (!to.panel) {
        return out;
    }
    const bool asked = hasTrait(to.question.method, trait::kChange);
    const std::vector<std::string> own = {to.question.settings.variable};
    for (const std::string& name : asked ? own : to.switches) {
        for (const auto& [weighting, why] :
             {std::pair("pooled", "one effect for each distance from the change"),
              std::pair("cohorts", "cohorts by themselves, then their mean"),
              std::pair("group-time", "each cohort against those not yet changed")}) {
            S settings;
            settings.variable = name;
            settings.weighting = weighting;
            out.push_back({Place::BeforeAfter, why, settings});
        }
    }
    return out;
}

OfferedMethods poisson(const OfferedTo& to) {
    return offered(isOfCounts(to), Place::Count,
                   "the mean grows by a factor; robust errors for amounts");
}

OfferedMethods spreadCount(const OfferedTo& to) {
    OfferedMethods out = offered(isOfCounts(to), Place::Count, "spread beyond the mean");
    if (!out.empty()) {
        S linear;
        linear.form = 1;
        out.push_back({Place::Count, "spread in proportion to the mean", linear});
    }
    return out;
}

OfferedMethods zeroInflated(const OfferedTo& to) {
    return withParts(to, "some rows never have any");
}

OfferedMethods hurdle(const OfferedTo& to) {
    return withParts(to, "whether any, and how many, apart");
}

OfferedMethods truncated(const OfferedTo& to) {
    return offered(isOfCounts(to), Place::Count, "none are in the rows");
}

OfferedMethods logit(const OfferedTo& to) {
    OfferedMethods out =
        offered(isOfYesNo(to), Place::YesNo, "log odds of yes; effects as odds ratios");
    if (!out.empty()) {
        S firth;
        firth.penalised = true;
        out.push_back({Place::YesNo, "finite where a term tells the answer", firth});
    }
    return out;
}

OfferedMethods probit(const OfferedTo& to) {
    return offered(isOfYesNo(to), Place::YesNo, "a normal index behind the yes");
}

OfferedMethods cloglog(const OfferedTo& to) {
    return offered(isOfYesNo(to), Place::YesNo, "yes as the first of many chances");
}

OfferedMethods conditionalLogit(const OfferedTo& to) {
    return offered(isOfYesNo(to) && (to.panel || to.question.fixedEffects.size() == 1),
                   Place::YesNo, "within units: who of a unit's rows says yes");
}

OfferedMethods fractionalLogit(const OfferedTo& to) {
    return offered(to.isAmount() && to.shares, Place::Ends, "an outcome between 0 and 1");
}

OfferedMethods orderedLogit(const OfferedTo& to) {
    return offered(to.measure == Measure::OrderedGroups, Place::Levels,
                   "one effect on the odds of every higher level");
}

OfferedMethods orderedProbit(const OfferedTo& to) {
    return offered(to.measure == Measure::OrderedGroups, Place::Levels,
                   "a normal index behind the levels");
}

OfferedMethods multinomialLogit(const OfferedTo& to) {
    return offered(to.measure == Measure::Groups || to.measure == Measure::OrderedGroups ||
                       to.measure == Measure::Text,
                   Place::Levels, "each level against the first");
}

OfferedMethods tobit(const OfferedTo& to) {
    if (!to.isAmount() || !to.heapedLeast) {
        return {};
    }
    S cut;
    cut.low = to.heapedLeast;
    return {{Place::Ends, "what lies below is seen as that", cut,
             "tobit from " + shortNumber(*to.heapedLeast)}};
}

OfferedMethods interval(const OfferedTo& to) {
    OfferedMethods out;
    for (const std::string& upper : to.isAmount() ? to.upperEnds : std::vector<std::string>()) {
        S ends;
        ends.variable = upper;
        out.push_back({Place::Ends, "the outcome is a lower end", ends});
    }
    return out;
}

OfferedMethods heckman(const OfferedTo& to) {
    return offered(lacksRows(to), Place::Lacking,
                   "who is seen in an equation of its own, by likelihood", seenBy(to));
}

OfferedMethods heckmanTwoStep(const OfferedTo& to) {
    return offered(lacksRows(to), Place::Lacking, "the same with less asked of the normal law",
                   seenBy(to));
}

OfferedMethods poissonControl(const OfferedTo& to) {
    return offered(to.isByInstruments() && to.measure == Measure::Count,
                   Place::InstrumentsOfOutcome, "what the first stage leaves is a term");
}

OfferedMethods probitInstruments(const OfferedTo& to) {
    return offered(to.isByInstruments() && to.measure == Measure::YesNo,
                   Place::InstrumentsOfOutcome, "a yes or no, one term moved from outside");
}

OfferedMethods quantiles(const OfferedTo& to) {
    OfferedMethods out =
        offered(to.isAmount(), Place::Amount, "half above, half below; far rows weigh no more");
    if (!out.empty()) {
        S several;
        several.at = {0.1, 0.25, 0.5, 0.75, 0.9};
        out.push_back({Place::Amount, "the effect along the whole distribution", several,
                       "quantiles .1 to .9"});
    }
    return out;
}

OfferedMethods huber(const OfferedTo& to) {
    return offered(to.isAmount(), Place::Amount, "rows far off count for less");
}

OfferedMethods bisquare(const OfferedTo& to) {
    return offered(to.isAmount(), Place::Amount, "rows very far off count for nothing");
}

OfferedMethods mm(const OfferedTo& to) {
    return offered(to.isAmount(), Place::Amount,
                   "as sure as least squares, half of the rows may be odd");
}

}  // namespace rapporto::offers
