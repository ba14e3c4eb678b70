#include "app/question/question_line.h"

#include "app/shell/finder.h"
#include "app/shell/flow_layout.h"
#include "app/shell/roster.h"
#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/model/estimator.h"
#include "core/report/request_wording.h"
#include "core/report/wording.h"
#include "core/study/offered_methods.h"
#include "core/study/ways_to_ask.h"

#include <QDragEnterEvent>
#include <QLabel>
#include <QMimeData>
#include <QPushButton>
#include <QRegularExpression>
#include <QStandardItemModel>
#include <QVBoxLayout>

#include <set>

namespace rapporto::app {
namespace {

/// x in the notation of a page: ln x, √x, x², 1/x … for the finder’s transforms.
std::vector<std::pair<QString, QString>> transformsOf(const QString& name) {
    return {{QString("ln %1").arg(name), QString("ln(%1)").arg(name)},
            {QString("√%1").arg(name), QString("sqrt(%1)").arg(name)},
            {name + "²", QString("power(%1, 2)").arg(name)},
            {QString("1/%1").arg(name), QString("1 / %1").arg(name)}};
}

void clear(QLayout* layout) {
    while (QLayoutItem* item = layout->takeAt(0)) {
        if (QWidget* widget = item->widget()) {
            widget->hide();
            widget->setObjectName({});  // Nothing finds it any more, though it dies a little later.
            widget->deleteLater();
        }
        delete item;
    }
}

}  // namespace

QuestionLine::QuestionLine(Session& session, Finder* finder, QWidget* parent)
    : QWidget(parent),
      session_(session),
      finder_(finder),
      first_(new FlowLayout),
      second_(new FlowLayout),
      firstRow_(new QWidget(this)),
      secondRow_(new QWidget(this)) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(22, 18, 20, 14);
    layout->setSpacing(8);
    firstRow_->setLayout(first_);
    secondRow_->setLayout(second_);
    first_->setContentsMargins(0, 0, 0, 0);
    second_->setContentsMargins(0, 0, 0, 0);
    layout->addWidget(firstRow_);
    layout->addWidget(secondRow_);
    setAcceptDrops(true);
    setAccessibleName(tr("Question"));
    QSizePolicy policy(QSizePolicy::Preferred, QSizePolicy::Minimum);
    policy.setHeightForWidth(true);
    setSizePolicy(policy);
}

void QuestionLine::refresh() {
    const Question* q = session_.question();
    QString signature = q == nullptr ? QString("none") : text(questionText(*q)) + text(q->id);
    signature += QString::number(session_.study().questions.size());
    const auto answer = session_.answer();
    signature += QString(" %1").arg(answer ? answer->rows.missing : 0);
    // What is proposed hangs on the table and on what is declared of it.
    if (signature != signature_ || proposedFor_ != session_.frame()) {
        proposedFor_ = session_.frame();
        signature_ = signature;
        rebuild();
    }
}

void QuestionLine::addWord(FlowLayout* line, const QString& word, bool script) {
    auto* label = new QLabel(word, line->parentWidget());
    label->setFont(script ? paperFont(19, true) : paperFont(16, true));
    dress(label, "color:{soft}");
    line->addWidget(label);
    label->show();
}

QPushButton* QuestionLine::addChip(FlowLayout* line, const QString& shown, const QString& name) {
    auto* chip = new QPushButton(shown, line->parentWidget());
    chip->setProperty("chip", true);
    chip->setAccessibleName(name);
    chip->setObjectName(name);
    chip->installEventFilter(this);
    line->addWidget(chip);
    chip->show();
    return chip;
}

QPushButton* QuestionLine::addSlot(FlowLayout* line, const QString& shown, const QString& name) {
    auto* slot = new QPushButton(shown, line->parentWidget());
    slot->setProperty("slot", true);
    slot->setAccessibleName(name);
    slot->setObjectName(name);
    slot->setCursor(Qt::PointingHandCursor);
    slot->installEventFilter(this);
    line->addWidget(slot);
    slot->show();
    return slot;
}

void QuestionLine::rebuild() {
    const QString focused = focusWidget() != nullptr && isAncestorOf(focusWidget())
                                ? focusWidget()->objectName()
                                : QString();
    clear(first_);
    clear(second_);
    const Question* q = session_.question();
    (this->*sentenceOf(q).build)(q);
    secondRow_->setVisible(second_->count() > 0);
    if (!focused.isEmpty()) {
        if (auto* again = findChild<QPushButton*>(focused)) {
            again->setFocus();
        }
    }
    updateGeometry();
}

const QuestionLine::Sentence& QuestionLine::sentenceOf(const Question* question) {
    static const std::vector<Sentence> kAll = {
        {"explain", &QuestionLine::buildExplain, &QuestionLine::addExplainTerm,
         &QuestionLine::nextInExplain},
        {"correlate", &QuestionLine::buildCorrelate, &QuestionLine::addCorrelated,
         &QuestionLine::nextInCorrelate},
        {"trace", &QuestionLine::buildTrace, &QuestionLine::addTraced, &QuestionLine::nextInTrace},
    };
    for (const Sentence& one : kAll) {
        if (question != nullptr && question->kind == one.kind) {
            return one;
        }
    }
    return kAll.front();
}

