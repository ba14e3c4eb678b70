#include "core/study/explain.h"

#include "core/base/border.h"
#include "core/defend/answer_defence.h"
#include "core/describe/survey_mean.h"
#include "core/left/left_explain.h"
#include "core/model/event_study.h"
#include "core/model/feasible_ar.h"
#include "core/model/forecast.h"
#include "core/model/instruments.h"
#include "core/model/likelihood.h"
#include "core/model/method_uses.h"
#include "core/model/panel.h"
#include "core/model/penalised_profile.h"
#include "core/model/quantile.h"
#include "core/model/reweighted.h"
#include "core/model/shown_question.h"
#include "core/report/wording.h"
#include "core/study/known_checks.h"
#include "core/study/missing_answer.h"
#include "core/study/question_codec.h"
#include "core/study/results.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace rapporto {
namespace {

/// Why a summary of a few variables cannot answer this, or nothing.
std::optional<Refusal> needsRows(const SummaryMatrix& moments, const Question& question,
                                 const std::vector<TermSet>& sets) {
    const auto rows = [](const std::string& what, const std::string& help) {
        return Refusal{
            ErrorCode::BadSetting, what + " needs rows, and the source is a summary", "", help, {}};
    };
    const auto isVariable = [&](const std::string& text) {
        const auto parsed = Expression::parse(text);
        return parsed && parsed->isName();
    };
    if (!isVariable(question.outcome)) {
        return rows("the outcome ‘" + question.outcome + "’",
                    "Name one of the summary’s variables.");
    }
    for (const Term& term : question.terms) {
        if (!term.muted && term.kind == Term::Kind::Expression && !isVariable(term.parts[0])) {
            return rows("the term ‘" + term.shown() + "’", "Name the summary’s variables alone.");
        }
        if (!term.muted && term.kind == Term::Kind::Product) {
            return rows("the product " + term.shown(), "Take it out.");
        }
        for (const TermSet& set : sets) {
            const bool named =
                !term.muted && term.kind == Term::Kind::Set && set.name == term.parts[0];
            if (named && !std::all_of(set.members.begin(), set.members.end(), isVariable)) {
                return rows("a member of the set ‘" + set.name + "’",
                            "Name the summary’s variables alone.");
            }
        }
    }
    if (!question.where.empty() || !question.without.empty()) {
        return rows("a rule", "Take it out.");
    }
    if (question.weightKind != WeightKind::None) {
        return rows("a weight", "Take it out.");
    }
    if (!question.fixedEffects.empty() || !question.instruments.empty()) {
        return rows("what is held fixed or an instrument", "Take it out.");
    }
    if (question.errors.kind != "classical") {
        return rows("anything but classical errors", "Use classical errors.");
    }
    if (!question.byLeastSquares()) {
        return rows("the method ‘" + question.method + "’", "Use least squares.");
    }
    if (!moments.hasMeans && !question.intercept) {
        return rows("a line through zero", "The means are not given: keep the constant.");
    }
    return std::nullopt;
}

/// The design over rows that stand for those behind the moments.
///
/// @param counts  how many rows there were, where the design is refused, too.
Result<Design> designFor(const Frame& frame, const Question& question,
                         const std::vector<TermSet>& sets, RowCounts& counts, const Job& job) {
    auto design = makeDesign(frame, question, sets, job, &counts);
    if (design && frame.moments() != nullptr) {
        const auto n = frame.moments()->n;
        const auto m = static_cast<double>(design->rows.size());
        design->weightKind = WeightKind::Frequency;
        design->weights =
            Eigen::VectorXd::Constant(static_cast<Eigen::Index>(design->rows.size()), n / m);
        const auto all = static_cast<std::size_t>(n);
        design->counts = RowCounts{};
        design->counts.source = design->counts.inSample = design->counts.used = all;
        if (static_cast<double>(design->X.cols()) >= n) {
            return refuse(ErrorCode::TooFewRows, "there are as many terms as rows", "",
                          "Take terms out.");
        }
        if (!frame.moments()->hasMeans) {
            design->warnings.push_back(
                "The summary gives no means: the constant stands for nothing here.");
        }
        if (!frame.moments()->hasScale) {
            design->warnings.push_back(
                "The summary gives no standard deviations: every effect is in standard deviations "
                "of the outcome for one of the term.");
        }
    }
    return design;
}

/// A bent line’s design without the columns of its places, which are the last ones.
Design withoutPlaces(const Design& design, std::size_t bends) {
    Design out = design;
    const auto m = static_cast<Eigen::Index>(bends);
    out.X.conservativeResize(Eigen::NoChange, design.X.cols() - m);
    out.columns.resize(out.columns.size() - bends);
    out.terms.resize(out.terms.size() - bends);
    return out;
}

/// Values that the question has no variable for change nothing: they are passed over, and said.
Result<std::vector<Prediction>> predictionsOf(const Answer& answer, const Frame& frame,
                                              const Design& design, const Fit& fit) {
    std::vector<PredictRequest> requests = answer.question.predict;
    std::vector<std::vector<std::string>> passed(requests.size());
    for (std::size_t i = 0; i < requests.size(); ++i) {
        std::erase_if(requests[i].at, [&](const auto& one) {
            const bool idle =
                frame.variable(one.first) != nullptr && !answer.scenarios->knows(one.first);
            if (idle) {
                passed[i].push_back(one.first +
                                    " is not in the question: its value changes "
                                    "nothing");
            }
            return idle;
        });
    }
    auto found = predictAt(design, fit, *answer.scenarios, requests, answer.alpha);
    for (std::size_t i = 0; found && i < passed.size(); ++i) {
        auto& warnings = (*found)[i].warnings;
        if (design.swept) {
            warnings.emplace_back(
                "the level is that of the mean effect of what is held fixed: differences hold "
                "for every group, the level for none in particular");
        }
        if ((*found)[i].overGroups) {
            warnings.emplace_back(
                "it is that of a group at the middle: over all groups together the mean lies "
                "elsewhere");
        }
        warnings.insert(warnings.end(), passed[i].begin(), passed[i].end());
    }
    return found;
}

Result<std::vector<MarginalEffect>> effectsOf(const Answer& answer, const Frame& frame,
                                              const Design& design, const Fit& fit,
                                              const EffectRequest& request) {
    if (request.over.empty()) {
        return marginalEffects(design, fit, *answer.scenarios, request, answer.alpha);
    }
    const auto over = rowGroups(frame, request.over, design.rows);
    if (!over) {
        return tl::make_unexpected(over.error());
    }
    return marginalEffects(design, fit, *answer.scenarios, request, answer.alpha, &*over);
}

}  // namespace

