#include "core/model/method_uses.h"

#include "core/base/format.h"
#include "core/model/setting.h"

#include <algorithm>

namespace rapporto {
namespace {

Refusal unused(const std::string& what, const std::string& where, const std::string& help) {
    return {ErrorCode::NotUsed, what, where, help, {}};
}

std::string namesOf(const std::vector<Term>& terms) {
    std::vector<std::string> names;
    for (const Term& term : terms) {
        names.push_back("‘" + term.shown() + "’");
    }
    return joinedNames(names);
}

/// The method that takes instruments for an outcome like this one’s.
std::string withInstruments(const Estimator& estimator) {
    using enum Family::Outcome;
    const Family* family = estimator.family;
    const bool yesNo = family != nullptr && (family->outcome == YesNo || family->outcome == Within);
    return family != nullptr && family->outcome == Count
               ? "‘poisson-control’ is a count with instruments"
           : yesNo ? "‘probit-instruments’ is a yes–no outcome with instruments"
           : estimator.has(trait::kUnits)
               ? "‘two-stage’ with the unit held fixed compares within units by instruments"
               : "‘two-stage’ takes instruments";
}

}  // namespace

std::optional<Refusal> notTaken(const Question& q, const Estimator& estimator) {
    const std::string method = "the method ‘" + q.method + "’";
    const bool asked = !q.endogenous.empty() || !q.instruments.empty();
    if (asked && !estimator.canTake(takes::kInstruments)) {
        return unused(method + " has no use for " +
                          (q.instruments.empty() ? "endogenous terms (" + namesOf(q.endogenous)
                                                 : "instruments (" + namesOf(q.instruments)) +
                          ")",
                      "instruments",
                      "Take them out (an endogenous term then stands among the terms), or choose "
                      "another method: " +
                          withInstruments(estimator) + ".");
    }
    const bool groupTime = estimator.has(trait::kChange) && q.settings.weighting == "group-time";
    if (!q.ownSlopes.empty() && (!estimator.canTake(takes::kOwnSlopes) || groupTime)) {
        return unused(method + " takes no slopes of units", "held fixed",
                      "Leave the slopes out, or ask by least squares or within units.");
    }
    if (q.weightKind == WeightKind::Precision && !estimator.canTake(takes::kPrecision)) {
        return unused(method +
                          " has no use for precision weights: they have no scale, and a likelihood "
                          "needs one",
                      "weights",
                      "Say that the weights are sampling weights (with robust errors) or that they "
                      "count rows (frequency).");
    }
    const bool corrected =
        q.errors.kind == "robust" && q.errors.type != "HC0" && q.errors.type != "HC1";
    if (corrected && (!estimator.canTake(takes::kLeverageTypes) || groupTime)) {
        return unused("errors of type " + q.errors.type + " correct by a row’s leverage, which " +
                          method + " does not have",
                      "errors", "Choose HC1, or draw rows anew.");
    }
    return std::nullopt;
}

std::string methodsWithSetting(const std::string& key) {
    std::vector<std::string> found;
    for (const Estimator& estimator : allEstimators()) {
        if (estimator.settings == nullptr) {
            continue;
        }
        const std::vector<Setting>& own = estimator.settings().settings;
        if (std::any_of(own.begin(), own.end(),
                        [&](const Setting& setting) { return key == setting.key; })) {
            found.emplace_back(estimator.method);
        }
    }
    return joinedNames(found);
}

}  // namespace rapporto
