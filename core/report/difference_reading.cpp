#include "core/base/format.h"
#include "core/model/estimator.h"
#include "core/paths/trace_kind.h"
#include "core/report/missing_wording.h"
#include "core/report/reading_words.h"
#include "core/report/wording.h"
#include "core/study/model_comparison.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

/// The test between two models of one outcome, where there is one and it does not take long.
std::string testReading(const Answer& from, const Answer& to) {
    using Kind = ModelComparison::Kind;
    const auto test = comparedModels(from, to, Job());
    if (!test) {
        return {};
    }
    const std::string more = test->grows ? "What it adds" : "What it leaves out";
    const std::string ending = test->p < to.alpha
                                   ? ": the larger model is wanted."
                                   : ": the data do not ask for the larger model, which does not "
                                     "prove the smaller one.";
    if (test->kind == Kind::LikelihoodRatio) {
        return more + " raises twice the log-likelihood by " + fixedNumber(test->statistic, 2) +
               " (chi-square(" + shortNumber(test->df1) + ")" +
               (test->half ? ", half of it at zero" : "") + ", " + pClause(test->p) +
               (test->score ? "; by the scores of the smaller " + fixedNumber(*test->score, 2) +
                                  ", " + pClause(*test->scoreP)
                            : std::string()) +
               ")" + ending;
    }
    if (test->kind == Kind::Nested) {
        return more + " is told apart from nothing with F(" + shortNumber(test->df1) + ", " +
               shortNumber(test->df2.value_or(0.0)) + ") = " + fixedNumber(test->statistic, 2) +
               ", " + pClause(test->p) + ending;
    }
    const bool againstFrom = test->first.p < to.alpha;
    const bool againstTo = test->second.p < to.alpha;
    return "Neither holds the other’s terms. The other’s fit beside its own terms: in the first " +
           pClause(test->first.p) + ", in the second " + pClause(test->second.p) +
           " (Davidson & MacKinnon’s J; Cox and Pesaran: " + pText(test->first.pCox) + " and " +
           pText(test->second.pCox) + "). " +
           (againstFrom && againstTo ? "Each lacks something the other has."
            : againstFrom            ? "This speaks for the second."
            : againstTo              ? "This speaks for the first."
                                     : "The data do not tell them apart.");
}

/// How the second is estimated otherwise than the first.
std::string toldSettings(const Question& a, const Question& b) {
    const std::string now = methodText(b);
    if (const std::string was = methodText(a); now != was) {
        return "it is by " + now + " instead of " + was;
    }
    const std::vector<std::string>& zeros = b.settings.zeroTerms;
    if (zeros != a.settings.zeroTerms) {
        return std::string(hasTrait(b.method, trait::kUnseen) ? "the outcome is seen by "
                                                              : "zeros are told by ") +
               (zeros.empty() ? "the terms themselves" : joinedNames(zeros));
    }
    return "the settings of " + now + " differ";
}

/// What the second question asks otherwise than the first, in one line; empty: nothing.
std::string askedOtherwise(const Question& a, const Question& b) {
    std::string what;
    const auto add = [&](const std::string& text) { what += (what.empty() ? "" : "; ") + text; };
    if (a.outcome != b.outcome) {
        add("the outcome is " + b.outcome + " instead of " + a.outcome);
    }
    const auto listed = [](const Question& q, const Question& other) {
        std::string names;
        for (const Term& term : q.terms) {
            const bool there = std::any_of(other.terms.begin(), other.terms.end(),
                                           [&](const Term& t) { return t == term; });
            names += there || term.muted ? "" : (names.empty() ? "" : ", ") + term.shown();
        }
        return names;
    };
    if (const std::string more = listed(b, a); !more.empty()) {
        add("it adds " + more);
    }
    if (const std::string less = listed(a, b); !less.empty()) {
        add("it leaves out " + less);
    }
    if (a.fixedEffects != b.fixedEffects) {
        add(b.fixedEffects.empty() ? "nothing is held fixed"
                                   : "it holds " + joinedNames(b.fixedEffects) + " fixed");
    }
    if (a.endogenous != b.endogenous || a.instruments != b.instruments) {
        add(b.endogenous.empty()
                ? "no term is moved by instruments"
                : namesOf(b.endogenous) + " is moved by " +
                      (b.instruments.empty() ? "nothing yet" : namesOf(b.instruments)));
    }
    if (a.ownSlopes != b.ownSlopes) {
        add(b.ownSlopes.empty() ? "units have no slopes of their own"
                                : "units have slopes of their own in " + joinedNames(b.ownSlopes));
    }
    if (a.method != b.method || !(a.settings == b.settings)) {
        add(toldSettings(a, b));
    }
    if (a.exposure != b.exposure) {
        add(b.exposure.empty() ? "no exposure is counted" : "it is per " + b.exposure);
    }
    if (a.offset != b.offset) {
        add(b.offset.empty() ? "it has no offset" : "its offset is " + b.offset);
    }
    if (!(a.errors == b.errors)) {
        const std::string now = b.errors.shown();
        add(now != a.errors.shown() ? "errors are " + now + " instead of " + a.errors.shown()
                                    : "errors are " + now + " with other settings");
    }
    if (a.where != b.where || a.without != b.without) {
        add("the rows differ");
    }
    if (a.weightKind != b.weightKind || a.weight != b.weight) {
        add("the weights differ");
    }
    if (a.missing != b.missing || a.completeBy != b.completeBy) {
        const std::string now = missingText(b);
        add(now.empty() ? "rows that lack an answer are left out" : "it has " + now);
    }
    if (a.intercept != b.intercept) {
        add(b.intercept ? "it has a constant" : "it has no constant");
    }
    return what;
}