void answerRequests(Answer& answer, const Study& study, const Frame& frame, const Design& design,
                    const Fit& fit, const Job& job) {
    const Question& q = answer.question;
    if (q.leftOut) {
        answer.leftOut = guarded("what may be left out", [&] {
            return leftOut(design, fit, *q.leftOut, study.sets, answer.alpha);
        });
        noteFault(answer, *answer.leftOut);
    }
    const auto map =
        guarded("what is asked beside the fit", [&] { return ScenarioMap::make(frame, design); });
    noteFault(answer, map);
    if (!map) {
        answer.predictions = tl::make_unexpected(map.error());
        answer.effects.assign(q.effects.size(), tl::make_unexpected(map.error()));
    } else {
        answer.scenarios = std::make_shared<const ScenarioMap>(*map);
        if (q.forecast) {
            answer.forecast = std::make_shared<const Result<Forecast>>(guarded("the forecast", [&] {
                return forecastOf(frame, design, fit, *answer.scenarios, *q.forecast, answer.alpha,
                                  job.quiet());
            }));
            noteFault(answer, *answer.forecast);
        }
        if (!q.predict.empty()) {
            answer.predictions = guarded("the predictions",
                                         [&] { return predictionsOf(answer, frame, design, fit); });
            noteFault(answer, answer.predictions);
        }
        for (const EffectRequest& request : q.effects) {
            answer.effects.push_back(guarded("the effect of ‘" + request.of + "’", [&] {
                return effectsOf(answer, frame, design, fit, request);
            }));
            noteFault(answer, answer.effects.back());
        }
    }
    answerStatements(answer, [&](const std::string& text) {
        return testHypothesis(design, fit, text, answer.alpha);
    });
    answerTurns(answer, design, fit);
}

