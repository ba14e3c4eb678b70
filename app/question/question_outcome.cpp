// Ways to estimate by the kind of the outcome, and what belongs to some of them alone: exposure,
// and what tells zeros or missing outcomes apart.
#include "app/question/question_line.h"
#include "app/shell/finder.h"
#include "app/shell/flow_layout.h"
#include "app/shell/roster.h"
#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/model/estimator.h"
#include "core/report/wording.h"

#include <QPushButton>

#include <algorithm>
#include <cmath>

namespace rapporto::app {

void QuestionLine::pickExposure(QWidget* by) {
    const auto put = [this](const QString& expression) {
        Question next = *session_.question();
        next.exposure = utf8(expression);
        session_.putQuestion(
            next, expression.isEmpty() ? tr("no exposure") : tr("per %1").arg(expression));
    };
    std::vector<FinderEntry> entries;
    if (!session_.question()->exposure.empty()) {
        entries.push_back({tr("none"), tr("every row counts alike"), [put] { put({}); }});
    }
    if (const auto frame = session_.frame()) {
        for (const Variable& v : frame->table().variables) {
            if (!frame->column(v.name)->isText()) {
                const QString name = text(quotedName(v.name));
                entries.push_back({text(v.name), measureTag(v.measure) + "  " + text(v.label),
                                   [put, name] { put(name); }});
            }
        }
    }
    openFinder(by, tr("exposure: a number above zero"), std::move(entries), put);
}

void QuestionLine::buildZeroPart(const Question& q) {
    const bool selection = hasTrait(q.method, trait::kUnseen);
    const Family* family = familyOf(q.method);
    if (!selection && (family == nullptr || !family->hasZeroPart())) {
        return;
    }
    const bool hurdle = family != nullptr && family->zeros == Family::Zeros::Hurdle;
    const auto& terms = q.settings.zeroTerms;
    addWord(first_,
            selection ? tr("seen by")
            : hurdle  ? tr("any at all by")
                      : tr("never any by"),
            true);
    for (std::size_t k = 0; k < terms.size(); ++k) {
        auto* one = addChip(first_, termText(terms[k]), QString("zero:%1").arg(k));
        one->setToolTip(tr("Enter changes it · Delete takes it out"));
        connect(one, &QPushButton::clicked, this, [this, one] { pickZeroTerm(one); });
    }
    auto* more =
        addSlot(first_, terms.empty() ? tr("the same terms…") : tr("another…"), "slot:zero");
    more->setToolTip(selection ? tr("What decides whether the outcome is seen")
                               : tr("What tells zeros from counts"));
    connect(more, &QPushButton::clicked, this, [this, more] { pickZeroTerm(more); });
}

void QuestionLine::pickZeroTerm(QWidget* by) {
    const Question* q = session_.question();
    const QString chip = by->objectName();
    const auto put = [this, chip](const QString& expression) {
        Question next = *session_.question();
        auto& terms = next.settings.zeroTerms;
        if (chip.startsWith("zero:")) {
            terms[static_cast<std::size_t>(chip.section(':', 1).toInt())] = utf8(expression);
        } else {
            terms.push_back(utf8(expression));
        }
        session_.putQuestion(next, hasTrait(next.method, trait::kUnseen)
                                       ? tr("seen by %1").arg(expression)
                                       : tr("zeros by %1").arg(expression));
    };
    std::vector<FinderEntry> entries;
    if (chip.startsWith("zero:")) {
        entries.push_back({tr("take it out"), tr("Delete"), [this, chip] { removeListed(chip); }});
    } else if (q->settings.zeroTerms.empty()) {
        entries.push_back({tr("the terms of the outcome"), tr("to add to and take from"), [this] {
                               Question next = *session_.question();
                               for (const Term& term : next.terms) {
                                   if (term.kind == Term::Kind::Expression && !term.muted) {
                                       next.settings.zeroTerms.push_back(term.parts.front());
                                   }
                               }
                               session_.putQuestion(next, tr("by the same terms"));
                           }});
    }
    const auto& has = q->settings.zeroTerms;
    if (const auto frame = session_.frame()) {
        for (const Variable& v : frame->table().variables) {
            const std::string name = quotedName(v.name);
            if (name != q->outcome && std::find(has.begin(), has.end(), name) == has.end()) {
                entries.push_back({text(v.name), measureTag(v.measure) + "  " + text(v.label),
                                   [put, name] { put(text(name)); }});
            }
        }
    }
    openFinder(by,
               hasTrait(q->method, trait::kUnseen) ? tr("what decides whether the outcome is seen")
                                                   : tr("what tells zeros from counts"),
               std::move(entries), put);
}

}  // namespace rapporto::app
