#include "app/question/question_line.h"
#include "app/shell/finder.h"
#include "app/shell/roster.h"
#include "app/shell/theme.h"
#include "core/model/estimator.h"

#include <QPushButton>

#include <algorithm>

namespace rapporto::app {

void QuestionLine::buildCauses(const Question& q) {
    const auto chip = [&](const QString& shown, const QString& name) {
        auto* made = addChip(first_, shown, name);
        made->setToolTip(tr("Enter changes it · Delete takes it out"));
        return made;
    };
    if (!q.fixedEffects.empty()) {
        addWord(first_, tr("holding fixed"), true);
        for (std::size_t k = 0; k < q.fixedEffects.size(); ++k) {
            auto* one = chip(termText(q.fixedEffects[k]), QString("fixed:%1").arg(k));
            connect(one, &QPushButton::clicked, this, [this, one] { pickFixed(one); });
        }
        auto* more = addSlot(first_, tr("another…"), "slot:fixed");
        connect(more, &QPushButton::clicked, this, [this, more] { pickFixed(more); });
    }
    if (!q.ownSlopes.empty()) {
        addWord(
            first_,
            q.fixedEffects.empty() ? tr("holding fixed own slopes in") : tr("and own slopes in"),
            true);
        for (std::size_t k = 0; k < q.ownSlopes.size(); ++k) {
            auto* one = chip(termText(q.ownSlopes[k]), QString("slope:%1").arg(k));
            connect(one, &QPushButton::clicked, this, [this, one] { pickFixed(one); });
        }
    }
    buildZeroPart(q);
    if (q.endogenous.empty()) {
        return;
    }
    addWord(first_, tr("where"), true);
    for (std::size_t k = 0; k < q.endogenous.size(); ++k) {
        auto* one = chip(text(q.endogenous[k].shown()), QString("moved:%1").arg(k));
        connect(one, &QPushButton::clicked, this, [this, one, k] { changeMoved(one, k, false); });
    }
    auto* more = addSlot(first_, tr("another…"), "slot:moved");
    connect(more, &QPushButton::clicked, this, [this, more] { pickMoved(more, false); });
    addWord(first_, q.endogenous.size() > 1 ? tr("are moved by") : tr("is moved by"), true);
    for (std::size_t k = 0; k < q.instruments.size(); ++k) {
        auto* one = chip(text(q.instruments[k].shown()), QString("mover:%1").arg(k));
        connect(one, &QPushButton::clicked, this, [this, one, k] { changeMoved(one, k, true); });
    }
    const bool past = hasTrait(q.method, trait::kOwnPast);
    if (past && q.instruments.empty()) {
        addWord(first_, tr("its own past"), false);
    }
    auto* mover =
        addSlot(first_, q.instruments.empty() && !past ? tr("what moves it…") : tr("another…"),
                "slot:mover");
    connect(mover, &QPushButton::clicked, this, [this, mover] { pickMoved(mover, true); });
}

void QuestionLine::pickFixed(QWidget* by) {
    const auto put = [this](const QString& name) {
        Question next = *session_.question();
        next.fixedEffects.push_back(utf8(name));
        session_.putQuestion(next, tr("hold %1 fixed").arg(termText(utf8(name))));
    };
    std::vector<FinderEntry> entries;
    if (by->objectName().startsWith("fixed:") || by->objectName().startsWith("slope:")) {
        entries.push_back({tr("take it out"), tr("Delete"),
                           [this, chip = by->objectName()] { removeListed(chip); }});
    }
    const Question* q = session_.question();
    if (const auto frame = session_.frame()) {
        const Layout& layout = session_.study().layout;
        for (const bool ofLayout : {true, false}) {
            for (const Variable& v : frame->table().variables) {
                const bool named = v.name == layout.unit || v.name == layout.time;
                const QString name = text(quotedName(v.name));
                const auto& held = q->fixedEffects;
                if (named != ofLayout ||
                    std::find(held.begin(), held.end(), utf8(name)) != held.end()) {
                    continue;
                }
                if (named || isGrouping(v.measure) || v.measure == Measure::Count ||
                    v.measure == Measure::Text) {
                    entries.push_back(
                        {text(v.name),
                         named ? (v.name == layout.unit ? tr("the unit") : tr("the moment"))
                               : measureTag(v.measure) + "  " + text(v.label),
                         [put, name] { put(name); }});
                }
            }
        }
    }
    const std::string& time = session_.study().layout.time;
    if (session_.study().layout.kind == Layout::Kind::Panel && !time.empty() &&
        q->ownSlopes.empty()) {
        entries.push_back({tr("a slope of its own in %1 for each unit").arg(text(time)),
                           tr("what moves steadily in a unit"), [this, time] {
                               Question next = *session_.question();
                               next.ownSlopes.push_back(quotedName(time));
                               session_.putQuestion(next, tr("own slopes in %1").arg(text(time)));
                           }});
    }
    openFinder(by, tr("hold fixed: rows are compared within its groups"), std::move(entries), put);
}

void QuestionLine::pickMoved(QWidget* by, bool instrument) {
    const auto put = [this, instrument](const QString& expression) {
        Question next = *session_.question();
        const Term term = Term::expression(utf8(expression));
        if (instrument) {
            next.instruments.push_back(term);
            // With enough of them the question is asked by them.
            if (next.byLeastSquares() && next.instruments.size() >= next.endogenous.size()) {
                next.method = "two-stage";
            }
        } else {
            std::erase(next.terms, term);
            next.endogenous.push_back(term);
        }
        const QString did = instrument ? tr("moved by %1").arg(expression)
                                       : tr("ask for %1 by what moves it").arg(expression);
        if (session_.putQuestion(next, did)) {
            refresh();
            // What is moved needs what moves it.
            if (auto* mover = findChild<QPushButton*>("slot:mover");
                mover != nullptr && !instrument && next.instruments.empty()) {
                mover->setFocus();
                pickMoved(mover, true);
            }
        }
    };
    std::vector<FinderEntry> entries;
    const Question* q = session_.question();
    if (!instrument) {
        for (const Term& term : q->terms) {
            if (term.kind == Term::Kind::Expression && !term.muted) {
                const QString name = text(term.parts.front());
                entries.push_back({name, tr("now among the terms"), [put, name] { put(name); }});
            }
        }
    }
    if (const auto frame = session_.frame()) {
        for (const Variable& v : frame->table().variables) {
            const QString name = text(quotedName(v.name));
            const Term term = Term::expression(utf8(name));
            const auto has = [&](const std::vector<Term>& list) {
                return std::find(list.begin(), list.end(), term) != list.end();
            };
            if (utf8(name) == q->outcome || has(q->terms) || has(q->endogenous) ||
                has(q->instruments)) {
                continue;
            }
            entries.push_back({text(v.name), measureTag(v.measure) + "  " + text(v.label),
                               [put, name] { put(name); }});
        }
    }
    openFinder(by,
               instrument
                   ? tr("what moves it from outside: a variable, or an expression")
                   : tr("whose effect is asked for: it may be moved by what moves the outcome"),
               std::move(entries), put);
}

void QuestionLine::changeMoved(QWidget* by, std::size_t index, bool instrument) {
    std::vector<FinderEntry> entries;
    const QString chip = by->objectName();
    entries.push_back({tr("take it out"), tr("Delete"), [this, chip] { removeListed(chip); }});
    entries.push_back(
        {instrument ? tr("make it a term") : tr("back among the terms"),
         instrument ? tr("it may act on the outcome itself") : tr("its effect by least squares"),
         [this, chip, index, instrument] {
             Question next = *session_.question();
             auto& from = instrument ? next.instruments : next.endogenous;
             next.terms.insert(next.terms.begin(), from[index]);
             from.erase(from.begin() + static_cast<std::ptrdiff_t>(index));
             if (next.endogenous.empty()) {
                 next.method = kLeastSquares;
             }
             session_.putQuestion(next, tr("make it a term"));
         }});
    openFinder(by, tr("change it, or type an expression"), std::move(entries),
               [this, index, instrument](const QString& typed) {
                   Question next = *session_.question();
                   (instrument ? next.instruments : next.endogenous)[index] =
                       Term::expression(utf8(typed));
                   session_.putQuestion(next, tr("use %1").arg(typed));
               });
}

void QuestionLine::removeListed(const QString& chip) {
    if (session_.question() == nullptr) {
        return;
    }
    Question next = *session_.question();
    const auto at = static_cast<std::size_t>(chip.section(':', 1).toUInt());
    // A chip may be a moment older than the question.
    const auto takeOut = [at](auto& from) {
        const bool there = at < from.size();
        if (there) {
            from.erase(from.begin() + static_cast<std::ptrdiff_t>(at));
        }
        return there;
    };
    const QString kind = chip.section(':', 0, 0);
    const bool gone = kind == "fixed"   ? takeOut(next.fixedEffects)
                      : kind == "slope" ? takeOut(next.ownSlopes)
                      : kind == "zero"  ? takeOut(next.settings.zeroTerms)
                      : kind == "moved" ? takeOut(next.endogenous)
                                        : takeOut(next.instruments);
    if (!gone) {
        return;
    }
    // Without anything to move there is nothing to ask by instruments.
    if (next.endogenous.empty()) {
        next.instruments.clear();
        const bool instrumented = hasTrait(next.method, trait::kByInstruments);
        next.method = instrumented ? kLeastSquares : next.method;
    }
    session_.putQuestion(next, tr("take it out"));
}

}  // namespace rapporto::app