void answerStatements(Answer& answer,
                      const std::function<Result<HypothesisTest>(const std::string&)>& test) {
    std::vector<double> ps;
    for (const std::string& text : answer.question.hypotheses) {
        answer.hypotheses.push_back(
            guarded("the statement ‘" + text + "’", [&] { return test(text); }));
        noteFault(answer, answer.hypotheses.back());
        ps.push_back(answer.hypotheses.back() ? answer.hypotheses.back()->p
                                              : std::numeric_limits<double>::quiet_NaN());
    }
    const std::vector<double> adjusted = holm(ps);
    for (std::size_t i = 0; i < ps.size(); ++i) {
        if (answer.hypotheses[i]) {
            answer.hypotheses[i]->adjusted = adjusted[i];
        }
    }
}

void answerTurns(Answer& answer, const Design& design, const Fit& fit) {
    if (!answer.scenarios) {
        return;
    }
    const auto points = guarded("the turning points", [&]() -> Result<std::vector<TurningPoint>> {
        return turningPoints(design, fit, *answer.scenarios, answer.alpha);
    });
    noteFault(answer, points);
    answer.turningPoints = points ? *points : std::vector<TurningPoint>();
}

namespace {

/// Errors come from estimating anew: by replicate weights, or by drawing where there is no shorter
/// way.
bool isRedone(const Question& question, const Estimator& estimator, const ErrorSpec& errors,
              const Design& design) {
    const bool least = estimator.has(trait::kByLeast);
    // These take no weights, so not those of a draw either: the estimator says so itself.
    const bool unweighted =
        (estimator.takes & (takes::kRowsInOrder | takes::kGroupsWhole)) != 0 ||
        (estimator.has(trait::kChange) && question.settings.weighting == "group-time");
    if (unweighted) {
        return false;
    }
    return (errors.kind == "survey" && design.survey != nullptr &&
            !design.survey->replicates.empty()) ||
           (errors.areDrawn() && !least);
}

Result<Fit> redone(Fit fit, const Estimator& estimator, const Design& design,
                   const EstimatorSettings& settings, const ErrorSpec& errors, double alpha,
                   const Job& job) {
    const Reweighted estimates(estimator, design, settings, fit);
    auto covariance = errors.kind == "survey"
                          ? replicateCovariance(estimates, fit, *design.survey, job)
                          : redrawnCovariance(estimates, fit, errors, alpha, job);
    if (!covariance) {
        return tl::make_unexpected(covariance.error());
    }
    replaceCovariance(fit, fit.linearised ? *fit.linearised : design, *std::move(covariance),
                      alpha);
    return fit;
}

}  // namespace

