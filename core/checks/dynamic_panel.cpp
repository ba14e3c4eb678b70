// Panels whose outcome depends on its own past.
#include "core/model/dynamic_panel.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/checks/common.h"
#include "core/model/panel.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

Question movedToMoments(const CheckInput& in, const std::string& method, const std::string& title) {
    Question variant = variantBase(in, title);
    variant.method = method;
    variant.settings = EstimatorSettings{};
    // Many instruments for few units fit too well: three moments, one column a distance.
    variant.settings.depth = 3;
    variant.settings.collapsed = true;
    variant.errors = ErrorSpec{"robust", "HC1", {}};
    variant.ownSlopes.clear();
    const std::string& unit = in.frame.layout().unit;
    std::erase_if(variant.fixedEffects,
                  [&](const std::string& name) { return plainName(name) == unit; });
    return variant;
}

/// The first term that is the outcome of the moment before, or −1.
int laggedTerm(const CheckInput& in) {
    const auto& terms = in.design.terms;
    const std::string wanted = canonicalText("lag(" + writtenTerm(in, in.design.outcome) + ")");
    const auto found = std::find_if(terms.begin(), terms.end(),
                                    [&](const DesignTerm& term) { return term.name == wanted; });
    return found == terms.end() ? -1 : static_cast<int>(found - terms.begin());
}

void offerFewerMoments(const CheckInput& in, CheckResult& result) {
    if (in.question.settings.collapsed && in.question.settings.depth == 2) {
        Question variant = variantBase(in, "all earlier moments");
        variant.settings.depth = 0;
        result.remedies.push_back({"Let all earlier moments serve",
                                   "every distance there is, one instrument for each",
                                   std::move(variant)});
        return;
    }
    Question variant = variantBase(in, "two earlier moments, collapsed");
    variant.settings.depth = 2;
    variant.settings.collapsed = true;
    result.remedies.push_back({"Let fewer earlier moments serve",
                               "two distances, one instrument for each", std::move(variant)});
}

}  // namespace

// Nickell (1981), Econometrica 49.
CheckResult checkLaggedOutcome(const CheckInput& in) {
    const int term = laggedTerm(in);
    if (term < 0) {
        return notApplicable("The outcome of the moment before is not among the terms.");
    }
    const Design& raw = rawOf(in);
    const bool units = in.design.swept && !raw.units.empty() &&
                       std::any_of(raw.effects.begin(), raw.effects.end(),
                                   [&](const SweptGrouping& e) { return e.of.all() == raw.units; });
    const Coefficient* own = nullptr;
    for (const Coefficient& c : in.fit.coefficients) {
        own = c.designTerm == term ? &c : own;
    }
    if (!units || own == nullptr) {
        return notApplicable("No unit’s effect is held fixed beside the lagged outcome.");
    }
    const double moments = static_cast<double>(raw.y.size()) / raw.unitCount;
    const double rho = own->estimate;
    // The leading term for long panels; the exact one for T moments and no other terms.
    const double bias = moments > 1.0 ? -(1.0 + rho) / (moments - 1.0) : -1.0;
    CheckResult result;
    result.statistic = bias;
    result.statisticName = "approximate bias";
    result.details = {{"moments of a unit", moments}, {"effect", rho}};
    result.verdict = std::abs(bias) < 0.02   ? Verdict::Fine
                     : std::abs(bias) < 0.05 ? Verdict::Weigh
                                             : Verdict::Fails;
    result.headline = "off by about " + shortNumber(bias, 2);
    result.reading =
        "With the units’ effects held fixed the lagged outcome goes together with what is left: "
        "over " +
        fixedNumber(moments, 1) + " moments a unit its effect of " + shortNumber(rho, 2) +
        " is off by about " + shortNumber(bias, 2) +
        (result.verdict == Verdict::Fine
             ? ", which is little."
             : ", and the effects of all that goes with it are off, too. Earlier moments can "
               "serve as instruments.");
    result.exhibit = residualExhibit(in);
    result.exhibit.title = "What is left, with the lagged outcome among the terms";
    if (result.verdict != Verdict::Fine) {
        result.remedies.push_back(
            {"Instruments by earlier moments (differences)",
             "changes rid of the units’ effects; earlier outcomes serve as instruments",
             movedToMoments(in, "difference-gmm", "differences by earlier moments")});
        result.remedies.push_back(
            {"The same with levels beside the changes",
             "stronger where the outcome hardly moves; earlier changes must be unrelated to the "
             "units’ effects",
             movedToMoments(in, "system-gmm", "differences and levels by earlier moments")});
    }
    return result;
}

