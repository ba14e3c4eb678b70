// Changes that units make at different moments: what comes before, and who is compared with whom.
#include "core/model/event_study.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/checks/common.h"
#include "core/checks/event_picture.h"
#include "core/model/panel.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace rapporto {
namespace {

/// Why this question says nothing of a change, or empty: units and moments must be held fixed.
std::string noChange(const CheckInput& in) {
    const Design& raw = rawOf(in);
    if (raw.units.empty() || raw.unitMoments.empty()) {
        return "No row is a unit at a moment, so no change can be placed.";
    }
    const bool units = std::any_of(raw.effects.begin(), raw.effects.end(),
                                   [&](const SweptGrouping& e) { return e.of.all() == raw.units; });
    const bool moments =
        std::any_of(raw.effects.begin(), raw.effects.end(), [&](const SweptGrouping& e) {
            std::map<std::int32_t, std::int64_t> seen;
            for (std::size_t i = 0; i < e.of.size(); ++i) {
                if (seen.emplace(e.of[i], raw.unitMoments[i]).first->second != raw.unitMoments[i]) {
                    return false;
                }
            }
            return true;
        });
    return units && moments ? std::string()
                            : "It looks at changes with both units and moments held fixed.";
}

Question asEventStudy(const CheckInput& in, const std::string& name, const std::string& weighting,
                      const std::string& title) {
    Question variant = variantBase(in, title);
    variant.method = "event-study";
    variant.settings = EstimatorSettings{};
    variant.settings.variable = name;
    variant.settings.weighting = weighting;
    std::erase_if(variant.terms, [&](const Term& term) {
        return term.kind == Term::Kind::Expression &&
               plainName(term.parts.front()) == plainName(name);
    });
    const ErrorSpec& errors = in.question.errors;
    if (weighting == "group-time" && errors.kind != "robust" && errors.kind != "clustered") {
        variant.errors = ErrorSpec{"clustered", "HC1", {quotedName(in.frame.layout().unit)}};
    }
    return variant;
}

void offerOwnSlopes(const CheckInput& in, CheckResult& result) {
    const std::string& time = in.frame.layout().time;
    if (!in.question.ownSlopes.empty() || in.question.settings.weighting == "group-time") {
        Question variant = variantBase(in, "against those that never change");
        variant.settings.against = "never";
        if (in.question.settings.weighting != "group-time" ||
            in.question.settings.against == "never") {
            variant.settings.before = std::max(1, in.question.settings.before - 2);
            variant.title = "fewer moments before";
            result.remedies.push_back({"Look at fewer moments before",
                                       "what lies further back goes to the end",
                                       std::move(variant)});
            return;
        }
        result.remedies.push_back({"Hold them against those that never change",
                                   "units that change later may have moved before, too",
                                   std::move(variant)});
        return;
    }
    Question variant = variantBase(in, "a trend of each unit’s own");
    variant.ownSlopes = {quotedName(time)};
    result.remedies.push_back({"Give each unit a trend of its own",
                               "what moves steadily in a unit is held fixed, too",
                               std::move(variant)});
}

std::string cohortName(const CheckInput& in, std::int64_t moment) {
    const Design& raw = rawOf(in);
    const Column* time = in.frame.column(in.frame.layout().time);
    for (std::size_t i = 0; time != nullptr && i < raw.rows.size(); ++i) {
        if (raw.unitMoments[i] == moment) {
            return momentName(in.frame, raw.rows[i]);
        }
    }
    return std::to_string(moment);
}

}  // namespace

// Wald test of all effects before the change; Freyaldenhoven, Hansen & Shapiro (2019), AER 109, on
// what it can and cannot show.
CheckResult checkPreTrend(const CheckInput& in) {
    if (const std::string reason = noChange(in); !reason.empty()) {
        return notApplicable(reason);
    }
    std::shared_ptr<const EventFit> event = in.fit.event;
    std::optional<Fit> own;
    if (event == nullptr) {
        Design raw = rawOf(in);
        const auto policy = policyOf(raw);
        if (!policy) {
            return notApplicable(policy.error());
        }
        const std::string name = raw.terms[static_cast<std::size_t>(policy->term)].name;
        raw = withoutTerm(raw, policy->term);
        raw.changed = policy->changed;
        EstimatorSettings settings;
        settings.variable = name;
        const bool drawn =
            in.question.errors.kind == "bootstrap" || in.question.errors.kind == "survey";
        auto fit = fitEventStudy(raw, settings, drawn ? ErrorSpec{} : in.question.errors, in.alpha,
                                 in.job);
        if (!fit) {
            return notApplicable(fit.error().text());
        }
        own = *std::move(fit);
        event = own->event;
    }
    if (!event->before) {
        return notApplicable("No unit is seen two moments or more before its change.");
    }
    const FTest& f = *event->before;
    CheckResult result;
    result.statistic = f.value;
    result.statisticName = "F of the effects before";
    result.df = {f.df1, f.df2};
    result.distribution = "F";
    result.p = f.p;
    double largest = 0.0;
    for (const EventFit::Place& place : event->places) {
        if (place.at < -1) {
            largest = std::max(largest, std::abs(place.estimate));
        }
    }
    const double size = event->after && *event->after != 0.0
                            ? largest / std::abs(*event->after)
                            : std::numeric_limits<double>::infinity();
    result.details = {{"largest effect before", largest}};
    if (event->after) {
        result.details.emplace_back("mean effect after", *event->after);
    }
    result.verdict = judge(f.p, in.alpha, size, 0.05, 0.5);
    result.headline = pClause(f.p);
    result.reading =
        f.p >= in.alpha
            ? "Before they change, units that do move no differently from those that do not (" +
                  pClause(f.p) +
                  "). A test that sees nothing is no proof: mind how wide the "
                  "intervals before the change are."
            : "Units that change " + event->variable + " moved differently before they did (" +
                  pClause(f.p) + "; by up to " + shortNumber(largest, 2) +
                  " where the mean effect after it is " +
                  shortNumber(event->after.value_or(0.0), 2) +
                  "): what comes after is not the change alone.";
    result.exhibit = eventExhibit(*event, in.alpha, in.design.outcome, in.design.outcomeUnit);
    if (result.verdict != Verdict::Fine) {
        offerOwnSlopes(in, result);
        if (in.fit.event == nullptr) {
            result.remedies.push_back(
                {"See each distance from the change",
                 "an effect for every moment before and after in place of one",
                 asEventStudy(in, event->variable, "cohorts", "before and after the change")});
        }
    }
    return result;
}

