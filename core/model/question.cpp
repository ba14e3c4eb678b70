#include "core/model/question.h"

#include <algorithm>

namespace rapporto {

RAPPORTO_COMPILED_HERE(Question);
RAPPORTO_COMPILED_HERE(EstimatorSettings);

std::string Term::shown() const {
    if (kind == Kind::Set) {
        return "{" + parts.front() + "}";
    }
    std::string text;
    for (const auto& part : parts) {
        text += (text.empty() ? "" : " × ") + part;
    }
    return text;
}

ErrorSpec ErrorSpec::clusteredBy(std::string name) {
    ErrorSpec errors;
    errors.kind = "clustered";
    errors.by = {std::move(name)};
    return errors;
}

ErrorSpec ErrorSpec::withEcho() {
    ErrorSpec errors;
    errors.kind = "autocorrelation";
    return errors;
}

ErrorSpec ErrorSpec::bySurvey() {
    ErrorSpec errors;
    errors.kind = "survey";
    return errors;
}

bool ErrorSpec::takeRowsAlone() const { return kind == "classical" || kind == "robust"; }

bool ErrorSpec::areDrawn() const { return kind == "bootstrap"; }

bool ErrorSpec::allowUnevenSpread() const { return kind != "classical"; }

bool ErrorSpec::allowClusters() const {
    return kind == "clustered" ||
           (kind == "bootstrap" && (scheme == "clusters" || scheme == "wild-clusters"));
}

bool ErrorSpec::allowEcho() const {
    return kind == "autocorrelation" || kind == "panel-autocorrelation";
}

bool ErrorSpec::followTheDesign() const { return kind == "survey"; }

std::string ErrorSpec::shown() const {
    if (kind == "robust") {
        return "robust (" + type + ")";
    }
    if (kind == "clustered" && !by.empty()) {
        return "clustered by " + by.front() + (by.size() > 1 ? " and " + by[1] : "");
    }
    if (kind == "autocorrelation") {
        return "allowing for autocorrelation" +
               (lags            ? " (" + std::to_string(*lags) + (*lags == 1 ? " lag)" : " lags)")
                : automaticLags ? std::string(" (lags by the data)")
                                : std::string());
    }
    if (kind == "density") {
        return "of one density";
    }
    if (kind == "kernel") {
        return "by the sandwich (kernel)";
    }
    if (kind == "survey") {
        return "by the survey design";
    }
    if (kind == "panel-autocorrelation") {
        return "shared at a moment and echoing" +
               (lags ? " (" + std::to_string(*lags) + (*lags == 1 ? " lag)" : " lags)")
                     : std::string());
    }
    if (kind == "bootstrap") {
        const std::string of = by.empty() ? "clusters" : by.front();
        return scheme == "rows"       ? "drawing rows anew"
               : scheme == "clusters" ? "drawing clusters of " + of + " anew"
               : scheme == "wild"     ? "wild draws"
                                      : "wild draws by " + of;
    }
    return kind;
}

std::string weightName(WeightKind kind) {
    switch (kind) {
        case WeightKind::None:
            return "none";
        case WeightKind::Sampling:
            return "sampling";
        case WeightKind::Frequency:
            return "frequency";
        case WeightKind::Precision:
            return "precision";
    }
    return "none";
}

bool Question::choseTerms() const {
    if (!chosen) {
        return false;
    }
    std::vector<std::string> present;
    for (const Term& term : terms) {
        if (!term.muted) {
            present.push_back(term.shown());
        }
    }
    std::vector<std::string> among = chosen->among;
    std::sort(present.begin(), present.end());
    std::sort(among.begin(), among.end());
    return present != among;
}

std::vector<const Term*> Question::allTerms() const {
    std::vector<const std::vector<Term>*> lists = {&endogenous, &terms, &instruments,
                                                   &trace.holding};
    for (const PathSpec& path : trace.paths) {
        lists.push_back(&path.from);
    }
    std::vector<const Term*> out;
    for (const auto* list : lists) {
        for (const Term& term : *list) {
            out.push_back(&term);
        }
    }
    return out;
}

bool Question::sameAs(const Question& o) const {
    return id == o.id && kind == o.kind && title == o.title && lead == o.lead &&
           variantOf == o.variantOf && outcome == o.outcome && terms == o.terms &&
           intercept == o.intercept && method == o.method && errors == o.errors &&
           weightKind == o.weightKind && weight == o.weight && where == o.where &&
           without == o.without && allChecks == o.allChecks && checks == o.checks &&
           unbuilt == o.unbuilt && variables == o.variables && holding == o.holding &&
           effects == o.effects && predict == o.predict && hypotheses == o.hypotheses &&
           leftOut == o.leftOut && byLot == o.byLot && worstCases == o.worstCases &&
           planned == o.planned && forecast == o.forecast && decisions == o.decisions &&
           chosen == o.chosen && endogenous == o.endogenous && instruments == o.instruments &&
           fixedEffects == o.fixedEffects && ownSlopes == o.ownSlopes && offset == o.offset &&
           exposure == o.exposure && missing == o.missing && completeBy == o.completeBy &&
           settings == o.settings && coefficient == o.coefficient && sides == o.sides &&
           listwise == o.listwise && trace == o.trace && raw == o.raw;
}

}  // namespace rapporto
