#include "core/study/answer.h"

#include "core/report/wording.h"

#include <algorithm>

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
    auto design = designFor(frame, question, study.sets);
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
    auto fit = estimator->estimate(*design, question.errors, study.alpha, job);
    if (!fit) {
        answer.refusal = fit.error();
        return answer;
    }
    answer.checks = runChecks(frame, question, *design, *fit, study.alpha, job);
    if (job.stopped()) {
        answer.refusal = Refusal{ErrorCode::Stopped,
                                 "the computation was stopped",
                                 "",
                                 "Change anything to start it again.",
                                 {}};
        return answer;
    }
    answer.design = std::make_shared<const Design>(*std::move(design));
    answer.fit = std::make_shared<const Fit>(*std::move(fit));
    answer.reading = overallReading(answer);
    return answer;
}

}  // namespace rapporto