void QuestionLine::buildExplain(const Question* q) {
    addWord(first_, tr("Explain"), true);
    auto* outcome = addChip(
        first_, q == nullptr || q->outcome.empty() ? tr("an outcome…") : termText(q->outcome),
        "slot:outcome");
    connect(outcome, &QPushButton::clicked, this, [this, outcome] { pickOutcome(outcome); });
    if (q != nullptr && !q->outcome.empty()) {
        addWord(first_, tr("with"), true);
        for (std::size_t t = 0; t < q->terms.size(); ++t) {
            const Term& term = q->terms[t];
            QString shown = term.kind == Term::Kind::Set ? text(term.shown()) : QString();
            for (const auto& part : term.parts) {
                shown += term.kind == Term::Kind::Set
                             ? ""
                             : (shown.isEmpty() ? "" : " × ") + termText(part);
            }
            auto* chip = addChip(first_, shown, QString("term:%1").arg(t));
            chip->setProperty("muted", term.muted);
            chip->setToolTip(
                tr("Enter changes it · M mutes · Delete takes it out · Alt+arrows move it"));
            connect(chip, &QPushButton::clicked, this, [this, chip, t] { changeTerm(chip, t); });
        }
        auto* plus = addSlot(first_, q->terms.empty() ? tr("a term…") : tr("another…"), "slot:add");
        plus->setToolTip(tr("Add a term"));
        connect(plus, &QPushButton::clicked, this, [this, plus] { pickTerm(plus); });
        buildCauses(*q);

        addWord(second_, tr("by"), false);
        auto* method = addSlot(second_, text(methodText(*q)), "slot:method");
        connect(method, &QPushButton::clicked, this, [this, method] { pickMethod(method); });
        addWord(second_, tr("· errors"), false);
        auto* errors = addSlot(second_, text(q->errors.shown()), "slot:errors");
        connect(errors, &QPushButton::clicked, this, [this, errors] { pickErrors(errors); });
        if (q->weightKind != WeightKind::None) {
            addWord(second_, tr("· weighted by"), false);
        }
        auto* weights =
            addSlot(second_, q->weightKind == WeightKind::None ? tr("+ weights") : text(q->weight),
                    "slot:weights");
        connect(weights, &QPushButton::clicked, this, [this, weights] { pickWeights(weights); });
        if (!q->where.empty()) {
            addWord(second_, tr("· among"), false);
        }
        buildMissing(*q);
        auto* rule =
            addSlot(second_, q->where.empty() ? tr("+ among") : text(q->where), "slot:rule");
        connect(rule, &QPushButton::clicked, this, [this, rule] { pickRule(rule); });
        if (q->fixedEffects.empty()) {
            auto* fixed = addSlot(second_, tr("+ fixed"), "slot:fixed");
            fixed->setToolTip(tr("Compare only rows that share a group"));
            connect(fixed, &QPushButton::clicked, this, [this, fixed] { pickFixed(fixed); });
        }
        if (canTake(q->method, takes::kExposure) || !q->exposure.empty()) {
            auto* exposure = addSlot(
                second_,
                q->exposure.empty() ? tr("+ exposure") : tr("per %1").arg(text(q->exposure)),
                "slot:exposure");
            exposure->setToolTip(tr("How long or how often a row could be counted"));
            connect(exposure, &QPushButton::clicked, this,
                    [this, exposure] { pickExposure(exposure); });
        }
        if (q->endogenous.empty()) {
            auto* moved = addSlot(second_, tr("+ instruments"), "slot:moved");
            moved->setToolTip(tr("A term whose effect is asked for by what moves it from outside"));
            connect(moved, &QPushButton::clicked, this, [this, moved] { pickMoved(moved, false); });
        }
        buildProposals(*q);
        auto* constant =
            addSlot(second_, q->intercept ? tr("constant") : tr("no constant"), "slot:constant");
        connect(constant, &QPushButton::clicked, this, [this] {
            Question next = *session_.question();
            next.intercept = !next.intercept;
            session_.putQuestion(next,
                                 next.intercept ? tr("with constant") : tr("without constant"));
        });
        auto* which =
            addSlot(second_, QString("%1 ▾").arg(text(q->title.empty() ? q->id : q->title)),
                    "slot:question");
        which->setToolTip(tr("Turn to another question, rename or remove this one"));
        connect(which, &QPushButton::clicked, this, [this, which] { pickQuestion(which); });
    }
}

/// What could be asked, with its reason; nothing is applied by itself.
void QuestionLine::buildProposals(const Question& q) {
    const auto frame = session_.frame();
    if (frame == nullptr || q.terms.empty()) {
        return;
    }
    auto all = waysToAsk(session_.study(), *frame, q);
    if (all.empty()) {
        return;
    }
    const QString first = text(all.front().label);
    auto* slot = addSlot(second_,
                         all.size() == 1 ? tr("proposed: %1").arg(first)
                                         : tr("proposed: %1 +%2").arg(first).arg(all.size() - 1),
                         "slot:proposed");
    slot->setToolTip(text(all.front().why));
    connect(slot, &QPushButton::clicked, this, [this, slot, all] {
        std::vector<FinderEntry> entries;
        for (const WayToAsk& one : all) {
            FinderEntry entry;
            entry.label = text(one.label);
            entry.detail = numbered(one.why);
            entry.act = [this, one] { session_.takeWay(one); };
            entries.push_back(std::move(entry));
        }
        openFinder(slot, tr("What the data suggest, and why"), std::move(entries), {});
    });
}

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
        session_.putQuestion(next, tr("hold %1 fixed").arg(name));
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
                        {name,
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
            entries.push_back(
                {name, measureTag(v.measure) + "  " + text(v.label), [put, name] { put(name); }});
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
    Question next = *session_.question();
    const auto at = static_cast<std::ptrdiff_t>(chip.section(':', 1).toInt());
    const QString kind = chip.section(':', 0, 0);
    if (kind == "fixed") {
        next.fixedEffects.erase(next.fixedEffects.begin() + at);
    } else if (kind == "slope") {
        next.ownSlopes.erase(next.ownSlopes.begin() + at);
    } else if (kind == "zero") {
        next.settings.zeroTerms.erase(next.settings.zeroTerms.begin() + at);
    } else {
        auto& from = kind == "moved" ? next.endogenous : next.instruments;
        from.erase(from.begin() + at);
    }
    // Without anything to move there is nothing to ask by instruments.
    if (next.endogenous.empty()) {
        next.instruments.clear();
        const bool instrumented = hasTrait(next.method, trait::kByInstruments);
        next.method = instrumented ? kLeastSquares : next.method;
    }
    session_.putQuestion(next, tr("take it out"));
}

