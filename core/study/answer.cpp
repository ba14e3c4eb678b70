#include "core/study/answer.h"

#include "core/base/border.h"
#include "core/left/left_explain.h"
#include "core/model/shown_question.h"
#include "core/study/question_kind.h"

#include <algorithm>

namespace rapporto {

RAPPORTO_COMPILED_HERE(Answer);

namespace {

/// Rows before any is looked at for what it lacks.
RowCounts sampleCounts(const Frame& frame, const Question& question) {
    RowCounts counts;
    if (frame.moments() != nullptr) {
        counts.source = counts.inSample = static_cast<std::size_t>(frame.moments()->n);
        return counts;
    }
    counts.source = frame.rows();
    if (frame.states().size() != frame.rows()) {
        return counts;  // The frame is refused: nothing is known of its sample.
    }
    std::vector<bool> without(frame.rows(), false);
    for (const std::size_t row : question.without) {
        if (row >= 1 && row <= frame.rows()) {
            without[row - 1] = true;
        }
    }
    for (std::size_t i = 0; i < frame.rows(); ++i) {
        const RowState state = frame.states()[i];
        if (state == RowState::SetAside || without[i]) {
            ++counts.setAside;
        } else if (state == RowState::ByRule) {
            ++counts.byRule;
        } else {
            ++counts.inSample;
        }
    }
    return counts;
}

}  // namespace

tl::unexpected<Refusal> stoppedWork() {
    return refuse(ErrorCode::Stopped, "the computation was stopped", "",
                  "Change anything to start it again.");
}

std::size_t bytesOf(const Answer& answer) {
    const auto of = [](const auto& matrix) {
        return static_cast<std::size_t>(matrix.size()) * sizeof(double);
    };
    std::size_t total = sizeof(Answer);
    const auto add = [&](const Design* design) {
        for (; design != nullptr; design = design->before.get()) {
            total += of(design->X) + of(design->y) + of(design->Z) + of(design->zeroX) +
                     of(design->weights) + design->rows.size() * 24;
        }
    };
    add(answer.design.get());
    if (answer.fit) {
        add(answer.fit->linearised.get());
        total += of(answer.fit->covariance) + of(answer.fit->fitted) + of(answer.fit->residuals) +
                 of(answer.fit->leverage);
    }
    return total;
}

std::size_t awaitedChecks(const Answer& answer) {
    return static_cast<std::size_t>(std::count_if(answer.checks.begin(), answer.checks.end(),
                                                  [](const auto& one) { return one.awaited; }));
}

Answer answerQuestion(const Study& study, const Frame& frame, const Question& question,
                      const Making& making) {
    Answer answer;
    answer.question = question;
    answer.alpha = study.alpha;
    answer.fromMoments = frame.moments() != nullptr;
    answer.rows = sampleCounts(frame, question);
    const auto done = guarded("the question ‘" + question.id + "’", [&]() -> Result<void> {
        const std::optional<Refusal> first = question.unbuilt ? question.unbuilt : frame.refusal();
        const QuestionKind* kind = findKind(question.kind);
        if (first || kind == nullptr) {
            return tl::make_unexpected(first.value_or(Refusal{ErrorCode::NotBuilt,
                                                              "there are no questions of this kind",
                                                              question.kind,
                                                              "",
                                                              {}}));
        }
        if (frame.left() != nullptr && question.kind == "trace") {
            return tl::make_unexpected(needsRowsAtHand(frame, "a trace"));
        }
        return kind->answer(answer, study, frame, making);
    });
    if (!done) {
        answer.refusal = done.error();
        // A place within what was typed is told as it was typed.
        if (answer.refusal->where.find(", position ") == std::string::npos) {
            for (std::string* words : {&answer.refusal->what, &answer.refusal->help}) {
                *words = shownNames(*words, question);
            }
        }
        noteFault(answer, done);
        answer.fit = nullptr;
        answer.design = nullptr;
        answer.correlations = nullptr;
        answer.trace = nullptr;
        answer.checks.clear();
    }
    for (const CheckResult& check : answer.checks) {
        if (check.fault) {
            answer.faults.push_back(check.reading);
        }
    }
    return answer;
}

}  // namespace rapporto
