// The sentence of a trace: “Trace how … reaches … through …, beside …”.
#include "app/question/question_line.h"
#include "app/shell/finder.h"
#include "app/shell/flow_layout.h"
#include "app/shell/roster.h"
#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/model/estimator.h"
#include "core/paths/trace_edits.h"
#include "core/paths/trace_kind.h"

#include <QKeyEvent>
#include <QPushButton>

#include <algorithm>

namespace rapporto::app {
namespace {

QString intervalText(const TraceSpec& spec) {
    if (spec.interval == "delta") {
        return QObject::tr("by the delta method");
    }
    const QString how = spec.interval == "bca" ? QString("BCa") : text(spec.interval);
    const QString drawn = spec.resampling == "parametric" ? QObject::tr("parametric draws")
                          : spec.resampling == "clusters"
                              ? QObject::tr("draws of %1").arg(text(joinedNames(spec.by)))
                              : QObject::tr("draws");
    return QObject::tr("%1, %2 %3")
        .arg(how, numbered(countText(static_cast<std::size_t>(spec.draws))), drawn);
}

}  // namespace

void QuestionLine::buildTrace(const Question* asked) {
    const Question& q = *asked;
    const TraceRoles roles = traceRoles(q.trace);
    FlowLayout* line = first_;
    const auto chips = [&](const std::vector<std::string>& names, const QString& role) {
        for (const std::string& name : names) {
            auto* chip = addChip(line, termText(name), role + ":" + text(name));
            chip->setProperty("muted", isMuted(q.trace, name));
            chip->setToolTip(tr("Enter changes it · M mutes · Delete takes it out"));
            connect(chip, &QPushButton::clicked, this,
                    [this, chip, role, n = text(name)] { changeTraced(chip, role, n); });
        }
    };
    const auto slot = [&](const QString& shown, const QString& role, const QString& why) {
        auto* add = addSlot(line, shown, "slot:" + role);
        add->setToolTip(why);
        connect(add, &QPushButton::clicked, this, [this, add, role] { pickTraced(add, role); });
    };
    addWord(first_, tr("Trace how"), true);
    chips(roles.causes, "cause");
    slot(roles.causes.empty() ? tr("a cause…") : tr("another…"), "cause", tr("Add a cause"));
    addWord(first_, tr("reaches"), true);
    chips(roles.outcomes, "reached");
    if (roles.outcomes.empty()) {
        slot(tr("an outcome…"), "reached", tr("What it is to change"));
    }
    if (!roles.outcomes.empty() && !roles.causes.empty()) {
        addWord(first_, tr("through"), true);
        chips(roles.between, "between");
        slot(roles.between.empty() ? tr("what stands between…") : tr("another…"), "between",
             tr("Add something that the cause changes first"));
        line = second_;
        if (!roles.beside.empty()) {
            addWord(second_, tr("beside"), false);
            chips(roles.beside, "beside");
        }
        slot(roles.beside.empty() ? tr("+ beside") : tr("another…"), "beside",
             tr("Add a term whose effect is not asked for"));
    }
    addWord(second_, second_->count() > 0 ? tr("· intervals") : tr("intervals"), false);
    auto* intervals = addSlot(second_, intervalText(q.trace), "slot:intervals");
    connect(intervals, &QPushButton::clicked, this,
            [this, intervals] { pickIntervals(intervals); });
    addWord(second_, tr("· errors"), false);
    auto* errors = addSlot(second_, text(q.errors.shown()), "slot:errors");
    connect(errors, &QPushButton::clicked, this, [this, errors] { pickErrors(errors); });
    if (q.weightKind != WeightKind::None) {
        addWord(second_, tr("· weighted by"), false);
    }
    auto* weights =
        addSlot(second_, q.weightKind == WeightKind::None ? tr("+ weights") : text(q.weight),
                "slot:weights");
    connect(weights, &QPushButton::clicked, this, [this, weights] { pickWeights(weights); });
    if (!q.where.empty()) {
        addWord(second_, tr("· among"), false);
    }
    auto* rule = addSlot(second_, q.where.empty() ? tr("+ among") : text(q.where), "slot:rule");
    connect(rule, &QPushButton::clicked, this, [this, rule] { pickRule(rule); });
    auto* which = addSlot(second_, QString("%1 ▾").arg(text(q.title.empty() ? q.id : q.title)),
                          "slot:question");
    which->setToolTip(tr("Turn to another question, rename or remove this one"));
    connect(which, &QPushButton::clicked, this, [this, which] { pickQuestion(which); });
}

void QuestionLine::editTrace(const std::function<void(TraceSpec&)>& how, const QString& did) {
    Question next = *session_.question();
    how(next.trace);
    session_.putQuestion(next, did);
}

void QuestionLine::putTraced(const QString& role, const std::string& expression) {
    const QString shown = text(expression);
    const QString did = role == "cause"     ? tr("trace how %1 acts").arg(shown)
                        : role == "reached" ? tr("what reaches %1").arg(shown)
                        : role == "between" ? tr("through %1").arg(shown)
                                            : tr("beside %1").arg(shown);
    editTrace(
        [&](TraceSpec& spec) {
            role == "cause"     ? addCause(spec, expression)
            : role == "reached" ? addOutcome(spec, expression)
            : role == "between" ? addBetween(spec, expression)
                                : addBeside(spec, expression);
        },
        did);
}

void QuestionLine::addTraced(const std::string& expression) {
    editTrace([&](TraceSpec& spec) { addDropped(spec, expression); },
              tr("add %1").arg(text(expression)));
}

void QuestionLine::nextInTrace() {
    for (const char* role : {"cause", "reached", "between"}) {
        auto* slot = findChild<QPushButton*>(QString("slot:") + role);
        const bool last = QString(role) == "between";
        if (slot != nullptr && (last || slot->text() != tr("another…"))) {
            slot->setFocus();
            pickTraced(slot, role);
            return;
        }
    }
}

void QuestionLine::pickTraced(QWidget* by, const QString& role) {
    const auto put = [this, role](const QString& expression) {
        putTraced(role, utf8(expression));
        // The next blank stands ready while the sentence is not whole.
        const TraceRoles roles = traceRoles(session_.question()->trace);
        if (role == "cause" && roles.outcomes.empty()) {
            openNext();
        }
    };
    const TraceRoles roles = traceRoles(session_.question()->trace);
    std::vector<FinderEntry> entries;
    if (const auto frame = session_.frame()) {
        for (const Variable& v : frame->table().variables) {
            const QString name = text(quotedName(v.name));
            const auto has = [&](const std::vector<std::string>& list) {
                return std::find(list.begin(), list.end(), utf8(name)) != list.end();
            };
            const bool groups = isGrouping(v.measure) || v.measure == Measure::Text;
            const bool explained = role == "reached" || role == "between";
            if (has(roles.causes) || has(roles.outcomes) || has(roles.between) ||
                has(roles.beside) || (explained && groups)) {
                continue;
            }
            entries.push_back({text(v.name), measureTag(v.measure) + "  " + text(v.label),
                               [put, name] { put(name); }});
        }
    }
    const QString prompt = role == "cause"     ? tr("whose effect: a variable, or an expression")
                           : role == "reached" ? tr("what it is to change")
                           : role == "between" ? tr("what it changes first: it stands between")
                                               : tr("beside: what else acts on them");
    openFinder(by, prompt, std::move(entries), put);
}

void QuestionLine::changeTraced(QWidget* by, const QString& role, const QString& name) {
    const std::string own = utf8(name);
    std::vector<FinderEntry> entries;
    entries.push_back({tr("take it out"), tr("Delete"), [this, own] {
                           editTrace([&](TraceSpec& spec) { removeNode(spec, own); },
                                     tr("take out %1").arg(text(own)));
                       }});
    const bool muted = isMuted(session_.question()->trace, own);
    entries.push_back({muted ? tr("take it up again") : tr("mute it"), "M", [this, own] {
                           editTrace([&](TraceSpec& spec) { muteNode(spec, own); },
                                     tr("mute %1").arg(text(own)));
                       }});
    for (const auto& [other, words] : {std::pair(QString("cause"), tr("make it a cause")),
                                       std::pair(QString("between"), tr("put it between")),
                                       std::pair(QString("beside"), tr("put it beside"))}) {
        if (other != role && role != "reached") {
            entries.push_back({words, {}, [this, own, other = other] {
                                   editTrace(
                                       [&](TraceSpec& spec) {
                                           removeNode(spec, own);
                                           other == "cause"     ? addCause(spec, own)
                                           : other == "between" ? addBetween(spec, own)
                                                                : addBeside(spec, own);
                                       },
                                       tr("move %1").arg(text(own)));
                               }});
        }
    }
    if (role == "reached" || role == "between") {
        for (const Estimator& one : allEstimators()) {
            if (!one.has(trait::kEquation)) {
                continue;
            }
            const QString shown = tr("by %1").arg(text(one.shown));
            const QString why = one.family == nullptr     ? tr("a measurement")
                                : one.family->isPoisson() ? tr("a count")
                                                          : tr("a yes–no");
            entries.push_back({shown, why, [this, own, k = std::string(one.method), words = shown] {
                                   editTrace(
                                       [&](TraceSpec& spec) {
                                           for (PathSpec& path : spec.paths) {
                                               path.estimator = path.to == own ? k : path.estimator;
                                           }
                                       },
                                       tr("explain %1 %2").arg(text(own), words));
                               }});
        }
    }
    finder_->open(by->mapToGlobal(QPoint(0, by->height() + 3)), 380, tr("change %1").arg(name),
                  std::move(entries));
    actOnThisQuestion();
}

void QuestionLine::pickIntervals(QWidget* by) {
    std::vector<FinderEntry> entries;
    const auto put = [this](const std::function<void(TraceSpec&)>& how, const QString& shown) {
        editTrace(how, tr("intervals %1").arg(shown));
    };
    for (const auto& [key, shown, why] :
         {std::tuple{"bias-corrected", tr("bias-corrected"), tr("draws, shifted by their bias")},
          std::tuple{"percentile", tr("percentile"), tr("draws as they fall")},
          std::tuple{"bca", tr("BCa"), tr("draws, corrected for bias and skew")},
          std::tuple{"delta", tr("by the delta method"), tr("normal law, nothing is drawn")}}) {
        entries.push_back({shown, why, [put, k = std::string(key), words = shown] {
                               put([&](TraceSpec& spec) { spec.interval = k; }, words);
                           }});
    }
    for (const int draws : {1000, 5000, 20000}) {
        const QString words =
            tr("%1 draws").arg(numbered(countText(static_cast<std::size_t>(draws))));
        entries.push_back({words, {}, [put, draws, words] {
                               put([&](TraceSpec& spec) { spec.draws = draws; }, words);
                           }});
    }
    const bool summary = session_.isSummary();
    if (!summary) {
        entries.push_back({tr("draw rows"), tr("each as often as chance has it"), [put] {
                               put(
                                   [](TraceSpec& spec) {
                                       spec.resampling.clear();
                                       spec.by.clear();
                                   },
                                   tr("by rows"));
                           }});
        if (const auto frame = session_.frame()) {
            for (const Variable& v : frame->table().variables) {
                if (isGrouping(v.measure)) {
                    const std::string name = quotedName(v.name);
                    entries.push_back({tr("draw whole groups of %1").arg(text(v.name)),
                                       tr("clusters"), [put, name] {
                                           put(
                                               [&](TraceSpec& spec) {
                                                   spec.resampling = "clusters";
                                                   spec.by = {name};
                                               },
                                               tr("by groups of %1").arg(text(name)));
                                       }});
                }
            }
        }
    }
    entries.push_back({tr("draw coefficients"), tr("parametric: from the law they imply"), [put] {
                           put(
                               [](TraceSpec& spec) {
                                   spec.resampling = "parametric";
                                   spec.by.clear();
                               },
                               tr("parametric"));
                       }});
    finder_->open(by->mapToGlobal(QPoint(0, by->height() + 3)), 380, tr("how sure the effects are"),
                  std::move(entries));
    actOnThisQuestion();
}

bool QuestionLine::traceKey(const QString& chip, QEvent* event) {
    const bool own = chip.startsWith("cause:") || chip.startsWith("reached:") ||
                     chip.startsWith("between:") || chip.startsWith("beside:");
    if (!own || (event->type() != QEvent::ShortcutOverride && event->type() != QEvent::KeyPress)) {
        return false;
    }
    const auto* key = static_cast<QKeyEvent*>(event);
    const bool out = key->key() == Qt::Key_Delete || key->key() == Qt::Key_Backspace;
    const bool mute = key->key() == Qt::Key_M && key->modifiers() == Qt::NoModifier;
    if (!out && !mute) {
        return false;
    }
    event->accept();
    if (event->type() == QEvent::KeyPress) {
        const std::string name = utf8(chip.section(':', 1));
        editTrace([&](TraceSpec& spec) { out ? removeNode(spec, name) : muteNode(spec, name); },
                  out ? tr("take out %1").arg(text(name)) : tr("mute %1").arg(text(name)));
    }
    return true;
}

bool QuestionLine::dropOnTrace(const QString& slot, const std::string& expression) {
    const Question* q = session_.question();
    if (q == nullptr || sentenceOf(q).build != &QuestionLine::buildTrace) {
        return false;
    }
    for (const char* role : {"cause", "reached", "between", "beside"}) {
        if (slot.startsWith(QString(role) + ":") || slot == QString("slot:") + role) {
            putTraced(role, expression);
            return true;
        }
    }
    return false;
}

}  // namespace rapporto::app
