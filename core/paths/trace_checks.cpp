// Do the paths hold? What is left out of a system, and whether its draws are enough.
#include "core/base/border.h"
#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/checks/told.h"
#include "core/paths/trace.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

std::string arrowText(const AbsentPath& path) { return path.from + " → " + path.to; }

/// The trace with a path more, as a variant.
Remedy withPath(const Question& question, const AbsentPath& path) {
    Question variant = question;
    variant.id.clear();
    variant.variantOf = question.variantOf.empty() ? question.id : question.variantOf;
    variant.lead = false;
    variant.title = "with " + arrowText(path);
    for (PathSpec& one : variant.trace.paths) {
        const auto parsed = Expression::parse(one.to);
        if ((parsed ? parsed->canonical() : one.to) == path.to) {
            one.from.push_back(Term::expression(path.from));
        }
    }
    return {"Draw " + arrowText(path), "the path that would add most, beside the others", variant};
}

/// p of the clearest of so many that were tried, by Holm’s first step.
double holmFirst(const std::vector<AbsentPath>& absent) {
    return std::min(1.0, absent.front().p * static_cast<double>(absent.size()));
}

std::string clearestText(const AbsentPath& path) {
    return "Of the paths left out **" + arrowText(path) + "** would add most (" +
           (path.df == 1.0 ? "t² " : "F ") + shortNumber(path.statistic, 3) + ", " +
           pClause(path.p) + ").";
}

}  // namespace

// Bollen (1989), Structural Equations with Latent Variables, chapter 7; Steiger (1990).
CheckResult checkPathsLeftOut(const CheckInput& in) {
    const Trace& trace = *in.trace;
    const bool tested = trace.fit && trace.fit->df > 0.0;
    if (!tested && trace.absent.empty()) {
        return notApplicable(
            "Every path that these variables could show is drawn, or trying those left out would "
            "take too many fits: nothing is left out that could be tested.");
    }
    CheckResult result;
    for (const AbsentPath& path : trace.absent) {
        result.details.emplace_back("p " + arrowText(path), path.p);
    }
    if (tested) {
        const SystemFit& fit = *trace.fit;
        result.statistic = fit.chi2;
        result.statisticName = "χ²";
        result.df = {fit.df};
        result.distribution = "chi2";
        result.p = fit.p;
        result.verdict = judge(fit.p, in.alpha, fit.rmsea, 0.05, 0.10);
        result.headline = pClause(fit.p);
        result.reading =
            std::string(fit.p >= in.alpha ? "The data do not speak against leaving these paths out"
                                          : "The paths left out are missed") +
            " (χ²(" + shortNumber(fit.df) + ") " + fixedNumber(fit.chi2, 2, true) + ", " +
            pClause(fit.p) + "; RMSEA " + fixedNumber(fit.rmsea, 3, true) + ", 90 % " +
            fixedNumber(fit.rmseaLow, 3, true) + " to " + fixedNumber(fit.rmseaHigh, 3, true) +
            "). Errors of different equations are taken as unrelated.";
    } else {
        const AbsentPath& first = trace.absent.front();
        const double p = holmFirst(trace.absent);
        result.statistic = first.statistic;
        result.statisticName = first.df == 1.0 ? "t²" : "F";
        result.df = {first.df};
        result.distribution = "F";
        result.p = p;
        result.verdict = judge(p, in.alpha, first.statistic, 0.0, 15.0);
        result.headline = pClause(p);
        result.reading = p >= in.alpha ? "No path that is left out stands out from chance (" +
                                             pClause(p) + ", counting that " +
                                             countText(trace.absent.size()) + " were tried)."
                                       : "A path that is left out is missed.";
    }
    if (!trace.absent.empty()) {
        result.reading += " " + clearestText(trace.absent.front());
        if (*result.p < in.alpha) {
            result.reading +=
                " A path is drawn for a reason, not for a test: ask whether the one could act on "
                "the other.";
            result.remedies.push_back(withPath(in.question, trace.absent.front()));
        }
    }
    return result;
}

// Efron & Tibshirani (1993), An Introduction to the Bootstrap, section 14.3.
CheckResult checkDraws(const CheckInput& in) {
    const Trace& trace = *in.trace;
    if (trace.asked == 0) {
        return notApplicable("The intervals are by the delta method: nothing was drawn.");
    }
    const bool far = trace.interval == "bca";
    const int good = trace.asked - trace.failed;
    const double beyond = good * in.alpha / 2.0;
    const double failed = static_cast<double>(trace.failed) / trace.asked;
    const double enough = far ? 50.0 : 25.0;
    const double least = far ? 20.0 : 10.0;
    CheckResult result;
    result.statistic = failed;
    result.statisticName = "share of draws that failed";
    result.details = {
        {"asked", trace.asked}, {"failed", trace.failed}, {"beyond each end", beyond}};
    result.verdict = beyond < least || failed >= 0.10    ? Verdict::Fails
                     : beyond < enough || failed >= 0.01 ? Verdict::Weigh
                                                         : Verdict::Fine;
    const auto asked = static_cast<std::size_t>(trace.asked);
    result.headline = countText(static_cast<std::size_t>(good)) + " of " + countText(asked);
    result.reading = plural(asked, "draw", "draws") +
                     (trace.failed == 0 ? ", all with a solution; "
                                        : ", " + countText(static_cast<std::size_t>(trace.failed)) +
                                              " without one, which are left out; ") +
                     "about " + shortNumber(std::floor(beyond)) +
                     " lie beyond each end of an interval.";
    if (failed >= 0.01) {
        result.reading +=
            " A draw without a solution lacks a level or repeats too few rows: what is left is "
            "not quite a draw of the sample.";
    }
    if (beyond < enough) {
        const double needed = std::ceil(enough * 2.0 / in.alpha / 1000.0) * 1000.0;
        result.reading += " The ends move from one seed to the next: ask for " +
                          countText(static_cast<std::size_t>(needed)) + ".";
        Question variant = in.question;
        variant.id.clear();
        variant.variantOf = in.question.variantOf.empty() ? in.question.id : in.question.variantOf;
        variant.lead = false;
        variant.title = countText(static_cast<std::size_t>(needed)) + " draws";
        variant.trace.draws = static_cast<int>(needed);
        result.remedies.push_back({"Draw " + countText(static_cast<std::size_t>(needed)) + " times",
                                   "the ends of the intervals settle", variant});
    }
    return result;
}

std::vector<CheckResult> runTraceChecks(const Frame& frame, const Question& question,
                                        const Trace& trace, double alpha, const Job& job) {
    std::vector<CheckRequest> wanted = question.checks;
    if (question.allChecks) {
        wanted.clear();
        for (const Check& check : allChecks()) {
            if (check.of == fits::kTrace) {
                wanted.push_back(CheckRequest{check.id});
            }
        }
    }
    std::vector<CheckResult> results;
    const TraceEquation& first = trace.equations.front();
    for (const CheckRequest& request : wanted) {
        const Check* check = findCheck(request.id);
        if (check == nullptr || check->of != fits::kTrace || job.stopped()) {
            continue;
        }
        const CheckInput in{frame,   question, *first.design, *first.fit,
                            request, alpha,    job,           &trace};
        auto found = guarded("the check ‘" + std::string(check->name) + "’",
                             [&]() -> Result<CheckResult> { return check->run(in); });
        CheckResult result = found ? *std::move(found) : notApplicable(found.error().text());
        result.fault = !found && found.error().code == ErrorCode::Fault;
        showNames(result, question);
        result.id = request.id;
        results.push_back(std::move(result));
    }
    return results;
}

}  // namespace rapporto
