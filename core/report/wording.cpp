#include "core/report/wording.h"

#include "core/base/format.h"
#include "core/model/likelihood.h"
#include "core/model/outcome_models.h"
#include "core/model/quantile.h"
#include "core/report/assumptions.h"
#include "core/report/cause_reading.h"
#include "core/report/missing_wording.h"
#include "core/report/reading_words.h"
#include "core/report/request_wording.h"
#include "core/report/term_choice_picture.h"

#include <algorithm>
#include <cmath>
#include <set>

namespace rapporto {
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

/// What share the terms account for and what is left, or why that is not told.
std::string sharesReading(const Answer& answer) {
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
    return text;
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

std::string explainReading(const Answer& answer) {
    if (!answer.fit) {
        return answer.refusal ? capitalised(answer.refusal->text()) : "";
    }
    const Fit& fit = *answer.fit;
    const FitStatistics& s = fit.statistics;
    std::string text = sharesReading(answer);
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
        text += " " + (d.name.starts_with("the ") ? capitalised(d.name) : d.name) +
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

}  // namespace rapporto