/// Which effect moved most, and whether its interval still says the same.
std::vector<std::string> mostMoved(const Answer& from, const Answer& to) {
    std::vector<std::string> out;
    const Coefficient* widest = nullptr;
    const Coefficient* was = nullptr;
    double most = -1.0;
    const bool alike = effectsIn(*from.fit) == effectsIn(*to.fit);
    if (!alike) {
        out.push_back("~Effects are counted in " + effectsIn(*to.fit) + " here and in " +
                      effectsIn(*from.fit) +
                      " there, so that their sizes cannot be set against each other: compare signs "
                      "and checks, or both “on the outcome” under Model.");
    }
    const auto before = comparedEffects(*from.fit);
    std::string changed;
    for (const ComparedEffect& one : comparedEffects(*to.fit)) {
        const Coefficient* o = alike ? effectIn(before, one.row) : nullptr;
        if (o == nullptr) {
            continue;
        }
        const Coefficient& c = *one.effect;
        const double moved = o->se > 0.0 ? std::abs(c.estimate - o->estimate) / o->se +
                                               std::abs(std::log(std::max(c.se, 1e-300) / o->se))
                                         : 0.0;
        if (moved > most) {
            most = moved;
            widest = &c;
            was = o;
            changed = one.row.text();
        }
    }
    if (alike && widest == nullptr) {
        out.emplace_back(
            "No effect stands in both in the same way: look at the rows of a term one below the "
            "other.");
    }
    if (widest != nullptr) {
        const int decimals = decimalsFor(std::min(widest->se, was->se));
        const double ratio = was->se > 0.0 ? widest->se / was->se : 1.0;
        const bool moved =
            std::abs(widest->estimate - was->estimate) > 1e-9 * (std::abs(was->estimate) + was->se);
        out.push_back("Most changed is **" + changed + "**: " +
                      (moved ? "from " + fixedNumber(was->estimate, decimals) + " to **" +
                                   fixedNumber(widest->estimate, decimals) + "**, and its"
                             : "the estimate stays at " + fixedNumber(was->estimate, decimals) +
                                   ", but its") +
                      " standard error is " + fixedNumber(ratio, 2) + " times what it was.");
        const bool zeroBefore = was->low < 0.0 && was->high > 0.0;
        const bool zeroNow = widest->low < 0.0 && widest->high > 0.0;
        if (zeroBefore != zeroNow) {
            out.push_back(
                zeroNow ? "Its interval no longer excludes zero: " +
                              fixedNumber(widest->low, decimals) + " to " +
                              fixedNumber(widest->high, decimals) + "."
                        : "Its interval now excludes zero: " + fixedNumber(widest->low, decimals) +
                              " to " + fixedNumber(widest->high, decimals) + ".");
        }
    }
    return out;
}

}  // namespace

std::vector<std::string> differenceReading(const Answer& from, const Answer& to) {
    std::vector<std::string> out;
    if (from.trace && to.trace) {
        return traceDifference(from, to);
    }
    if (from.refusal || to.refusal) {
        out.emplace_back("One of them is refused, so there is nothing to compare.");
        return out;
    }
    if (!from.fit || !to.fit) {
        out.emplace_back(
            "These are questions of different kinds: their numbers do not stand side "
            "by side.");
        return out;
    }
    const Question& a = from.question;
    const Question& b = to.question;
    const std::string what = askedOtherwise(a, b);
    out.push_back(what.empty() ? "The two questions are the same." : capitalised(what) + ".");
    if (a.outcome != b.outcome) {
        out.emplace_back(
            "~The outcomes differ, so neither estimates nor R² can be set against each other: "
            "compare signs, shapes and checks.");
        return out;
    }
    for (std::string& paragraph : mostMoved(from, to)) {
        out.push_back(std::move(paragraph));
    }
    // The checks that hold two methods against each other stand with one of them.
    for (const Answer* one : {&to, &from}) {
        const auto check =
            std::find_if(one->checks.begin(), one->checks.end(), [&](const CheckResult& c) {
                return a.method != b.method && c.p &&
                       c.id == (one->fit->instrumented ? "endogeneity" : "hausman");
            });
        if (check != one->checks.end()) {
            out.push_back(check->reading);
            break;
        }
    }
    if (const std::string test = testReading(from, to); !test.empty()) {
        out.push_back(test);
    }
    if (from.rows.used != to.rows.used) {
        out.push_back("~They stand on different rows: " + countText(from.rows.used) + " and " +
                      countText(to.rows.used) + ".");
    }
    return out;
}

}  // namespace rapporto
