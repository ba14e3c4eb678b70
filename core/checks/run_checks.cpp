#include "core/base/border.h"
#include "core/base/parallel.h"
#include "core/base/shown_names.h"
#include "core/checks/check.h"
#include "core/checks/common.h"
#include "core/checks/data_doubts.h"
#include "core/checks/shared_work.h"
#include "core/checks/told.h"
#include "core/model/likelihood.h"
#include "core/model/outcome_models.h"
#include "core/model/panel.h"
#include "core/model/shown_question.h"

#include <algorithm>
#include <atomic>
#include <chrono>
#include <cmath>
#include <mutex>

namespace rapporto {
namespace {

/// Every unit lies within one cluster of the errors: what hangs together along a unit is theirs.
bool unitsWithinClusters(const CheckInput& in) {
    if (in.design.layout != Layout::Kind::Panel || in.question.errors.by.size() != 1) {
        return false;
    }
    const std::string& unit = in.frame.layout().unit;
    if (plainName(in.question.errors.by.front()) == unit) {
        return true;
    }
    const auto units = groupsFor(in, unit);
    const auto clusters = groupsFor(in, in.question.errors.by.front());
    if (!units || !clusters) {
        return false;
    }
    std::vector<int> clusterOf(units->labels.size(), -1);
    for (std::size_t i = 0; i < units->of.size(); ++i) {
        const int cluster = clusters->of[i];
        if (units->of[i] < 0 || cluster < 0) {
            return false;
        }
        int& known = clusterOf[static_cast<std::size_t>(units->of[i])];
        if (known >= 0 && known != cluster) {
            return false;
        }
        known = cluster;
    }
    return true;
}

/// The errors of the question do not need what the check asks.
bool allowedFor(const Check& check, const CheckInput& in) {
    const ErrorSpec& errors = in.question.errors;
    if (check.has(traits::kOfSpread)) {
        return errors.allowUnevenSpread();
    }
    if (check.has(traits::kOfClusters)) {
        const bool same =
            in.options.by.empty() ||
            std::any_of(errors.by.begin(), errors.by.end(), [&](const std::string& one) {
                return plainName(one) == plainName(in.options.by);
            });
        return (errors.allowClusters() && same) ||
               (errors.followTheDesign() && !in.design.clusters.empty());
    }
    return check.has(traits::kAlongTime) &&
           (errors.allowEcho() || (errors.allowClusters() && unitsWithinClusters(in)));
}

/// A constant and nothing else, also where effects are swept out.
bool isMeanAlone(const Design& design) {
    return design.terms.empty() && design.effects.empty() && !design.swept;
}

unsigned kindOf(const Design& design, const Fit& fit) {
    if (fit.quantile) {
        return fits::kQuantile;
    }
    if (fit.robust) {
        return fits::kHeldDown;
    }
    if (fit.levels) {
        return fits::kLevels;
    }
    if (fit.likelihood) {
        const Family::Outcome outcome = fit.likelihood->family->outcome;
        return outcome == Family::Outcome::Count     ? fits::kCount
               : outcome == Family::Outcome::YesNo   ? fits::kYesNo
               : outcome == Family::Outcome::Ordered ? fits::kOrdered
                                                     : fits::kOther;
    }
    if (fit.dynamic) {
        return fits::kDynamic;
    }
    if (fit.instrumented) {
        return fits::kInstruments;
    }
    if (design.swept) {
        return design.effects.size() == 1 ? fits::kOneEffect : fits::kEffects;
    }
    return fit.echo                            ? fits::kEcho
           : fit.panel && fit.panel->sigmaUnit ? fits::kRandom
                                               : fits::kPlain;
}

/// What a check is of that is made for one kind of fit and for none of the rows as they are; empty:
/// of something else.
std::string askedOf(const Check& check) {
    struct Subject {
        unsigned of;
        const char* words;
    };

    static constexpr Subject kSubjects[] = {
        {fits::kCount, "counts"},
        {fits::kYesNo, "yes–no outcomes"},
        {fits::kYesNo | fits::kCount, "yes–no outcomes and counts"},
        {fits::kOrdered, "ordered outcomes"},
        {fits::kHeldDown, "robust fits, whose rows have weights of their own"},
        {fits::kDynamic, "instruments by earlier moments"},
        {fits::kEffects, "effects held fixed, of units and of moments"},
        {fits::kEffects | fits::kOneEffect, "effects of units held fixed"},
        {fits::kLevels, "random effects of groups"},
    };
    for (const Subject& subject : kSubjects) {
        if (check.of == subject.of) {
            return subject.words;
        }
    }
    return {};
}

std::string outOfScope(unsigned kind, const Check& check) {
    if (const std::string of = askedOf(check); !of.empty()) {
        return "It is asked of " + of + ".";
    }
    constexpr unsigned kOutcomes =
        fits::kCount | fits::kYesNo | fits::kOrdered | fits::kOther | fits::kQuantile;
    return (kind & kOutcomes) != 0   ? "It is made for least squares; of this outcome see its own "
                                       "checks below."
           : kind == fits::kHeldDown ? "It is made for least squares of equal rows."
           : kind == fits::kDynamic
               ? "It is made for least squares; of earlier moments see whether "
                 "the cause can be trusted."
           : kind == fits::kInstruments
               ? "It is made for least squares; of instruments see whether "
                 "the cause can be trusted."
           : kind == fits::kLevels ? "It is made for rows that stand alone; of groups’ effects see "
                                     "whether the groups stand as they should."
           : kind == fits::kEcho   ? "It is not made for rows less a share of the row before."
           : kind == fits::kRandom
               ? "It is not made for rows less a share of their unit’s mean."
               : "It is not made for effects that are swept out. With few groups, ask with the "
                 "grouping among the terms.";
}

/// What does not exist is absent: a statistic or p outside of its law’s domain.
void onlyNumbers(CheckResult& result) {
    const auto exists = [](const std::optional<double>& x) { return !x || std::isfinite(*x); };
    if (result.verdict == Verdict::NotApplicable) {
        return;
    }
    if (!exists(result.statistic) || !exists(result.p)) {
        result = notApplicable(
            "Its statistic does not exist on these rows: what it sets against each other does not "
            "vary, or too little is left.");
    }
}

/// One check behind its border: a mistake in it is its own alone.
CheckResult behindBorder(const Check& check, const std::function<CheckResult()>& run) {
    const auto found = guarded("the check ‘" + std::string(check.name) + "’",
                               [&]() -> Result<CheckResult> { return run(); });
    if (found) {
        CheckResult result = *found;
        onlyNumbers(result);
        return result;
    }
    CheckResult result = notApplicable(found.error().text());
    result.reading.front() = 'T';  // “The check …”
    result.fault = found.error().code == ErrorCode::Fault;
    return result;
}

/// What the question asks for, in the order it is shown.
std::vector<CheckRequest> wantedChecks(const Question& question) {
    if (!question.allChecks) {
        return question.checks;
    }
    std::vector<CheckRequest> wanted;
    for (const Check& check : allChecks()) {
        if (check.of != fits::kTrace) {
            wanted.push_back(CheckRequest{check.id});
        }
    }
    return wanted;
}

/// Tells of what is there as it comes, not oftener than a person can follow.
class Telling {
  public:
    Telling(const CheckRun& run, std::vector<CheckResult> awaited)
        : run_(run), results_(std::move(awaited)) {}

