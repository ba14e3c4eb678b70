#include "core/report/missing_wording.h"

#include "core/base/format.h"
#include "core/impute/complete_rows.h"
#include "core/impute/pooling.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

std::string percent(double share) { return fixedNumber(100.0 * share, 1) + " %"; }

/// The coefficient of a term that misses most.
const Coefficient* mostMissed(const Fit& fit, double& share) {
    const Coefficient* most = nullptr;
    share = -1.0;
    for (std::size_t k = 0; k < fit.coefficients.size(); ++k) {
        const Coefficient& c = fit.coefficients[k];
        const PooledNumber& told = fit.pooled->terms[k];
        if (c.designTerm >= 0 && told.between > 0.0 && told.fractionMissing > share) {
            share = told.fractionMissing;
            most = &c;
        }
    }
    return most;
}

std::string pooledReading(const Fit& fit, const RowCounts& rows) {
    const PooledFit& told = *fit.pooled;
    const std::size_t filled = rows.used > told.completeRows ? rows.used - told.completeRows : 0;
    std::string text =
        " Pooled over **" + plural(told.sets, "set", "sets") +
        "**: " + plural(told.completeRows, "row", "rows") + " lacked nothing, " +
        (filled == 0 ? "and nothing was filled in for this question"
                     : countText(filled) + (filled == 1 ? " was" : " were") + " filled in") +
        "; shares and spreads are means over the sets.";
    double share = 0.0;
    if (const Coefficient* most = mostMissed(fit, share)) {
        text += " What is missing costs **" + percent(share) + "** of what would be known of " +
                most->label +
                (fit.coefficients.size() > 2 ? ", and less of every other effect." : ".");
        // With m sets an error is by about share/m of itself larger than with any number.
        const double wanted = std::ceil(100.0 * share);
        if (static_cast<double>(told.sets) < wanted) {
            text +=
                " With about " + shortNumber(wanted) +
                " sets its p and interval would hardly hang on the draws (White, Royston & Wood "
                "2011).";
        }
    }
    std::vector<std::string> unsettled;
    for (const PooledFit::Filled& one : told.filled) {
        if (one.isUnsettled()) {
            unsettled.push_back(one.label);
        }
    }
    if (!unsettled.empty()) {
        text += " The paths of " + joinedNames(unsettled) +
                " still lie apart between the sets: ask for more rounds before this is relied on.";
    }
    if (told.fewestRows < told.mostRows) {
        text += " A rule hangs on what is filled in: the sets have from " +
                countText(told.fewestRows) + " to " + countText(told.mostRows) + " rows.";
    }
    return text;
}

std::string completeReading(const CompleteRows& told, const Question& question) {
    std::vector<std::string> names;
    for (const Term& term : question.completeBy) {
        names.push_back(term.shown());
    }
    std::string text = " The " + countText(told.complete) + " complete rows stand for all " +
                       countText(told.rows) +
                       ", each by the inverse of its chance to be complete, from " +
                       fixedNumber(told.lowestChance, 2) + " to " +
                       fixedNumber(told.highestChance, 2) + " by " + joinedNames(names) + ".";
    if (told.penalised) {
        text +=
            " One of these tells for certain who answers: the chances are those of the "
            "penalised logit (Firth 1993).";
    }
    if (told.lowestChance < 0.05) {
        text += " **A row stands for over twenty others**: the answer leans on few.";
    }
    return text;
}

}  // namespace

std::string missingText(const Question& question) {
    if (question.missing == "imputed") {
        return "missing answers filled in";
    }
    if (question.missing != "weighted") {
        return {};
    }
    std::vector<std::string> names;
    for (const Term& term : question.completeBy) {
        names.push_back(term.shown());
    }
    return "complete rows weighted by " + joinedNames(names);
}

std::string missingReading(const Answer& answer) {
    const Fit& fit = *answer.fit;
    return fit.pooled     ? pooledReading(fit, answer.rows)
           : fit.complete ? completeReading(*fit.complete, answer.question)
                          : std::string();
}

std::string missingMethods(const Answer& answer) {
    const Fit& fit = *answer.fit;
    if (fit.pooled) {
        std::vector<std::string> ways;
        for (const PooledFit::Filled& one : fit.pooled->filled) {
            ways.push_back(one.label + " by " + wayText(one.way));
        }
        return " Missing answers were filled in " + countText(fit.pooled->sets) +
               " times by chained equations (van Buuren 2007), each time after " +
               plural(static_cast<std::size_t>(fit.pooled->rounds), "round", "rounds") +
               (ways.empty() ? "" : ": " + joinedNames(ways)) +
               "; estimates are pooled by Rubin "
               "(1987), "
               "their degrees of freedom are those of Barnard & Rubin (1999), and several are "
               "tested "
               "together by Li, Raghunathan & Rubin (1991) and Reiter (2007). This takes answers "
               "to "
               "be missing at random given what foretells them, which no data can show.";
    }
    if (fit.complete) {
        return " Complete rows are weighted by the inverse of their chance to be complete, "
               "foretold "
               "by a logit (Seaman & White 2013); errors take these weights as known. This takes "
               "rows to be complete at random given what foretells it, which no data can show.";
    }
    return {};
}

std::string wayText(const std::string& way) {
    return way == "matching"  ? "the answer of a row that is foretold alike (matching)"
           : way == "normal"  ? "a linear regression with a normal error (normal)"
           : way == "logit"   ? "the chance of one of two levels (logit)"
           : way == "ordered" ? "an ordered logit (ordered)"
                              : "a logit of plain groups (groups)";
}

std::vector<std::string> setsReading(const ImputedSets& sets, const Frame& frame) {
    std::vector<std::string> out;
    if (sets.variables.empty()) {
        return {
            "None of these variables lacks an answer in the sample: there is nothing to fill "
            "in."};
    }
    std::size_t cells = 0;
    std::vector<std::string> unsettled;
    for (const ImputedVariable& one : sets.variables) {
        cells += one.rows.size();
        if (one.settled && *one.settled > PooledFit::Filled::kSettled) {
            unsettled.push_back(one.label);
        }
    }
    out.push_back("**" + plural(cells, "answer", "answers") + "** of " +
                  plural(sets.variables.size(), "variable", "variables") + " were filled in " +
                  countText(sets.count()) + " times, each set after " +
                  plural(static_cast<std::size_t>(sets.spec.rounds), "round", "rounds") + ".");
    if (!unsettled.empty()) {
        out.push_back("~The paths of " + joinedNames(unsettled) +
                      " still lie apart: ask for more rounds, or let less foretell " +
                      (unsettled.size() == 1 ? "it." : "them."));
    } else if (sets.spec.rounds >= 4) {
        out.emplace_back("The paths of the sets cannot be told apart any more: they have settled.");
    }
    if (!sets.groups.empty()) {
        const Variable* groups = frame.variable(sets.groups);
        out.push_back("Quantities and counts keep what rows of one " +
                      (groups == nullptr ? sets.groups : groups->shown()) + " share.");
    }
    out.emplace_back(
        "~Whether answers are missing at random given what foretells them cannot be tested: the "
        "ones that would tell are not there.");
    return out;
}

}  // namespace rapporto