void QuestionLine::buildCorrelate(const Question* asked) {
    const Question& q = *asked;
    addWord(first_, tr("Correlate"), true);
    const auto chips = [&](const std::vector<std::string>& list, bool held) {
        for (std::size_t k = 0; k < list.size(); ++k) {
            auto* chip =
                addChip(first_, termText(list[k]),
                        QString("%1:%2").arg(held ? QString("held") : QString("related")).arg(k));
            chip->setToolTip(tr("Delete takes it out"));
            connect(chip, &QPushButton::clicked, this,
                    [this, chip, held] { pickCorrelated(chip, held); });
        }
    };
    chips(q.variables, false);
    auto* add =
        addSlot(first_, q.variables.empty() ? tr("variables…") : tr("another…"), "slot:related");
    connect(add, &QPushButton::clicked, this, [this, add] { pickCorrelated(add, false); });
    if (!q.holding.empty()) {
        addWord(first_, tr("holding"), true);
        chips(q.holding, true);
    }
    auto* hold = addSlot(first_, q.holding.empty() ? tr("+ holding") : tr("another…"), "slot:held");
    connect(hold, &QPushButton::clicked, this, [this, hold] { pickCorrelated(hold, true); });
    addWord(second_, tr("by"), false);
    const QString name = q.coefficient == "pearson"    ? tr("Pearson’s r")
                         : q.coefficient == "spearman" ? tr("Spearman’s ranks")
                                                       : tr("Kendall’s tau-b");
    auto* coefficient = addSlot(second_, name, "slot:coefficient");
    connect(coefficient, &QPushButton::clicked, this,
            [this, coefficient] { pickCoefficient(coefficient); });
    addWord(second_, "·", false);
    auto* sides = addSlot(second_,
                          q.sides == "two"       ? tr("both sides")
                          : q.sides == "greater" ? tr("only if above zero")
                                                 : tr("only if below zero"),
                          "slot:sides");
    connect(sides, &QPushButton::clicked, this, [this] {
        Question next = *session_.question();
        next.sides = next.sides == "two" ? "greater" : next.sides == "greater" ? "less" : "two";
        session_.putQuestion(next, tr("sides: %1").arg(text(next.sides)));
    });
    addWord(second_, "·", false);
    auto* rows = addSlot(
        second_, q.listwise ? tr("rows with everything") : tr("each pair its rows"), "slot:rows");
    connect(rows, &QPushButton::clicked, this, [this] {
        Question next = *session_.question();
        next.listwise = !next.listwise;
        session_.putQuestion(next,
                             next.listwise ? tr("rows with everything") : tr("each pair its rows"));
    });
    auto* rule = addSlot(
        second_, q.where.empty() ? tr("+ among") : tr("among %1").arg(text(q.where)), "slot:rule");
    connect(rule, &QPushButton::clicked, this, [this, rule] { pickRule(rule); });
    auto* which = addSlot(second_, QString("%1 ▾").arg(text(q.title.empty() ? q.id : q.title)),
                          "slot:question");
    which->setToolTip(tr("Turn to another question, rename or remove this one"));
    connect(which, &QPushButton::clicked, this, [this, which] { pickQuestion(which); });
}

void QuestionLine::pickCorrelated(QWidget* by, bool held) {
    const auto put = [this, held](const QString& expression) {
        Question next = *session_.question();
        (held ? next.holding : next.variables).push_back(utf8(expression));
        if (session_.putQuestion(next,
                                 (held ? tr("hold %1") : tr("correlate %1")).arg(expression))) {
            refresh();
            auto* again = findChild<QPushButton*>(held ? "slot:held" : "slot:related");
            if (again != nullptr) {
                again->setFocus();
                pickCorrelated(again, held);  // Several are usually added in a row.
            }
        }
    };
    std::vector<FinderEntry> entries;
    if (by->objectName().startsWith("held:") || by->objectName().startsWith("related:")) {
        const auto index = static_cast<std::size_t>(by->objectName().section(':', 1).toInt());
        entries.push_back({tr("take it out"), tr("Delete"),
                           [this, index, held] { removeCorrelated(index, held); }});
        entries.push_back(
            {held ? tr("correlate it instead") : tr("hold it instead"), {}, [this, index, held] {
                 Question next = *session_.question();
                 auto& from = held ? next.holding : next.variables;
                 auto& to = held ? next.variables : next.holding;
                 to.push_back(from[index]);
                 from.erase(from.begin() + static_cast<std::ptrdiff_t>(index));
                 session_.putQuestion(next, held ? tr("correlate it") : tr("hold it"));
             }});
    }
    if (const auto frame = session_.frame()) {
        for (const Variable& v : frame->table().variables) {
            if (v.measure != Measure::Text && v.measure != Measure::Groups) {
                const QString name = text(quotedName(v.name));
                entries.push_back({name, measureTag(v.measure) + "  " + text(v.label),
                                   [put, name] { put(name); }});
            }
        }
    }
    openFinder(by,
               held ? tr("hold: a variable, or an expression")
                    : tr("correlate: a variable, or an expression"),
               std::move(entries), put);
}

void QuestionLine::removeCorrelated(std::size_t index, bool held) {
    Question next = *session_.question();
    auto& list = held ? next.holding : next.variables;
    if (index < list.size()) {
        const QString name = text(list[index]);
        list.erase(list.begin() + static_cast<std::ptrdiff_t>(index));
        session_.putQuestion(next, tr("take out %1").arg(name));
    }
}

void QuestionLine::pickCoefficient(QWidget* by) {
    std::vector<FinderEntry> entries;
    for (const auto& [key, name, why] :
         {std::tuple{"pearson", tr("Pearson’s r"), tr("how well a straight line does")},
          std::tuple{"spearman", tr("Spearman’s ranks"), tr("any rising or falling order")},
          std::tuple{"kendall", tr("Kendall’s tau-b"), tr("pairs in order; many ties")}}) {
        entries.push_back({name, why, [this, k = std::string(key), shown = name] {
                               Question next = *session_.question();
                               next.coefficient = k;
                               session_.putQuestion(next, tr("by %1").arg(shown));
                           }});
    }
    finder_->open(by->mapToGlobal(QPoint(0, by->height() + 3)), 380, tr("the coefficient"),
                  std::move(entries));
}

QString QuestionLine::whyNot(const QString& expression) const {
    const auto frame = session_.frame();
    if (!frame) {
        return tr("The table is still being read.");
    }
    const auto value = frame->evaluateText(utf8(expression));
    return value ? QString() : numbered(value.error().text());
}

