#include "core/defend/answer_defence.h"

#include "core/base/border.h"
#include "core/defend/defence.h"

namespace rapporto {
namespace {

Result<WorstCases> worstCasesOf(const Answer& answer, const Study& study, const Frame& frame,
                                const Job& job) {
    if (answer.question.missing != "rows") {
        return refuse(ErrorCode::NotUsed,
                      "worst cases are those of rows that are left out, and here others stand for "
                      "them",
                      "worst cases",
                      "Ask it of the same question with the rows that lack nothing.");
    }
    return worstCases(study, frame, answer.question, job);
}

}  // namespace

void answerDefence(Answer& answer, const Study& study, const Frame& frame, const Making& making) {
    const Question& q = answer.question;
    if (!asksDefence(q)) {
        return;
    }
    Defence out;
    out.leftOut = answer.leftOut;
    for (const PlannedRequest& one : q.planned) {
        out.planned.push_back(guarded("the size for ‘" + one.of + "’", [&] {
            return plannedSize(*answer.design, *answer.fit, one, answer.alpha);
        }));
        noteFault(answer, out.planned.back());
    }
    answer.defence = std::make_shared<const Defence>(out);
    if (making.show && (q.byLot || q.worstCases)) {
        answer.checks = awaitedChecks(q);
        making.show(answer);
    }
    if (q.worstCases) {
        out.worstCases = guarded("the worst cases",
                                 [&] { return worstCasesOf(answer, study, frame, making.job); });
        noteFault(answer, *out.worstCases);
    }
    if (q.byLot) {
        out.byLot = guarded("the lots", [&] {
            return byLot(frame, *answer.design, *answer.fit, *q.byLot, study.seed, answer.alpha,
                         making.job);
        });
        noteFault(answer, *out.byLot);
    }
    answer.defence = std::make_shared<const Defence>(std::move(out));
}

}  // namespace rapporto