    /// Known from before: nothing to tell by itself.
    void set(std::size_t k, CheckResult result) { results_[k] = std::move(result); }

    void put(std::size_t k, CheckResult result) {
        const std::scoped_lock lock(mutex_);
        results_[k] = std::move(result);
        if (Clock::now() > next_) {
            tell();
        }
    }

    /// Telling takes time of its own where pictures hold many rows: a tenth of it all at the most.
    void tell() {
        if (!run_.tell) {
            return;
        }
        const auto from = Clock::now();
        run_.tell(results_);
        const auto took = Clock::now() - from;
        next_ = Clock::now() + std::max<Clock::duration>(std::chrono::milliseconds(60), 9 * took);
    }

    [[nodiscard]] std::vector<CheckResult> take() { return std::move(results_); }

  private:
    using Clock = std::chrono::steady_clock;
    const CheckRun& run_;
    std::mutex mutex_;
    std::vector<CheckResult> results_;
    Clock::time_point next_;  ///< Not told of again before.
};

/// What a check looks at, and what of it may be asked here.
class Asking {
  public:
    Asking(const CheckRun& run, const Job& job)
        : run_(run),
          job_(job),
          // The second step of a selection has an uneven spread of its own: least squares' checks
          // would speak of that.
          kind_(hasTrait(run.question.method, trait::kUnseen) ? unsigned{fits::kOther}
                                                              : kindOf(run.design, run.fit)),
          counted_(run.design.weightKind == WeightKind::Frequency &&
                   run.frame.moments() == nullptr) {}

