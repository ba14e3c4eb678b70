#include "app/question/question_line.h"
#include "app/shell/finder.h"
#include "app/shell/roster.h"
#include "app/shell/theme.h"
#include "core/report/request_wording.h"

#include <QPushButton>

#include <tuple>

namespace rapporto::app {

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
                entries.push_back({text(v.name), measureTag(v.measure) + "  " + text(v.label),
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
    actOnThisQuestion();
}

void QuestionLine::addCorrelated(const std::string& expression) {
    Question next = *session_.question();
    next.variables.push_back(expression);
    session_.putQuestion(next, tr("correlate %1").arg(text(expression)));
}

void QuestionLine::nextInCorrelate() {
    if (auto* related = findChild<QPushButton*>("slot:related")) {
        related->setFocus();
        pickCorrelated(related, false);
    }
}

}  // namespace rapporto::app