void QuestionLine::openFinder(QWidget* by, const QString& prompt, std::vector<FinderEntry> entries,
                              std::function<void(const QString&)> useTyped, const QString& start) {
    finder_->open(
        by->mapToGlobal(QPoint(0, by->height() + 3)), 380, prompt, std::move(entries),
        [this](const QString& typed) { return whyNot(typed); }, std::move(useTyped), start);
}

void QuestionLine::pickOutcome(QWidget* by) {
    const auto put = [this](const QString& expression) {
        Question next = session_.question() == nullptr ? Question{} : *session_.question();
        next.outcome = utf8(expression);
        next.title = next.title.empty() ? utf8(tr("question 1")) : next.title;
        const bool first = next.terms.empty() && next.fixedEffects.empty();
        if (session_.putQuestion(next, tr("explain %1").arg(expression)) && first) {
            openNext();  // The sentence goes on: with what?
        }
    };
    std::vector<FinderEntry> entries;
    const Question* q = session_.question();
    if (q != nullptr && !q->outcome.empty()) {
        for (const auto& [shown, expression] : transformsOf(text(q->outcome))) {
            entries.push_back({shown, {}, [put, e = expression] { put(e); }});
        }
    }
    if (const auto frame = session_.frame()) {
        for (const Variable& v : frame->table().variables) {
            const QString name = text(quotedName(v.name));
            entries.push_back(variableEntry(v, [put, name] { put(name); }));
        }
    }
    openFinder(by, tr("what to explain: a variable, or an expression such as ln(x)"),
               std::move(entries), put);
}

void QuestionLine::addTerm(const std::string& expression) {
    (this->*sentenceOf(session_.question()).add)(expression);
}

void QuestionLine::addCorrelated(const std::string& expression) {
    Question next = *session_.question();
    next.variables.push_back(expression);
    session_.putQuestion(next, tr("correlate %1").arg(text(expression)));
}

void QuestionLine::addExplainTerm(const std::string& expression) {
    Question next = session_.question() == nullptr ? Question{} : *session_.question();
    if (next.outcome.empty()) {
        next.outcome = expression;
        next.title = next.title.empty() ? utf8(tr("question 1")) : next.title;
        session_.putQuestion(next, tr("explain %1").arg(text(expression)));
        return;
    }
    next.terms.push_back(Term::expression(expression));
    session_.putQuestion(next, tr("add %1").arg(text(expression)));
}

void QuestionLine::pickTerm(QWidget* by) {
    std::vector<FinderEntry> entries;
    for (const TermSet& set : session_.study().sets) {
        entries.push_back({text("{" + set.name + "}"), tr("set of %1").arg(set.members.size()),
                           [this, name = set.name] {
                               Question next = *session_.question();
                               next.terms.push_back({Term::Kind::Set, {name}, false});
                               session_.putQuestion(next, tr("add {%1}").arg(text(name)));
                           }});
    }
    if (const auto frame = session_.frame()) {
        // Several terms are usually added in a row: the next finder stands ready.
        const auto add = [this](const std::string& expression) {
            addTerm(expression);
            openNext();
        };
        for (const Variable& v : frame->table().variables) {
            const std::string name = quotedName(v.name);
            entries.push_back(variableEntry(v, [add, name] { add(name); }));
            entries.back().takes = text(name);
        }
        if (session_.study().layout.kind != Layout::Kind::CrossSection) {
            entries.push_back({"trend()", tr("a trend: steps since the first moment"),
                               [add] { add("trend()"); }});
        }
        for (const Variable& v : frame->table().variables) {
            if (v.measure != Measure::Quantity && v.measure != Measure::Count) {
                continue;
            }
            for (const auto& [shown, expression] : transformsOf(text(quotedName(v.name)))) {
                FinderEntry entry{shown, {}, [add, e = utf8(expression)] { add(e); }};
                entry.onlySought = true;
                entry.takes = expression;
                entries.push_back(std::move(entry));
            }
        }
    }
    openFinder(by, tr("add a term: a variable, or an expression"), std::move(entries),
               [this](const QString& typed) {
                   addTerm(utf8(typed));
                   openNext();
               });
    finder_->takeSeveral([this](const QStringList& all) { addTerms(all); });
}

/// A variable in the finder: what it is, what it looks like, what it lacks, whether it is used.
FinderEntry QuestionLine::variableEntry(const Variable& v, std::function<void()> act) const {
    FinderEntry entry{text(quotedName(v.name)), measureTag(v.measure) + "  " + text(v.label),
                      std::move(act)};
    const auto fact = session_.facts().find(v.name);
    if (fact != session_.facts().end()) {
        entry.bars = fact->second.thumbnail.bars;
        if (fact->second.missing > 0) {
            entry.aside = tr("%1 missing").arg(numbered(countText(fact->second.missing)));
        }
    }
    if (const Question* q = session_.question()) {
        const Term own = Term::expression(quotedName(v.name));
        const auto terms = q->allTerms();
        const bool used =
            q->outcome == quotedName(v.name) ||
            std::any_of(terms.begin(), terms.end(), [&](const Term* term) { return *term == own; });
        entry.aside = used ? tr("in the question") : entry.aside;
    }
    return entry;
}

/// Several terms in one step.
void QuestionLine::addTerms(const QStringList& expressions) {
    Question next = *session_.question();
    for (const QString& expression : expressions) {
        next.terms.push_back(Term::expression(utf8(expression)));
    }
    if (session_.putQuestion(next, tr("add %1").arg(expressions.join(", ")))) {
        openNext();
    }
}

