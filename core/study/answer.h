#pragma once

#include "core/base/compiled_once.h"
#include "core/checks/check.h"
#include "core/describe/correlation.h"
#include "core/model/hypothesis.h"
#include "core/model/left_out.h"
#include "core/model/prediction.h"
#include "core/study/study.h"

#include <nlohmann/json_fwd.hpp>

#include <functional>
#include <memory>

namespace rapporto {

struct Defence;
struct Forecast;
struct ImputedSets;
struct Trace;
class KnownChecks;

/// A question answered, or refused with why. Immutable.
struct Answer {
    RAPPORTO_COMPILED_ONCE(Answer);

    Question question;
    std::optional<Refusal> refusal;
    double alpha = 0.05;
    RowCounts rows;
    std::shared_ptr<const Design> design;                  ///< Null when refused.
    std::shared_ptr<const Fit> fit;                        ///< Null when refused.
    std::shared_ptr<const CorrelationTable> correlations;  ///< Of kind correlate; else null.
    std::shared_ptr<const Trace> trace;                    ///< Of kind trace; else null.
    std::vector<CheckResult> checks;

    // What was asked beside the fit; each part answers or is refused by itself.
    std::shared_ptr<const ScenarioMap> scenarios;  ///< Null when refused.
    Result<std::vector<Prediction>> predictions;
    std::vector<Result<std::vector<MarginalEffect>>> effects;  ///< As `question.effects`.
    std::vector<Result<HypothesisTest>> hypotheses;            ///< As `question.hypotheses`.
    std::vector<TurningPoint> turningPoints;
    std::optional<Result<LeftOut>> leftOut;  ///< Where it was asked.
    std::shared_ptr<const Defence> defence;  ///< Of lots, worst cases, sizes; null: none was asked.
    std::shared_ptr<const Result<Forecast>> forecast;  ///< Null where it was not asked.
    /// Mistakes of this program that took a part of the answer away, with the part’s name.
    std::vector<std::string> faults;
    bool fromMoments = false;  ///< No rows were at hand: `fit` tells nothing by row.
    /// What was asked of the engine where rows stay, in order; null: they were at hand.
    std::shared_ptr<const std::vector<std::string>> asked;
};

/// What goes with the making of an answer beside what is asked.
struct Making {
    /// Nobody looks while it is made, and nothing is remembered.
    Making(const Job& of) : job(of) {}

    Job job;
    /// Shown the answer so far, from any thread, one call at a time: all of it but checks, which
    /// are awaited in their places. Not called for what is there at once. May be empty.
    std::function<void(const Answer&)> show = {};
    KnownChecks* known = nullptr;  ///< Checks made before; null: nothing is remembered.
    /// The sets of the study that are filled in, made once for all its questions. Empty: made anew.
    std::function<Result<std::shared_ptr<const ImputedSets>>(const Job&)> sets = {};
};

/// Checks of an answer that are still being worked out.
[[nodiscard]] std::size_t awaitedChecks(const Answer& answer);

/// About how much memory an answer keeps: its matrices and what is kept row by row.
[[nodiscard]] std::size_t bytesOf(const Answer& answer);

/// One question answered by its kind.
[[nodiscard]] Answer answerQuestion(const Study& study, const Frame& frame,
                                    const Question& question, const Making& making);

/// What went wrong inside this program is said once more where the person looks for faults.
template <class T>
void noteFault(Answer& answer, const Result<T>& part) {
    if (!part && part.error().code == ErrorCode::Fault) {
        answer.faults.push_back(part.error().text());
    }
}

/// The refusal of work that the person stopped.
[[nodiscard]] tl::unexpected<Refusal> stoppedWork();

/// The results file for these answers, as docs/study-format.md has it.
[[nodiscard]] nlohmann::ordered_json resultsJson(const Study& study,
                                                 const std::vector<Answer>& answers);

}  // namespace rapporto
