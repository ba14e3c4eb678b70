#include "core/base/format.h"
#include "core/describe/survey_mean.h"
#include "core/model/likelihood.h"
#include "core/model/long_run.h"
#include "core/model/multilevel.h"
#include "core/model/outcome_models.h"
#include "core/model/quantile.h"
#include "core/report/cause_reading.h"
#include "core/report/defence_wording.h"
#include "core/report/missing_wording.h"
#include "core/report/reading_words.h"
#include "core/report/request_wording.h"
#include "core/report/term_choice_picture.h"
#include "core/report/wording.h"

#include <fmt/format.h>

#include <algorithm>

namespace rapporto {
namespace {

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

/// What the standard errors are by, with their sources.
std::string errorsMethods(const Answer& answer) {
    const Question& q = answer.question;
    std::string text;
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
    return text;
}

}  // namespace

std::string explainMethods(const Answer& answer) {
    if (!answer.fit) {
        return {};
    }
    const Question& q = answer.question;
    std::string text = "Estimates are by " + methodText(q) + " of " + answer.design->outcome +
                       " on " +
                       plural(answer.fit->coefficients.size(), "coefficient", "coefficients") +
                       " in " + rowsReading(answer.rows) + ". Standard errors are ";
    text += errorsMethods(answer);
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
    if (!q.ownSlopes.empty()) {
        text += " Each unit has slopes of its own in " + joinedNames(q.ownSlopes) +
                ", taken out with its level.";
    }
    if (!q.exposure.empty()) {
        text += " It is counted per " + q.exposure +
                ", whose logarithm enters with a coefficient of one.";
    }
    if (!q.offset.empty()) {
        text += " " + q.offset + " enters with a coefficient of one.";
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

}  // namespace rapporto