/// A key on a slot or chip that means no other thing there: Return opens it, a letter opens it and
/// is the first of what is sought.
bool QuestionLine::openByKey(QPushButton* button, const QKeyEvent& key) {
    const bool opens = button->property("slot").toBool() || button->property("chip").toBool();
    if (!opens || (key.modifiers() & ~(Qt::ShiftModifier | Qt::KeypadModifier)) != 0) {
        return false;
    }
    if (key.key() == Qt::Key_Return || key.key() == Qt::Key_Enter) {
        button->click();
        return true;
    }
    static const QStringList kTurns = {"slot:constant", "slot:sides", "slot:rows"};
    const QString typed = key.text();
    const bool letter = !typed.isEmpty() && typed.front().isPrint() && !typed.front().isSpace();
    if (!letter || kTurns.contains(button->objectName())) {
        return false;
    }
    button->click();
    if (finder_->isVisible()) {
        finder_->type(typed);
    }
    return true;
}

void QuestionLine::openNext() {
    refresh();
    (this->*sentenceOf(session_.question()).next)();
}

void QuestionLine::nextInCorrelate() {
    if (auto* related = findChild<QPushButton*>("slot:related")) {
        related->setFocus();
        pickCorrelated(related, false);
    }
}

void QuestionLine::nextInExplain() {
    if (auto* plus = findChild<QPushButton*>("slot:add");
        plus != nullptr && !session_.question()->outcome.empty()) {
        plus->setFocus();
        pickTerm(plus);
    } else if (auto* outcome = findChild<QPushButton*>("slot:outcome")) {
        outcome->setFocus();
        pickOutcome(outcome);
    }
}

void QuestionLine::changeTerm(QWidget* by, std::size_t index) {
    const Question* q = session_.question();
    if (q == nullptr || index >= q->terms.size()) {
        return;
    }
    const Term term = q->terms[index];
    const auto put = [this, index](const Term& changed, const QString& did) {
        Question next = *session_.question();
        next.terms[index] = changed;
        session_.putQuestion(next, did);
    };
    const auto insert = [this, index](const Term& added) {
        Question next = *session_.question();
        next.terms.insert(next.terms.begin() + static_cast<std::ptrdiff_t>(index) + 1, added);
        session_.putQuestion(next, tr("add %1").arg(text(added.shown())));
    };
    std::vector<FinderEntry> entries;
    if (term.kind == Term::Kind::Expression) {
        const QString name = text(term.parts.front());
        for (const auto& [shown, expression] : transformsOf(name)) {
            entries.push_back({shown, tr("instead"), [put, e = expression, s = shown] {
                                   put(Term::expression(utf8(e)), tr("use %1").arg(s));
                               }});
        }
        entries.push_back({"+ " + name + "²", tr("its square as well"), [insert, name] {
                               insert(Term::expression(utf8(QString("power(%1, 2)").arg(name))));
                           }});
        for (const Term& other : q->terms) {
            if (other.kind == Term::Kind::Expression && !(other == term)) {
                entries.push_back({QString("+ %1 × %2").arg(name, text(other.parts.front())),
                                   tr("their product as well"),
                                   [insert, a = term.parts.front(), b = other.parts.front()] {
                                       insert({Term::Kind::Product, {a, b}, false});
                                   }});
            }
        }
    }
    if (term.kind == Term::Kind::Expression && !term.muted) {
        entries.push_back({tr("ask for it by instruments"),
                           tr("it may be moved by what moves the outcome"), [this, index] {
                               Question next = *session_.question();
                               next.endogenous.push_back(next.terms[index]);
                               next.terms.erase(next.terms.begin() +
                                                static_cast<std::ptrdiff_t>(index));
                               session_.putQuestion(next, tr("ask for it by instruments"));
                               refresh();
                               if (auto* mover = findChild<QPushButton*>("slot:mover")) {
                                   mover->setFocus();
                                   pickMoved(mover, true);
                               }
                           }});
        entries.push_back(
            {tr("hold it fixed"), tr("compare only rows that share it"), [this, index] {
                 Question next = *session_.question();
                 next.fixedEffects.push_back(next.terms[index].parts.front());
                 next.terms.erase(next.terms.begin() + static_cast<std::ptrdiff_t>(index));
                 session_.putQuestion(next, tr("hold it fixed"));
             }});
    }
    entries.push_back({term.muted ? tr("unmute") : tr("mute"),
                       tr("M · keep it in the sentence, out of the model"),
                       [this, index] { muteTerm(index); }});
    entries.push_back({tr("take out"), tr("Delete"), [this, index] { removeTerm(index); }});
    openFinder(by, tr("change %1, or type an expression").arg(text(term.shown())),
               std::move(entries), [put](const QString& typed) {
                   put(Term::expression(utf8(typed)), tr("use %1").arg(typed));
               });
}

void QuestionLine::muteTerm(std::size_t index) {
    Question next = *session_.question();
    next.terms[index].muted = !next.terms[index].muted;
    session_.putQuestion(next, (next.terms[index].muted ? tr("mute %1") : tr("unmute %1"))
                                   .arg(text(next.terms[index].shown())));
}

void QuestionLine::removeTerm(std::size_t index) {
    Question next = *session_.question();
    const QString name = text(next.terms[index].shown());
    next.terms.erase(next.terms.begin() + static_cast<std::ptrdiff_t>(index));
    session_.putQuestion(next, tr("take out %1").arg(name));
}

void QuestionLine::moveTerm(std::size_t index, int by) {
    Question next = *session_.question();
    const auto to = static_cast<std::ptrdiff_t>(index) + by;
    if (to < 0 || to >= static_cast<std::ptrdiff_t>(next.terms.size())) {
        return;
    }
    std::swap(next.terms[index], next.terms[static_cast<std::size_t>(to)]);
    if (session_.putQuestion(next, tr("reorder terms"))) {
        refresh();
        if (auto* chip = findChild<QPushButton*>(QString("term:%1").arg(to))) {
            chip->setFocus();
        }
    }
}

QString QuestionLine::lawFor(const Question& q) const {
    const auto frame = session_.frame();
    const Variable* outcome = frame ? frame->variable(canonicalText(q.outcome)) : nullptr;
    return outcome == nullptr                   ? "normal"
           : outcome->measure == Measure::YesNo ? "logit"
           : outcome->measure == Measure::Count ? "poisson"
                                                : "normal";
}

