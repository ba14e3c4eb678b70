#include "core/study/answer.h"

#include "core/describe/survey_mean.h"
#include "core/model/event_study.h"
#include "core/model/instruments.h"
#include "core/model/likelihood.h"
#include "core/model/penalised_profile.h"
#include "core/model/quantile.h"
#include "core/model/reweighted.h"
#include "core/report/wording.h"

#include <algorithm>
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
    if (question.method != "least-squares") {
        return rows("the method ‘" + question.method + "’", "Use least squares.");
    }
    if (!moments.hasMeans && !question.intercept) {
        return rows("a line through zero", "The means are not given: keep the constant.");
    }
    return std::nullopt;
}

/// The design over rows that stand for those behind the moments.
Result<Design> designFor(const Frame& frame, const Question& question,
                         const std::vector<TermSet>& sets) {
    auto design = makeDesign(frame, question, sets);
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

/// Predictions, effects and hypotheses that the question asks for.
void answerRequests(Answer& answer, const Frame& frame, const Design& design, const Fit& fit) {
    auto map = ScenarioMap::make(frame, design);
    if (!map) {
        return;
    }
    answer.scenarios = std::make_shared<const ScenarioMap>(*std::move(map));
    const Question& q = answer.question;
    if (!q.predict.empty()) {
        // What left the question since then changes nothing: it is passed over, and said.
        std::vector<PredictRequest> requests = q.predict;
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
        answer.predictions = predictAt(design, fit, *answer.scenarios, requests, answer.alpha);
        for (std::size_t i = 0; answer.predictions && i < passed.size(); ++i) {
            auto& warnings = (*answer.predictions)[i].warnings;
            if (design.swept) {
                warnings.emplace_back(
                    "the level is that of the mean effect of what is held fixed: differences hold "
                    "for every group, the level for none in particular");
            }
            warnings.insert(warnings.end(), passed[i].begin(), passed[i].end());
        }
    }
    for (const EffectRequest& request : q.effects) {
        if (request.over.empty()) {
            answer.effects.push_back(
                marginalEffects(design, fit, *answer.scenarios, request, answer.alpha));
            continue;
        }
        const auto over = rowGroups(frame, request.over, design.rows);
        answer.effects.push_back(
            over ? marginalEffects(design, fit, *answer.scenarios, request, answer.alpha, &*over)
                 : tl::make_unexpected(over.error()));
    }
    std::vector<double> ps;
    for (const std::string& text : q.hypotheses) {
        answer.hypotheses.push_back(testHypothesis(design, fit, text, answer.alpha));
        ps.push_back(answer.hypotheses.back() ? answer.hypotheses.back()->p
                                              : std::numeric_limits<double>::quiet_NaN());
    }
    const std::vector<double> adjusted = holm(ps);
    for (std::size_t i = 0; i < ps.size(); ++i) {
        if (answer.hypotheses[i]) {
            answer.hypotheses[i]->adjusted = adjusted[i];
        }
    }
    answer.turningPoints = turningPoints(design, fit, *answer.scenarios, answer.alpha);
}

/// Errors by the survey design bring its weight, and the rows that lack a part of it leave.
Question withSurvey(const Question& question, const Survey& survey) {
    Question out = question;
    if (question.errors.kind == "survey") {
        for (const std::string& name : {survey.cluster, survey.strata}) {
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

/// Errors come from estimating anew: by replicate weights, or by drawing where there is no shorter
/// way.
bool isRedone(const Question& question, const Design& design) {
    const bool least = question.method == "least-squares" || question.method == "bent-line" ||
                       question.method == "within" || question.method == "between" ||
                       question.method == "first-difference" || question.method == "random";
    // These take no weights, so not those of a draw either: the estimator says so itself.
    const bool unweighted =
        question.method.ends_with("-gmm") ||
        (question.method == "event-study" && question.settings.weighting == "group-time");
    if (unweighted) {
        return false;
    }
    return (question.errors.kind == "survey" && design.survey != nullptr &&
            !design.survey->replicates.empty()) ||
           (question.errors.kind == "bootstrap" && !least);
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
    replaceCovariance(fit, *std::move(covariance), alpha);
    return fit;
}

}  // namespace

Answer answerQuestion(const Study& study, const Frame& frame, const Question& question,
                      const Job& job) {
    if (question.kind == "relate") {
        return answerRelation(study, frame, question, job);
    }
    Answer answer;
    answer.question = question;
    answer.alpha = study.alpha;
    answer.rows.source =
        frame.moments() == nullptr ? frame.rows() : static_cast<std::size_t>(frame.moments()->n);
    answer.fromMoments = frame.moments() != nullptr;
    answer.refusal = question.unbuilt     ? question.unbuilt
                     : frame.refusal()    ? frame.refusal()
                     : answer.fromMoments ? needsRows(*frame.moments(), question, study.sets)
                                          : std::nullopt;
    if (answer.refusal) {
        return answer;
    }
    const Question asked = withSurvey(question, study.survey);
    auto design = designFor(frame, asked, study.sets);
    if (design && question.errors.kind == "survey") {
        auto rows = surveyRows(frame, study.survey);
        if (rows) {
            design->survey = std::make_shared<const SurveyRows>(*std::move(rows));
        } else {
            design = tl::make_unexpected(rows.error());
        }
    }
    if (!design) {
        answer.refusal = design.error();
        return answer;
    }
    answer.rows = design->counts;
    const Estimator* estimator = findEstimator(question.method);
    if (estimator == nullptr) {
        answer.refusal = Refusal{ErrorCode::NotBuilt,
                                 "the method ‘" + question.method + "’ is not built yet",
                                 "",
                                 "Use least squares.",
                                 {}};
        return answer;
    }
    ErrorSpec errors = question.errors;
    errors.seed = errors.seed ? errors.seed : std::optional(study.seed);
    const bool again = isRedone(question, *design);
    auto fit = estimator->estimate(*design, question.settings, again ? ErrorSpec{} : errors,
                                   study.alpha, job);
    if (fit && again) {
        fit = redone(*std::move(fit), *estimator, *design, question.settings, errors, study.alpha,
                     job);
    }
    if (!fit) {
        answer.refusal = fit.error();
        return answer;
    }
    // Within a panel the fit is of the swept columns.
    describeInstruments(*fit, fit->linearised ? *fit->linearised : *design,
                        again ? ErrorSpec{} : errors, study.alpha, job);
    describeQuantiles(*fit, *design, again ? ErrorSpec{} : errors, study.alpha, job);
    profileIntervals(*fit, *design, question.settings, errors, study.alpha);
    if (fit->linearised) {
        auto counts = design->counts;
        *design = *fit->linearised;
        if (fit->likelihood && fit->likelihood->separated > 0) {
            counts.used -= fit->likelihood->separated;
            counts.dropped += fit->likelihood->separated;
        }
        if (fit->event && design->rows.size() < counts.used) {
            // Units that had changed before their first row.
            counts.dropped += counts.used - design->rows.size();
            counts.used = design->rows.size();
        }
        design->counts = std::move(counts);
        answer.rows = design->counts;
    }
    if (fit->bent && !fit->bent->fixed) {
        // Checks take the bends as given: a place is no term.
        const Design held = withoutPlaces(*design, fit->bent->bends.size());
        if (const auto heldFit = fitLeastSquares(held, errors, study.alpha, job)) {
            answer.checks = runChecks(frame, question, held, *heldFit, study.alpha, job);
        }
    } else {
        answer.checks = runChecks(frame, question, *design, *fit, study.alpha, job);
    }
    if (job.stopped()) {
        answer.refusal = Refusal{ErrorCode::Stopped,
                                 "the computation was stopped",
                                 "",
                                 "Change anything to start it again.",
                                 {}};
        return answer;
    }
    answerRequests(answer, frame, *design, *fit);
    answer.design = std::make_shared<const Design>(*std::move(design));
    answer.fit = std::make_shared<const Fit>(*std::move(fit));
    answer.reading = overallReading(answer);
    return answer;
}

}  // namespace rapporto
