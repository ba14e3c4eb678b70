#include "core/base/border.h"
#include "core/base/format.h"
#include "core/model/shown_question.h"
#include "core/paths/trace_kind.h"
#include "core/report/wording.h"
#include "core/study/correlate.h"
#include "core/study/explain.h"
#include "core/study/question_kind.h"

namespace rapporto {

const std::vector<QuestionKind>& questionKinds() {
    static const std::vector<QuestionKind> kKinds = {explainKind(), correlateKind(), traceKind()};
    return kKinds;
}

const QuestionKind* findKind(const std::string& id) {
    for (const QuestionKind& kind : questionKinds()) {
        if (id == kind.id) {
            return &kind;
        }
    }
    return nullptr;
}

std::string kindNames() {
    std::vector<std::string> names;
    for (const QuestionKind& kind : questionKinds()) {
        names.emplace_back(kind.id);
    }
    return joinedNames(names);
}

std::string questionSentence(const Question& question) {
    const QuestionKind* kind = findKind(question.kind);
    return kind == nullptr ? question.kind : shownNames(kind->sentence(question), question);
}

std::string answerReading(const Answer& answer) {
    const QuestionKind* kind = findKind(answer.question.kind);
    if (answer.refusal || kind == nullptr) {
        return answer.refusal ? answer.refusal->text() : std::string();
    }
    const auto words =
        guarded("the reading", [&]() -> Result<std::string> { return kind->reading(answer); });
    return shownNames(words ? *words : words.error().text(), answer.question);
}

std::string methodsReading(const Answer& answer) {
    const QuestionKind* kind = findKind(answer.question.kind);
    return kind == nullptr || kind->methods == nullptr
               ? std::string()
               : shownNames(kind->methods(answer), answer.question);
}

}  // namespace rapporto