namespace {

/// Checks take bends as given: a place is no term.
Result<CheckRows> withBendsHeld(const Design& design, const Fit& fit, const ErrorSpec& errors,
                                double alpha, const Job& job) {
    Design held = withoutPlaces(design, fit.bent->bends.size());
    auto heldFit = fitLeastSquares(held, errors, alpha, job);
    if (!heldFit) {
        return tl::make_unexpected(heldFit.error());
    }
    return CheckRows{std::move(held), *std::move(heldFit)};
}

/// Each row once under sampling weights, the rows that are stood for under frequency weights;
/// nothing where those are too many to be written out.
std::optional<Design> rowsForChecks(const Design& asked, const Job& job) {
    constexpr double kMostRows = 2e6;
    constexpr double kMostCells = 3e7;
    const bool counted = asked.weightKind == WeightKind::Frequency;
    const Design& raw = asked.swept && asked.before ? *asked.before : asked;
    if (counted && (asked.weights.sum() > kMostRows ||
                    asked.weights.sum() * static_cast<double>(raw.X.cols() + 2) > kMostCells)) {
        return std::nullopt;
    }
    std::vector<Eigen::Index> rows;
    for (Eigen::Index i = 0; i < raw.y.size(); ++i) {
        rows.insert(rows.end(), counted ? static_cast<std::size_t>(asked.weights(i)) : 1U, i);
    }
    Design out = withRows(raw, rows);
    out.weights = Eigen::VectorXd();
    out.weightKind = WeightKind::None;
    out.survey = nullptr;
    if (asked.swept) {
        auto swept = sweptDesign(std::move(out), job.quiet());
        return swept ? std::optional(*std::move(swept)) : std::nullopt;
    }
    return out;
}

/// The design that the answer shows: the one the fit is linear in, with the rows it lost.
void takeLinearised(Design& design, const Fit& fit) {
    if (!fit.linearised) {
        return;
    }
    auto counts = design.counts;
    design = *fit.linearised;
    if (fit.likelihood && fit.likelihood->separated > 0) {
        counts.used -= fit.likelihood->separated;
        counts.dropped += fit.likelihood->separated;
    }
    if (fit.event && design.rows.size() < counts.used) {
        // Units that had changed before their first row.
        counts.dropped += counts.used - design.rows.size();
        counts.used = design.rows.size();
    }
    if (fit.echo && !fit.echo->firstKept) {
        counts.dropped += fit.echo->starts;
        counts.used -= fit.echo->starts;
    }
    design.counts = std::move(counts);
}

/// A number that every estimate must have.
Result<void> allNumbers(const Fit& fit) {
    for (const Coefficient& c : fit.coefficients) {
        if (!std::isfinite(c.estimate) || std::isinf(c.se)) {
            return refuse(
                ErrorCode::NotFinite,
                "the estimate of ‘" + c.term + "’ lies outside of what can be computed", "scale",
                "Some variable is very large or very small: choose another unit for it.", {c.term});
        }
    }
    return {};
}

/// Design, estimate, what is described beside it.
Result<Fit> estimated(double alpha, const Question& question, const Estimator& estimator,
                      Design& design, const ErrorSpec& errors, const Job& job) {
    const bool again = isRedone(question, estimator, errors, design);
    const ErrorSpec first = again ? ErrorSpec{} : errors;
    auto fit = estimator.estimate(design, question.settings, first, alpha, job);
    if (fit && again) {
        fit = redone(*std::move(fit), estimator, design, question.settings, errors, alpha, job);
    }
    if (!fit) {
        return fit;
    }
    if (const auto numbers = allNumbers(*fit); !numbers) {
        return tl::make_unexpected(numbers.error());
    }
    // Within a panel the fit is of the swept columns.
    describeInstruments(*fit, fit->linearised ? *fit->linearised : design, first, alpha, job);
    describeQuantiles(*fit, design, first, alpha, job);
    profileIntervals(*fit, design, question.settings, errors, alpha);
    takeLinearised(design, *fit);
    return fit;
}

}  // namespace

std::vector<CheckResult> checksOf(const Frame& frame, const Answer& answer, const Estimated& found,
                                  CheckRun run, const Making& making) {
    const bool bends = run.fit.bent && !run.fit.bent->fixed;
    if (!bends) {
        run.rows = found.forChecks;
        if (making.known != nullptr) {
            making.known->serve(run);
        }
        return runChecks(run, making.job);
    }
    const auto held = withBendsHeld(run.design, run.fit, found.errors, run.alpha, making.job);
    if (!held) {
        return {};
    }
    CheckRun own{frame, answer.question, held->design, held->fit, run.alpha, {}, run.tell};
    own.defence = run.defence;
    if (found.forChecks) {
        own.rows = [&]() -> std::shared_ptr<const CheckRows> {
            const auto rows = found.forChecks();
            if (!rows || !rows->fit.bent) {
                return nullptr;
            }
            auto heldRows =
                withBendsHeld(rows->design, rows->fit, ErrorSpec{}, run.alpha, making.job);
            return heldRows ? std::make_shared<const CheckRows>(*std::move(heldRows)) : nullptr;
        };
    }
    if (making.known != nullptr) {
        making.known->serve(own);
    }
    return runChecks(own, making.job);
}

