// What becomes of rows that lack an answer: a slot of the sentence.
#include "app/question/question_line.h"
#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/report/missing_wording.h"
#include "core/study/missing_proposal.h"

#include <QPushButton>

#include <algorithm>

namespace rapporto::app {

void QuestionLine::buildMissing(const Question& q) {
    const auto answer = session_.answer();
    const std::size_t lost = answer ? answer->rows.missing : 0;
    if (q.missing == "rows" && lost == 0) {
        return;  // Nothing is missing: there is nothing to choose.
    }
    const QString said = text(missingText(q));
    auto* slot = addSlot(
        second_, said.isEmpty() ? tr("+ %1 lack an answer").arg(numbered(countText(lost))) : said,
        "slot:missing");
    slot->setToolTip(tr("What becomes of rows that lack an answer"));
    connect(slot, &QPushButton::clicked, this, [this, slot] { pickMissing(slot); });
}

void QuestionLine::pickMissing(QWidget* by) {
    const Question* q = session_.question();
    const auto frame = session_.frame();
    if (q == nullptr || frame == nullptr) {
        return;
    }
    std::vector<FinderEntry> entries;
    for (const WayToAsk& way : waysWithMissing(session_.study(), *frame, *q)) {
        FinderEntry entry;
        entry.label = text(way.label);
        entry.detail = numbered(way.why);
        entry.act = [this, way] { session_.putQuestion(way.question, text(way.label)); };
        entries.push_back(std::move(entry));
    }
    if (!session_.study().imputation.isDeclared()) {
        entries.push_back({tr("fill missing answers in…"),
                           tr("say what and by what, in Data under what is missing"),
                           [this] { emit missingAsked(); }});
    } else if (q->missing == "imputed") {
        entries.push_back({tr("look at what is filled in…"), tr("paths, and what was seen beside"),
                           [this] { emit missingAsked(); }});
    }
    if (q->missing == "weighted") {
        const std::vector<Term> now = q->completeBy;
        for (const Term& term : now) {
            entries.push_back({tr("no longer by %1").arg(text(term.shown())), {}, [this, term] {
                                   Question next = *session_.question();
                                   std::erase(next.completeBy, term);
                                   if (next.completeBy.empty()) {
                                       next.missing = "rows";
                                   }
                                   session_.putQuestion(next, tr("weights of complete rows not by "
                                                                 "%1")
                                                                  .arg(text(term.shown())));
                               }});
        }
    }
    const bool weighted = q->missing == "weighted";
    openFinder(
        by,
        weighted ? tr("what else foretells that a row is complete") : tr("what becomes of them"),
        std::move(entries), [this](const QString& typed) {
            Question next = *session_.question();
            next.missing = "weighted";
            next.completeBy.push_back(Term::expression(utf8(typed)));
            session_.putQuestion(next, tr("complete rows weighted by %1").arg(typed));
        });
}

}  // namespace rapporto::app