std::vector<FinderEntry> QuestionLine::groupMethods() const {
    std::vector<FinderEntry> entries;
    const Question& q = *session_.question();
    const auto put = [this](std::vector<LevelSpec> levels, EstimatorSettings settings) {
        Question next = *session_.question();
        next.method = "multilevel";
        settings.levels = std::move(levels);
        next.settings = std::move(settings);
        // Its errors are its own, and what is random is not held fixed.
        next.errors = ErrorSpec{};
        next.fixedEffects.clear();
        session_.putQuestion(next, tr("by %1").arg(text(methodText(next))));
    };
    const bool asked = canTake(q.method, takes::kGroupsWhole);
    const std::vector<LevelSpec> levels = asked ? q.settings.levels : std::vector<LevelSpec>();
    const auto used = [&](const std::string& name) {
        return std::any_of(levels.begin(), levels.end(), [&](const LevelSpec& level) {
            return canonicalText(level.by) == canonicalText(name);
        });
    };
    // Groupings that rows are known to stand in come first.
    std::vector<std::string> names = q.fixedEffects;
    for (const std::string& one : q.errors.by) {
        names.push_back(one);
    }
    const Survey& survey = session_.study().survey;
    for (const std::string& one : {survey.cluster, session_.study().layout.unit, survey.strata}) {
        if (!one.empty()) {
            names.push_back(quotedName(one));
        }
    }
    const auto frame = session_.frame();
    for (const Variable& v : frame ? frame->table().variables : std::vector<Variable>()) {
        if (isGrouping(v.measure) || frame->column(v.name)->isText()) {
            names.push_back(quotedName(v.name));
        }
    }
    constexpr std::size_t kMost = 6;
    std::set<std::string> offered;
    for (const std::string& name : names) {
        if (offered.size() >= kMost || used(name) || !offered.insert(canonicalText(name)).second) {
            continue;
        }
        std::vector<LevelSpec> next = levels;
        next.push_back({name});
        entries.push_back(
            {asked ? tr("and random effects of %1").arg(termText(name))
                   : tr("random effects of %1").arg(termText(name)),
             asked ? tr("groups of groups: each lies within one of the next")
                   : tr("groups’ levels drawn from a normal law, kept as far as rows tell them"),
             [put, next, settings = q.settings, asked, law = lawFor(q)] {
                 EstimatorSettings fresh;
                 fresh.outcomeLaw = utf8(law);
                 put(next, asked ? settings : fresh);
             }});
    }
    if (!asked) {
        return entries;
    }
    for (std::size_t l = 0; l < levels.size(); ++l) {
        const QString by = termText(levels[l].by);
        for (const Term& term : q.terms) {
            const std::string name = term.parts.front();
            const Variable* v = frame ? frame->variable(canonicalText(name)) : nullptr;
            const bool groups = v != nullptr && (isGrouping(v->measure));
            if (term.muted || term.parts.size() > 1 || term.kind == Term::Kind::Set || groups) {
                continue;
            }
            std::vector<LevelSpec> next = levels;
            auto& slopes = next[l].slopes;
            const auto at = std::find(slopes.begin(), slopes.end(), name);
            const bool has = at != slopes.end();
            has ? void(slopes.erase(at)) : slopes.push_back(name);
            entries.push_back(
                {(has ? tr("one slope in %1 for all of %2") : tr("a slope in %1 for each of %2"))
                     .arg(termText(name), by),
                 has ? tr("its effect does not differ among the groups")
                     : tr("its effect may differ among the groups"),
                 [put, next, settings = q.settings] { put(next, settings); }});
        }
        if (levels.size() > 1) {
            std::vector<LevelSpec> next = levels;
            next.erase(next.begin() + static_cast<std::ptrdiff_t>(l));
            entries.push_back({tr("without random effects of %1").arg(by), QString(),
                               [put, next, settings = q.settings] { put(next, settings); }});
        }
    }
    for (const auto& [law, name, why] :
         {std::tuple{"normal", tr("of a quantity"), tr("a normal law of the rows")},
          std::tuple{"logit", tr("of log odds"), tr("an outcome of yes or no")},
          std::tuple{"poisson", tr("of the log of a count"), tr("Poisson’s law of the rows")}}) {
        if (q.settings.outcomeLaw != law) {
            EstimatorSettings settings;
            settings.outcomeLaw = law;
            entries.push_back({name, why, [put, levels, settings] { put(levels, settings); }});
        }
    }
    if (q.settings.outcomeLaw != "normal") {
        return entries;
    }
    for (const auto& [law, name, why] :
         {std::tuple{"satterthwaite", tr("degrees of freedom by Satterthwaite"),
                     tr("by the observed information")},
          std::tuple{"kenward-roger", tr("errors adjusted for few groups"), tr("Kenward & Roger")},
          std::tuple{"normal", tr("read by the normal law"), tr("where groups are many")}}) {
        if (q.settings.lawOfEffects != law) {
            EstimatorSettings settings = q.settings;
            settings.lawOfEffects = law;
            entries.push_back({name, why, [put, levels, settings] { put(levels, settings); }});
        }
    }
    EstimatorSettings other = q.settings;
    const bool restricted = other.likelihood != "full";
    other.likelihood = restricted ? "full" : "restricted";
    other.lawOfEffects =
        restricted && other.lawOfEffects == "kenward-roger" ? "satterthwaite" : other.lawOfEffects;
    entries.push_back({restricted ? tr("spreads by the full likelihood")
                                  : tr("spreads by the restricted likelihood"),
                       restricted ? tr("to hold other terms against these")
                                  : tr("spreads that know of the coefficients"),
                       [put, levels, other] { put(levels, other); }});
    return entries;
}

void QuestionLine::pickMethod(QWidget* by) {
    std::vector<FinderEntry> entries;
    const auto put = [this](const std::string& method, const EstimatorSettings& settings) {
        Question next = *session_.question();
        next.method = method;
        next.settings = settings;
        session_.putQuestion(next, tr("by %1").arg(text(methodText(next))));
    };
    const auto frame = session_.frame();
    const auto answer = session_.answer();
    bool ofGroups = false;
    const auto addGroups = [&] {
        const std::vector<FinderEntry> groups = groupMethods();
        entries.insert(entries.end(), groups.begin(), groups.end());
        ofGroups = true;
    };
    for (const OfferedMethod& one :
         offeredMethods(session_.study(), frame.get(), *session_.question(), answer.get())) {
        // Random effects stand between what the outcome asks for and what rows in time allow.
        if (one.place >= OfferedMethod::Place::Time && !ofGroups) {
            addGroups();
        }
        entries.push_back(
            {text(one.label), numbered(one.why), [put, one] { put(one.method, one.settings); }});
    }
    if (!ofGroups) {
        addGroups();
    }
    finder_->open(by->mapToGlobal(QPoint(0, by->height() + 3)), 380, tr("how it is estimated"),
                  std::move(entries));
}