namespace {

/// The weights of rows as a variable; a row without a weight of its own has none. One that lacks
/// another part of the design leaves by that part’s name.
Column weightsOf(const SurveyRows& rows, const Column* drawn, const std::string& name) {
    std::vector<double> cells = rows.weights;
    for (std::size_t i = 0; drawn != nullptr && i < cells.size(); ++i) {
        cells[i] = drawn->isMissing(i) ? std::nan("") : cells[i];
    }
    return Column::ofNumbers(name, std::move(cells));
}

/// The design of a question whose errors are those of the survey, with its weights: those of the
/// survey, brought to the totals that are known, unless the question has others.
Result<Design> surveyDesign(const Study& study, const Frame& frame, const Question& question,
                            RowCounts& counts, const Job& job) {
    const Survey& survey = study.survey;
    Question asked = withSurvey(question, survey);
    auto rows = surveyRows(frame, survey);
    const bool ownWeights =
        question.weightKind != WeightKind::None &&
        (question.weightKind != WeightKind::Sampling || survey.weight.empty() ||
         canonicalText(question.weight) != canonicalText(quotedName(survey.weight)));
    const bool brought = rows && !survey.targets.empty() && !ownWeights;
    if (brought) {
        asked.weightKind = WeightKind::Sampling;
        asked.weight = quotedName(survey.weightShown());
    }
    auto design = brought ? designFor(frame.with(weightsOf(*rows, frame.column(survey.weight),
                                                           survey.weightShown())),
                                      asked, study.sets, counts, job)
                          : designFor(frame, asked, study.sets, counts, job);
    if (!design) {
        return design;
    }
    if (!rows) {
        return tl::make_unexpected(rows.error());
    }
    // Totals say nothing of what is left under weights that do not hit them.
    rows->known = brought ? rows->known : nullptr;
    design->survey = std::make_shared<const SurveyRows>(*std::move(rows));
    return design;
}

}  // namespace

Question withSurvey(const Question& question, const Survey& survey) {
    Question out = question;
    if (question.errors.kind == "survey") {
        // What a row must have to be part of the design.
        std::vector<std::string> parts = {survey.cluster, survey.strata};
        for (const KnownTotal& target : survey.targets) {
            parts.push_back(target.variable);
        }
        for (const std::string& name : parts) {
            if (!name.empty()) {
                out.errors.by.push_back(quotedName(name));
            }
        }
        if (question.weightKind == WeightKind::None && !survey.weight.empty()) {
            out.weightKind = WeightKind::Sampling;
            out.weight = quotedName(survey.weight);
        }
    }
    return out;
}

Result<Estimated> estimateQuestion(const Study& study, const Frame& frame, const Question& question,
                                   RowCounts& counts, const Job& job) {
    const bool fromMoments = frame.moments() != nullptr;
    const std::optional<Refusal> first = question.unbuilt  ? question.unbuilt
                                         : frame.refusal() ? frame.refusal()
                                         : fromMoments
                                             ? needsRows(*frame.moments(), question, study.sets)
                                             : std::nullopt;
    if (first) {
        return tl::make_unexpected(*first);
    }
    const Estimator* estimator = findEstimator(question.method);
    if (estimator == nullptr) {
        return refuse(ErrorCode::NotBuilt, "the method ‘" + question.method + "’ is not built yet",
                      "", "Use least squares.");
    }
    if (const auto unused = notTaken(question, *estimator)) {
        return tl::make_unexpected(*unused);
    }
    if (question.errors.kind == "survey" && !study.survey.isDeclared()) {
        return refuse(ErrorCode::BadSetting,
                      "errors by the survey design are asked for, and no design is declared",
                      "errors",
                      "Name its weight, strata or clusters in Data, under what a row is.");
    }
    auto design = question.errors.kind == "survey"
                      ? surveyDesign(study, frame, question, counts, job)
                      : designFor(frame, question, study.sets, counts, job);
    if (!design) {
        return tl::make_unexpected(design.error());
    }
    counts = design->counts;
    Estimated out;
    out.errors = question.errors;
    out.errors.seed = out.errors.seed ? out.errors.seed : std::optional(study.seed);
    const bool apart = (design->weightKind == WeightKind::Sampling ||
                        design->weightKind == WeightKind::Frequency) &&
                       !fromMoments && (question.allChecks || !question.checks.empty());
    const auto raw = apart ? std::make_shared<const Design>(*design) : nullptr;
    auto fit = estimated(study.alpha, question, *estimator, *design, out.errors, job);
    if (!fit) {
        return tl::make_unexpected(fit.error());
    }
    counts = design->counts;
    if (raw) {
        // Errors that hang on the design or on draws say nothing to a check of single rows.
        const bool own = out.errors.kind != "survey" && out.errors.kind != "bootstrap";
        out.forChecks = [raw, question, estimator, alpha = study.alpha,
                         errors = own ? out.errors : ErrorSpec{},
                         job]() -> std::shared_ptr<const CheckRows> {
            auto rows = guarded("the checks", [&]() -> Result<CheckRows> {
                auto unweighted = rowsForChecks(*raw, job);
                if (!unweighted) {
                    return tl::make_unexpected(Refusal{});
                }
                auto again = estimated(alpha, question, *estimator, *unweighted, errors, job);
                if (!again) {
                    return tl::make_unexpected(again.error());
                }
                return CheckRows{*std::move(unweighted), *std::move(again)};
            });
            return rows ? std::make_shared<const CheckRows>(*std::move(rows)) : nullptr;
        };
    }
    out.design = *std::move(design);
    out.fit = *std::move(fit);
    return out;
}

