#include "app/question/question_line.h"

#include "app/shell/finder.h"
#include "app/shell/flow_layout.h"
#include "app/shell/number_marks.h"
#include "app/shell/theme.h"
#include "core/model/estimator.h"
#include "core/report/wording.h"
#include "core/study/ways_to_ask.h"

#include <QDragEnterEvent>
#include <QLabel>
#include <QMimeData>
#include <QPushButton>
#include <QStandardItemModel>
#include <QVBoxLayout>

namespace rapporto::app {
namespace {

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

void QuestionLine::openFinder(QWidget* by, const QString& prompt, std::vector<FinderEntry> entries,
                              std::function<void(const QString&)> useTyped, const QString& start) {
    finder_->open(
        by->mapToGlobal(QPoint(0, by->height() + 3)), 380, prompt, std::move(entries),
        [this](const QString& typed) { return whyNot(typed); }, std::move(useTyped), start);
    actOnThisQuestion();
}

/// Whatever the finder shows was said of the question as it stands: undone or exchanged meanwhile,
/// it may have neither that term nor that place.
void QuestionLine::actOnThisQuestion() {
    const auto now = [this] {
        const Question* q = session_.question();
        return q == nullptr ? std::string() : q->id + "\n" + questionText(*q);
    };
    finder_->actOnlyWhile([now, then = now()] { return now() == then; });
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
    actOnThisQuestion();
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