void QuestionLine::pickErrors(QWidget* by) {
    std::vector<FinderEntry> entries;
    const auto put = [this](const ErrorSpec& spec) {
        Question next = *session_.question();
        next.errors = spec;
        session_.putQuestion(next, tr("errors %1").arg(text(spec.shown())));
    };
    entries.push_back(
        {tr("classical"), tr("one spread, unrelated errors"), [put] { put(ErrorSpec{}); }});
    if (session_.question()->method == "quantile") {
        entries.push_back(
            {tr("by the sandwich (kernel)"), tr("the density may differ by row"), [put] {
                 put(ErrorSpec{"kernel", "HC1", {}});
             }});
    }
    const std::vector<std::pair<std::string, QString>> kinds = {
        {"HC3", tr("cautious in small samples")},
        {"HC1", tr("n/(n − k)")},
        {"HC0", tr("White 1980")},
        {"HC2", tr("by leverage")},
        {"HC4", tr("by strong leverage")}};
    for (const auto& [type, why] : kinds) {
        entries.push_back({tr("robust (%1)").arg(text(type)), why, [put, t = type] {
                               put(ErrorSpec{"robust", t, {}});
                           }});
    }
    if (session_.study().layout.kind == Layout::Kind::Series) {
        ErrorSpec spec{"autocorrelation", "HC1", {}};
        entries.push_back({tr("allowing for autocorrelation"),
                           tr("Newey–West, lags by the rule of thumb"),
                           [put, spec] { put(spec); }});
        spec.automaticLags = true;
        entries.push_back({tr("allowing for autocorrelation, lags by the data"),
                           tr("Newey & West 1994"), [put, spec] { put(spec); }});
    }
    const Survey& survey = session_.study().survey;
    if (survey.isDeclared()) {
        entries.push_back(
            {tr("by the survey design"), tr("strata, clusters and weights, linearised"), [put] {
                 put(ErrorSpec{"survey", "HC1", {}});
             }});
    }
    if (session_.study().layout.kind == Layout::Kind::Panel) {
        entries.push_back(
            {tr("shared at a moment and echoing"), tr("Driscoll & Kraay 1998"), [put] {
                 put(ErrorSpec{"panel-autocorrelation", "HC1", {}});
             }});
    }
    ErrorSpec drawn{"bootstrap", "HC1", {}};
    entries.push_back({tr("drawing rows anew"), tr("bootstrap, 1 999 draws, percentile intervals"),
                       [put, drawn] { put(drawn); }});
    drawn.interval = "bca";
    entries.push_back({tr("drawing rows anew, BCa"), tr("intervals corrected for bias and skew"),
                       [put, drawn] { put(drawn); }});
    drawn.interval = "percentile";
    drawn.scheme = "wild";
    entries.push_back({tr("wild draws"), tr("signs drawn anew: for an uneven spread"),
                       [put, drawn] { put(drawn); }});
    if (const auto frame = session_.frame()) {
        const ErrorSpec present = session_.question()->errors;
        for (const Variable& v : frame->table().variables) {
            if (isGrouping(v.measure) || v.measure == Measure::Count) {
                entries.push_back(
                    {tr("clustered by %1").arg(text(v.name)), text(v.label), [put, name = v.name] {
                         put(ErrorSpec{"clustered", "HC1", {name}});
                     }});
                ErrorSpec wild = drawn;
                wild.scheme = "wild-clusters";
                wild.by = {v.name};
                wild.draws = 9999;
                entries.push_back({tr("wild draws by %1").arg(text(v.name)),
                                   tr("bootstrap of the clustered t: for few clusters"),
                                   [put, wild] { put(wild); }});
                if (present.kind == "clustered" && present.by.size() == 1 &&
                    present.by.front() != v.name) {
                    entries.push_back(
                        {tr("clustered by %1 and %2").arg(text(present.by.front()), text(v.name)),
                         tr("two ways"), [put, a = present.by.front(), name = v.name] {
                             put(ErrorSpec{"clustered", "HC1", {a, name}});
                         }});
                }
            }
        }
    }
    finder_->open(by->mapToGlobal(QPoint(0, by->height() + 3)), 380, tr("how the errors behave"),
                  std::move(entries));
}

void QuestionLine::pickRule(QWidget* by) {
    const auto put = [this](const QString& rule) {
        Question next = *session_.question();
        next.where = utf8(rule);
        session_.putQuestion(
            next, rule.isEmpty() ? tr("all rows of the sample") : tr("among %1").arg(rule));
    };
    std::vector<FinderEntry> entries = {{tr("all rows of the sample"), {}, [put] { put({}); }}};
    openFinder(by, tr("a condition, such as age > 30 and zone = 'Ridge'"), std::move(entries), put,
               text(session_.question()->where));
}

void QuestionLine::pickWeights(QWidget* by) {
    const auto put = [this](WeightKind kind, const std::string& name) {
        Question next = *session_.question();
        next.weightKind = kind;
        next.weight = name;
        session_.putQuestion(next, kind == WeightKind::None ? tr("no weights")
                                                            : tr("weighted by %1").arg(text(name)));
    };
    std::vector<FinderEntry> entries = {
        {tr("no weights"), {}, [put] { put(WeightKind::None, {}); }}};
    if (const auto frame = session_.frame()) {
        for (const Variable& v : frame->table().variables) {
            if (!frame->column(v.name)->isText()) {
                for (const WeightKind kind :
                     {WeightKind::Sampling, WeightKind::Frequency, WeightKind::Precision}) {
                    entries.push_back({text(v.name), text(weightName(kind)),
                                       [put, kind, name = v.name] { put(kind, name); }});
                }
            }
        }
    }
    finder_->open(by->mapToGlobal(QPoint(0, by->height() + 3)), 380,
                  tr("weight: a variable and its kind"), std::move(entries));
}