namespace {

/// The rows as they are: estimate, requests, checks.
///
/// @param asked     the answer’s question, or what stands for it on this table.
/// @param complete  told with the fit; may be null.
Result<void> answerRows(Answer& answer, const Study& study, const Frame& frame,
                        const Question& asked, std::shared_ptr<const CompleteRows> complete,
                        const Making& making) {
    auto found = estimateQuestion(study, frame, asked, answer.rows, making.job);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    found->fit.complete = std::move(complete);
    for (auto* words : {&found->design.warnings, &found->fit.notes}) {
        for (std::string& one : *words) {
            one = shownNames(one, asked);
        }
    }
    const auto design = std::make_shared<const Design>(std::move(found->design));
    const auto fit = std::make_shared<const Fit>(std::move(found->fit));
    answerRequests(answer, study, frame, *design, *fit, making.job);
    answer.design = design;
    answer.fit = fit;
    answerDefence(answer, study, frame, making);
    if (making.job.stopped()) {
        return stoppedWork();
    }
    CheckRun run{frame, answer.question, *design, *fit, answer.alpha};
    run.defence = answer.defence.get();
    if (making.show) {
        run.tell = [&](const std::vector<CheckResult>& checks) {
            answer.checks = checks;
            making.show(answer);
        };
    }
    auto checks = checksOf(frame, answer, *found, run, making);
    if (making.job.stopped()) {
        return stoppedWork();
    }
    answer.checks = std::move(checks);
    return {};
}

Result<void> answerExplain(Answer& answer, const Study& study, const Frame& frame,
                           const Making& making) {
    if (frame.left() != nullptr) {
        return explainLeft(answer, study, frame, making);
    }
    if (answer.question.missing == "imputed") {
        return answerImputed(answer, study, frame, making);
    }
    if (answer.question.missing != "weighted") {
        return answerRows(answer, study, frame, answer.question, nullptr, making);
    }
    auto asked = askedOfComplete(study, frame, answer.question, making.job);
    if (!asked) {
        return tl::make_unexpected(asked.error());
    }
    answer.question.errors = asked->question.errors;  // As they are taken, and told.
    return answerRows(answer, study, asked->frame, asked->question,
                      std::make_shared<const CompleteRows>(std::move(asked->told)), making);
}

}  // namespace

QuestionKind explainKind() {
    return {"explain",
            "explain an outcome",
            {"outcome",       "terms",       "muted",   "endogenous",  "instruments", "intercept",
             "fixed_effects", "own_slopes",  "weights", "offset",      "exposure",    "estimator",
             "errors",        "effects",     "predict", "chosen",      "hypotheses",  "missing",
             "left_out",      "complete_by", "by_lot",  "worst_cases", "planned",     "forecast"},
            readExplain,
            writeExplain,
            answerExplain,
            explainResults,
            explainSentence,
            explainReading,
            explainMethods,
            nullptr};
}

}  // namespace rapporto