// Arellano & Bond (1991), Review of Economic Studies 58.
CheckResult checkDifferencesSerial(const CheckInput& in) {
    const DynamicFit& told = *in.fit.dynamic;
    CheckResult result;
    for (const DynamicFit::Serial& one : told.serial) {
        if (one.z) {
            const std::string name = "AR(" + std::to_string(one.order) + ")";
            result.details.emplace_back(name + " z", *one.z);
            result.details.emplace_back(name + " p", *one.p);
        }
    }
    if (told.serial.size() < 2 || !told.serial[1].z) {
        return notApplicable("No unit has changes two moments apart.");
    }
    const double z = *told.serial[1].z;
    const double p = *told.serial[1].p;
    result.statistic = z;
    result.statisticName = "z of AR(2)";
    result.distribution = "normal";
    result.p = p;
    result.verdict = p >= in.alpha ? Verdict::Fine : p < 0.01 ? Verdict::Fails : Verdict::Weigh;
    result.headline = pClause(p);
    const auto& first = told.serial[0];
    result.reading =
        (first.p ? "Neighbouring changes of the errors go together by construction (" +
                       pClause(*first.p) + "). "
                 : std::string()) +
        (result.verdict == Verdict::Fine
             ? "Those two moments apart do not (" + pClause(p) +
                   "): the outcome two moments before may serve as an instrument."
             : "Those two moments apart do, too (" + pClause(p) +
                   "): the errors echo, and the outcome two moments before is no instrument.");
    result.exhibit = residualExhibit(in);
    result.exhibit.title =
        told.system ? "What is left of the levels" : "What is left of the changes";
    if (result.verdict != Verdict::Fine) {
        const std::string wanted = "lag(" + writtenTerm(in, in.design.outcome) + ", 2)";
        const bool second = std::any_of(in.design.terms.begin(), in.design.terms.end(),
                                        [&](const DesignTerm& t) { return t.name == wanted; });
        if (!second) {
            Question variant = variantBase(in, "two lags of the outcome");
            variant.terms.push_back(Term::expression(wanted));
            result.remedies.push_back({"Add a second lag of the outcome",
                                       "takes up the echo that one lag leaves",
                                       std::move(variant)});
        }
        offerFewerMoments(in, result);
    }
    return result;
}

/// Hansen’s J and Sargan’s statistic of instruments by earlier moments, those of the levels apart.
CheckResult dynamicOverIdentification(const CheckInput& in) {
    const DynamicFit& told = *in.fit.dynamic;
    const double over = told.overidentified();
    if (over < 1.0) {
        return notApplicable(
            "There are just as many instruments as coefficients: none can be held against "
            "another.");
    }
    CheckResult result;
    result.statistic = told.hansen;
    result.statisticName = "Hansen J";
    result.df = {over};
    result.distribution = "chi2";
    result.p = chiSquareTail(told.hansen, over);
    result.details = {{"Sargan", told.sargan},
                      {"Sargan p", chiSquareTail(told.sargan, over)},
                      {"instruments", static_cast<double>(told.instruments)},
                      {"units", static_cast<double>(told.units)}};
    std::string levels;
    if (told.levelsJ && told.levelsDf >= 1.0) {
        const double p = chiSquareTail(std::max(*told.levelsJ, 0.0), told.levelsDf);
        result.details.emplace_back("J of the levels’ instruments", *told.levelsJ);
        result.details.emplace_back("p of the levels’ instruments", p);
        levels = p < in.alpha ? " Those of the levels disagree with the rest (" + pClause(p) +
                                    "): earlier changes may hang on the units’ effects."
                              : " Those of the levels agree with the rest (" + pClause(p) + ").";
    }
    const bool crowded = told.instruments > told.units;
    const bool tooWell = *result.p > 0.99;
    result.verdict = *result.p < 0.01                             ? Verdict::Fails
                     : *result.p < in.alpha || crowded || tooWell ? Verdict::Weigh
                                                                  : Verdict::Fine;
    result.headline = pClause(*result.p);
    const std::string counted =
        plural(static_cast<std::size_t>(told.instruments), "instrument", "instruments") + " for " +
        plural(static_cast<std::size_t>(told.units), "unit", "units");
    result.reading = *result.p < in.alpha
                         ? "The earlier moments lead to different effects (" + pClause(*result.p) +
                               "): at least one of them is no instrument." + levels
                     : crowded || tooWell
                         ? "There is no sign against the instruments (" + pClause(*result.p) +
                               "), and with " + counted + " there hardly could be." + levels
                         : "The earlier moments lead to effects that agree (" + pClause(*result.p) +
                               "; " + counted + ")." + levels;
    result.exhibit = residualExhibit(in);
    result.exhibit.title =
        told.system ? "What is left of the levels" : "What is left of the changes";
    if (result.verdict != Verdict::Fine) {
        offerFewerMoments(in, result);
        if (told.system) {
            Question variant = variantBase(in, "differences by earlier moments");
            variant.method = "difference-gmm";
            result.remedies.push_back({"Leave the levels out",
                                       "changes alone; they ask less of the units’ effects",
                                       std::move(variant)});
        }
    }
    return result;
}

}  // namespace rapporto