void QuestionLine::pickQuestion(QWidget* by) {
    std::vector<FinderEntry> entries;
    for (const Question& q : session_.study().questions) {
        entries.push_back({text(q.title.empty() ? q.id : q.title), text(questionSentence(q)),
                           [this, id = q.id] { session_.setQuestion(id); }});
    }
    entries.push_back({tr("new question"), "Ctrl+N", [this] { session_.startQuestion(); }});
    entries.push_back({tr("new correlations"), tr("among several variables, holding others"),
                       [this] { session_.startCorrelate({}); }});
    entries.push_back({tr("new trace"), tr("how a cause reaches its outcome, and through what"),
                       [this] { session_.startTrace({}); }});
    entries.push_back({tr("variant of this one"), "Ctrl+D", [this] { session_.startVariant(); }});
    entries.push_back({tr("make it the lead"), tr("the one reported first"), [this] {
                           session_.edit(
                               MakeLead{session_.question()->id},
                               tr("make %1 the lead").arg(text(session_.question()->title)));
                       }});
    entries.push_back({tr("remove this question"), tr("can be undone"), [this] {
                           const Question gone = *session_.question();
                           session_.edit(RemoveQuestion{gone.id},
                                         tr("remove %1").arg(text(gone.title)));
                       }});
    finder_->open(
        by->mapToGlobal(QPoint(0, by->height() + 3)), 460,
        tr("a question, or type a new title for this one"), std::move(entries),
        [](const QString&) { return QString(); },
        [this](const QString& title) {
            Question next = *session_.question();
            next.title = utf8(title);
            session_.putQuestion(next, tr("call it %1").arg(title));
        });
}

bool QuestionLine::eventFilter(QObject* watched, QEvent* event) {
    const QString name = watched->objectName();
    if (traceKey(name, event)) {
        return true;
    }
    const bool related = name.startsWith("related:") || name.startsWith("held:");
    if (related &&
        (event->type() == QEvent::ShortcutOverride || event->type() == QEvent::KeyPress)) {
        const auto* key = static_cast<QKeyEvent*>(event);
        if (key->key() == Qt::Key_Delete || key->key() == Qt::Key_Backspace) {
            event->accept();
            if (event->type() == QEvent::KeyPress) {
                removeCorrelated(static_cast<std::size_t>(name.section(':', 1).toInt()),
                                 name.startsWith("held:"));
            }
            return true;
        }
    }
    const bool listed = name.startsWith("fixed:") || name.startsWith("slope:") ||
                        name.startsWith("moved:") || name.startsWith("mover:") ||
                        name.startsWith("zero:");
    if (listed &&
        (event->type() == QEvent::ShortcutOverride || event->type() == QEvent::KeyPress)) {
        const auto* key = static_cast<QKeyEvent*>(event);
        if (key->key() == Qt::Key_Delete || key->key() == Qt::Key_Backspace) {
            event->accept();
            if (event->type() == QEvent::KeyPress) {
                removeListed(name);
            }
            return true;
        }
    }
    if (event->type() == QEvent::ShortcutOverride && name.startsWith("term:")) {
        // On a chip these keys mean the chip, not the window's shortcuts.
        const auto* key = static_cast<QKeyEvent*>(event);
        const bool moves = (key->key() == Qt::Key_Left || key->key() == Qt::Key_Right) &&
                           key->modifiers().testFlag(Qt::AltModifier);
        if (key->key() == Qt::Key_Delete || key->key() == Qt::Key_Backspace || moves) {
            event->accept();
            return true;
        }
    }
    if (event->type() == QEvent::KeyPress && name.startsWith("term:")) {
        const auto* key = static_cast<QKeyEvent*>(event);
        const auto index = static_cast<std::size_t>(name.mid(5).toInt());
        if (key->key() == Qt::Key_M && key->modifiers() == Qt::NoModifier) {
            muteTerm(index);
            return true;
        }
        if (key->key() == Qt::Key_Delete || key->key() == Qt::Key_Backspace) {
            removeTerm(index);
            return true;
        }
        if ((key->key() == Qt::Key_Left || key->key() == Qt::Key_Right) &&
            key->modifiers().testFlag(Qt::AltModifier)) {
            moveTerm(index, key->key() == Qt::Key_Left ? -1 : 1);
            return true;
        }
    }
    auto* button = qobject_cast<QPushButton*>(watched);
    if (event->type() == QEvent::KeyPress && button != nullptr &&
        openByKey(button, *static_cast<const QKeyEvent*>(event))) {
        return true;
    }
    return QWidget::eventFilter(watched, event);
}

void QuestionLine::dragEnterEvent(QDragEnterEvent* event) {
    if (event->mimeData()->hasFormat("application/x-qabstractitemmodeldatalist")) {
        event->acceptProposedAction();
    }
}

void QuestionLine::dropEvent(QDropEvent* event) {
    QStandardItemModel dropped;
    dropped.dropMimeData(event->mimeData(), Qt::CopyAction, 0, 0, {});
    for (int row = 0; row < dropped.rowCount(); ++row) {
        const QString name = dropped.item(row)->text();
        const QWidget* under = childAt(event->position().toPoint());
        if (under != nullptr && dropOnTrace(under->objectName(), quotedName(utf8(name)))) {
            continue;
        }
        if (under != nullptr && under->objectName() == "slot:outcome" &&
            session_.question() != nullptr) {
            Question next = *session_.question();
            next.outcome = quotedName(utf8(name));
            session_.putQuestion(next, tr("explain %1").arg(name));
            refresh();
            if (auto* add = findChild<QPushButton*>("slot:add")) {
                add->setFocus();  // Typing goes on with a term.
            }
        } else {
            addTerm(quotedName(utf8(name)));
        }
    }
    event->acceptProposedAction();
}

}  // namespace rapporto::app