// Goodman-Bacon (2021), J. Econometrics 225; de Chaisemartin & D’Haultfœuille (2020), AER 110.
CheckResult checkWhoIsCompared(const CheckInput& in) {
    if (const std::string reason = noChange(in); !reason.empty()) {
        return notApplicable(reason);
    }
    if (in.fit.event != nullptr && in.fit.event->weighting != "pooled") {
        return notApplicable(
            "Units that have changed are not held against others that had changed before: that "
            "is what this weighting is for.");
    }
    const Design& raw = rawOf(in);
    if (raw.weights.size() > 0) {
        return notApplicable("It is not built for weights.");
    }
    const auto policy = policyOf(raw);
    if (!policy && in.fit.event == nullptr) {
        return notApplicable(policy.error());
    }
    const std::vector<std::int64_t>& changed =
        in.fit.event != nullptr ? raw.changed : policy->changed;
    const std::string name = in.fit.event != nullptr
                                 ? in.fit.event->variable
                                 : raw.terms[static_cast<std::size_t>(policy->term)].name;
    const auto split = splitComparisons(raw, changed);
    if (!split) {
        return notApplicable(split.error());
    }
    double byKind[4] = {0.0, 0.0, 0.0, 0.0};
    for (const Comparison& one : split->comparisons) {
        byKind[static_cast<int>(one.kind)] += one.weight;
    }
    const double wrong = byKind[static_cast<int>(Comparison::Kind::Already)] +
                         byKind[static_cast<int>(Comparison::Kind::Always)];
    CheckResult result;
    result.statistic = wrong;
    result.statisticName = "weight on changed units";
    result.details = {{"never", byKind[0]},
                      {"not yet", byKind[1]},
                      {"already", byKind[2]},
                      {"always", byKind[3]},
                      {"effect on these units", split->effect},
                      {"units with every moment", static_cast<double>(split->units)},
                      {"units", static_cast<double>(split->allUnits)}};
    if (in.fit.event == nullptr) {
        const DesignTerm& term = raw.terms[static_cast<std::size_t>(policy->term)];
        const Eigen::Index column = term.columns.front();
        const auto left =
            solveLinear({withoutTerm(in.design, policy->term).X, in.design.X.col(column),
                         in.design.weights, in.design.hasConstant},
                        false, in.job);
        if (left) {
            const NegativeWeights negative =
                negativeWeights(left->residuals, raw.X.col(column), raw.weights);
            result.details.emplace_back("rows counted negatively",
                                        static_cast<double>(negative.negative));
            result.details.emplace_back("sum of negative weights", negative.sum);
        }
    }
    result.verdict = wrong < 0.05 ? Verdict::Fine : wrong < 0.3 ? Verdict::Weigh : Verdict::Fails;
    result.headline = fixedNumber(100.0 * wrong, 0) + " % against changed";
    const auto percent = [](double share) { return fixedNumber(100.0 * share, 0) + " %"; };
    result.reading =
        "Of the weight in the plain effect of " + name + ", " + percent(byKind[0]) +
        " lies on holding units that change against those that never do, " + percent(byKind[1]) +
        " against those that have not yet, and " + percent(wrong) +
        " against units that had changed before. " +
        (wrong < 0.05
             ? "The last kind is wrong where effects grow with time, and here it is little."
             : "The last kind is wrong where effects grow or fade with time: the earlier "
               "changers’ own movement is taken out of the effect.") +
        " Worked out over the " + countText(split->units) + " of " + countText(split->allUnits) +
        " units that have a row at every moment, without other terms.";
    result.exhibit = comparisonExhibit(*split, in.design.outcome,
                                       [&](std::int64_t moment) { return cohortName(in, moment); });
    if (result.verdict != Verdict::Fine) {
        result.remedies.push_back(
            {"Weigh cohorts by themselves",
             "an effect for every cohort and distance, then their means by rows",
             asEventStudy(in, name, "cohorts", "before and after, by cohorts")});
        result.remedies.push_back(
            {"Hold each cohort against those not yet changed",
             "the change since the moment before, cohort by cohort",
             asEventStudy(in, name, "group-time", "before and after, cohort by moment")});
    }
    return result;
}

}  // namespace rapporto