    /// What the checks of the data share; before they are made side by side.
    void lookAtData(const CheckRequest& request) {
        doubts_.look({run_.frame, run_.question, run_.design, run_.fit, request, run_.alpha, job_});
    }

    void findRows() { rows_ = run_.rows ? run_.rows() : nullptr; }

    [[nodiscard]] CheckResult operator()(const CheckRequest& request) const {
        const Check* check = findCheck(request.id);
        const bool ofFit = check != nullptr && check->has(traits::kOfWeightedFit);
        const bool aside = rows_ != nullptr && (counted_ || !ofFit);
        const CheckInput in{run_.frame,
                            run_.question,
                            aside ? rows_->design : run_.design,
                            aside ? rows_->fit : run_.fit,
                            request,
                            run_.alpha,
                            job_,
                            nullptr,
                            run_.defence};
        CheckResult result = answered(check, in);
        markAllowedFor(in, result);
        const bool ofData = check != nullptr && check->isOfData();
        if (aside && !ofData && !counted_ && result.verdict != Verdict::NotApplicable) {
            result.reading += " Each row counts once here, whatever its weight.";
        }
        showNames(result, run_.question);
        result.id = request.id;
        return result;
    }

  private:
    [[nodiscard]] CheckResult answered(const Check* check, const CheckInput& in) const {
        if (check == nullptr) {
            return notApplicable("The check ‘" + in.options.id + "’ is not built yet.");
        }
        if (check->needsRows && run_.frame.moments() != nullptr) {
            return notApplicable(run_.frame.left() != nullptr
                                     ? "It looks at rows, and they stay where they lie."
                                     : "It looks at rows, and the source is a summary of them.");
        }
        if (check->of == fits::kTrace) {
            return notApplicable(
                "It looks at a system of equations: ask how a cause reaches its outcome.");
        }
        if (check->isOfData()) {
            return behindBorder(*check, [&] { return doubts_.answer(in); });
        }
        if ((check->of & kind_) == 0) {
            return notApplicable(outOfScope(kind_, *check));
        }
        if (run_.fit.exact) {
            return notApplicable("The terms tell the outcome exactly: there is nothing to tell.");
        }
        if (check->has(traits::kNeedsTerms) && isMeanAlone(run_.design)) {
            return notApplicable("There is no term: the question asks for a mean.");
        }
        // Along one direction the residuals are the terms’ doing; the outcome only scales them.
        if ((kind_ & fits::kAny) != 0 && run_.fit.dfResidual < 2.0 &&
            !check->has(traits::kOfTermsAlone)) {
            return notApplicable(
                "One degree of freedom is left: what the terms leave has the same shape whatever "
                "the outcome is.");
        }
        if (counted_ && rows_ == nullptr && !check->has(traits::kCountsRows)) {
            return notApplicable("The weights stand for more rows than it can be made for.");
        }
        const SharedWork::Here here(shared_, &in.fit);
        return behindBorder(*check, [&] { return check->run(in); });
    }

