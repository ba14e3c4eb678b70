#include "app/question/question_line.h"
#include "app/shell/finder.h"
#include "app/shell/number_marks.h"
#include "app/shell/roster.h"
#include "app/shell/theme.h"
#include "core/base/format.h"
#include "core/base/shown_names.h"

#include <QPushButton>

#include <algorithm>

namespace rapporto::app {
namespace {

/// What an expression says, for the finder: names without its quotes.
QString unquoted(const QString& expression) { return text(shownNames(utf8(expression))); }

/// x in the notation of a page: ln x, √x, x², 1/x … for the finder’s transforms.
std::vector<std::pair<QString, QString>> transformsOf(const QString& name) {
    return {{QString("ln %1").arg(name), QString("ln(%1)").arg(name)},
            {QString("√%1").arg(name), QString("sqrt(%1)").arg(name)},
            {name + "²", QString("power(%1, 2)").arg(name)},
            {QString("1/%1").arg(name), QString("1 / %1").arg(name)}};
}

}  // namespace

QString QuestionLine::whyNot(const QString& expression) const {
    const auto frame = session_.frame();
    if (!frame) {
        return tr("The table is still being read.");
    }
    const auto value = frame->evaluateText(utf8(expression));
    return value ? QString() : numbered(value.error().text());
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
            entries.push_back({unquoted(shown), {}, [put, e = expression] { put(e); }});
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
                FinderEntry entry{unquoted(shown), {}, [add, e = utf8(expression)] { add(e); }};
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
    FinderEntry entry{text(v.name), measureTag(v.measure) + "  " + text(v.label), std::move(act)};
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
    if (!hasTerm(index)) {
        return;
    }
    const Question* q = session_.question();
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

/// A chip may be a moment older than the question.
bool QuestionLine::hasTerm(std::size_t index) const {
    const Question* q = session_.question();
    return q != nullptr && index < q->terms.size();
}

void QuestionLine::muteTerm(std::size_t index) {
    if (!hasTerm(index)) {
        return;
    }
    Question next = *session_.question();
    next.terms[index].muted = !next.terms[index].muted;
    session_.putQuestion(next, (next.terms[index].muted ? tr("mute %1") : tr("unmute %1"))
                                   .arg(text(next.terms[index].shown())));
}

void QuestionLine::removeTerm(std::size_t index) {
    if (!hasTerm(index)) {
        return;
    }
    Question next = *session_.question();
    const QString name = text(next.terms[index].shown());
    next.terms.erase(next.terms.begin() + static_cast<std::ptrdiff_t>(index));
    session_.putQuestion(next, tr("take out %1").arg(name));
}

void QuestionLine::moveTerm(std::size_t index, int by) {
    if (!hasTerm(index)) {
        return;
    }
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

}  // namespace rapporto::app