    const CheckRun& run_;
    DataDoubts doubts_;
    mutable SharedWork shared_;
    const Job& job_;
    std::shared_ptr<const CheckRows> rows_;
    unsigned kind_;
    bool counted_;
};

}  // namespace

void markAllowedFor(const CheckInput& in, CheckResult& result) {
    const Check* check = findCheck(in.options.id);
    if (check == nullptr || !isDoubt(result.verdict) || !allowedFor(*check, in)) {
        return;
    }
    result.verdict = Verdict::AllowedFor;
    result.reading += " The errors of this question (" + in.question.errors.shown() +
                      ") allow for it: intervals and p stand.";
}

void showNames(CheckResult& result, const Question& question) {
    const std::vector<std::string> texts = quotedTexts(question);
    if (texts.empty()) {
        return;
    }
    const auto show = [&](std::string& words) { words = shownNamesOf(std::move(words), texts); };
    show(result.headline);
    show(result.reading);
    for (Remedy& remedy : result.remedies) {
        show(remedy.label);
        show(remedy.why);
    }
    Exhibit& exhibit = result.exhibit;
    for (std::string* words :
         {&exhibit.title, &exhibit.subtitle, &exhibit.xTitle, &exhibit.yTitle}) {
        show(*words);
    }
    for (auto* names : {&exhibit.xNames, &exhibit.barNames, &exhibit.seriesNames}) {
        std::for_each(names->begin(), names->end(), show);
    }
    for (Exhibit::Line& line : exhibit.lines) {
        show(line.name);
    }
}

std::vector<CheckResult> awaitedChecks(const Question& question) {
    std::vector<CheckResult> out;
    for (const CheckRequest& request : wantedChecks(question)) {
        CheckResult result = notApplicable("It is being worked out.");
        result.id = request.id;
        result.awaited = true;
        out.push_back(std::move(result));
    }
    return out;
}

std::vector<CheckResult> runChecks(const CheckRun& run, const Job& job) {
    const std::vector<CheckRequest> wanted = wantedChecks(run.question);
    Telling results(run, awaitedChecks(run.question));
    std::vector<std::size_t> open;
    for (std::size_t k = 0; k < wanted.size(); ++k) {
        auto known = run.before ? run.before(wanted[k]) : std::nullopt;
        if (known) {
            results.set(k, *std::move(known));
        } else {
            open.push_back(k);
        }
    }
    Asking asking(run, job);
    if (!open.empty()) {
        results.tell();
        asking.findRows();
        const auto ofData = [&](std::size_t k) {
            const Check* check = findCheck(wanted[k].id);
            return check != nullptr && check->isOfData();
        };
        if (const auto first = std::find_if(open.begin(), open.end(), ofData);
            first != open.end() && run.frame.moments() == nullptr) {
            asking.lookAtData(wanted[*first]);
        }
    }
    const auto at = [&](std::size_t o) {
        const std::size_t k = open[o];
        if (job.stopped()) {
            return;
        }
        CheckResult result = asking(wanted[k]);
        if (!job.stopped()) {
            if (run.keep) {
                run.keep(wanted[k], result);
            }
            results.put(k, std::move(result));
        }
    };
    // Small ones side by side; of large ones two, so that memory holds the work of no more; of
    // those that fill it one after another.
    constexpr Eigen::Index kMostBeside = 2'000'000;
    constexpr Eigen::Index kMostTwo = 40'000'000;
    if (run.design.X.size() <= kMostBeside) {
        inParallel(open.size(), at);
    } else {
        std::atomic<std::size_t> next{0};
        inParallel(run.design.X.size() <= kMostTwo ? 2 : 1, [&](std::size_t) {
            for (std::size_t o = next++; o < open.size(); o = next++) {
                at(o);
            }
        });
    }
    std::vector<CheckResult> out = results.take();
    // Those that a stop has left without an answer.
    std::erase_if(out, [](const CheckResult& result) { return result.awaited; });
    return out;
}

}  // namespace rapporto
