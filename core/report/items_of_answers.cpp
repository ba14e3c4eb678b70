// Items of the report that tell an answer: readings, tables of results, checks, methods.
#include "core/base/format.h"
#include "core/base/markup.h"
#include "core/base/shown_names.h"
#include "core/checks/check.h"
#include "core/report/assumptions.h"
#include "core/report/references.h"
#include "core/report/report_items.h"
#include "core/report/results_table.h"
#include "core/report/wording.h"

#include <algorithm>
#include <map>
#include <set>

namespace rapporto {
namespace {

using Kind = ReportBlock::Kind;

/// The panels of an item: its own questions, or those that it names by panel.
std::vector<ResultsPanel> panelsOf(const ItemInput& in) {
    const TableLook& look = in.item.table;
    const auto column = [&](const Answer& answer, std::size_t c) {
        const bool own = c < look.heads.size() && !look.heads[c].empty();
        return ResultsColumn{&answer, own ? look.heads[c] : questionTitle(answer), c};
    };
    // A head belongs to its question, also where one before it has no answer.
    const auto placeOf = [&](const Answer& answer, std::size_t otherwise) {
        const auto& asked = in.item.questions;
        const auto found = std::find(asked.begin(), asked.end(), answer.question.id);
        return found == asked.end() ? otherwise : static_cast<std::size_t>(found - asked.begin());
    };
    std::vector<ResultsPanel> panels;
    if (look.panels.empty()) {
        panels.emplace_back();
        for (std::size_t c = 0; c < in.answers.size(); ++c) {
            panels.back().columns.push_back(column(*in.answers[c], placeOf(*in.answers[c], c)));
        }
        return panels;
    }
    for (const TableLook::Panel& panel : look.panels) {
        panels.push_back({panel.title, {}});
        for (std::size_t c = 0; c < panel.questions.size(); ++c) {
            const auto found = std::find_if(
                in.answers.begin(), in.answers.end(),
                [&](const Answer* one) { return one->question.id == panel.questions[c]; });
            panels.back().columns.push_back(
                found == in.answers.end() ? ResultsColumn{nullptr, "", c} : column(**found, c));
        }
    }
    return panels;
}

/// One sentence of a group of checks: what speaks, and the others behind it.
std::string groupSentence(const GroupVerdict& verdict, const Answer& answer) {
    std::string deciding;
    std::string others;
    for (const CheckResult& check : answer.checks) {
        const Check* known = findCheck(check.id);
        if (known == nullptr || known->group != verdict.group ||
            check.verdict == Verdict::NotApplicable) {
            continue;
        }
        const bool decides =
            std::find(verdict.ids.begin(), verdict.ids.end(), check.id) != verdict.ids.end();
        if (decides && deciding.empty()) {
            deciding = check.reading;
        } else {
            others += (others.empty() ? "" : "; ") + std::string(known->name) + ": " +
                      verdictName(check.verdict) +
                      (check.headline.empty() ? "" : ", " + check.headline);
        }
    }
    if (deciding.empty() && others.empty()) {
        return {};
    }
    return verdictMark(verdict.worst) + " **" + verdict.group + "** " +
           capitalised(replacedAll(verdictName(verdict.worst), "-", " ")) +
           (verdict.line.empty() ? "" : ": " + verdict.line) + ". " + deciding +
           (verdict.reading.empty() || others.empty() ? "" : " " + verdict.reading) +
           (others.empty() ? "" : " (Also looked at: " + others + ".)");
}

}  // namespace

std::string titleBefore(const ItemInput& in, const Answer& answer) {
    return in.answers.size() > 1 ? "**" + questionTitle(answer) + ".** " : "";
}

void addReading(const ItemInput& in) {
    for (const Answer* a : in.answers) {
        std::string text = titleBefore(in, *a);
        for (std::size_t c = 0; c < a->fit->coefficients.size(); ++c) {
            if (a->fit->coefficients[c].designTerm < 0) {
                continue;
            }
            // Cautions about the data stand before the effect here, too.
            for (const std::string& words : effectReading(*a, c)) {
                const bool caution = words.starts_with("~");
                text += (caution ? words.substr(1) : words) + " ";
                if (!caution) {
                    break;
                }
            }
            break;
        }
        in.sheet.put(Kind::Paragraph, text + answerReading(*a));
    }
}

void addResultsTable(const ItemInput& in) {
    std::string outcome = in.answers.front()->design->outcome;
    for (const Answer* a : in.answers) {
        outcome = a->design->outcome == outcome ? outcome : "";
    }
    in.sheet.tableCaption(outcome.empty()
                              ? in.study.title
                              : "What goes with " + shownExpression(outcome, labelsOf(in.study)));
    const auto panels = panelsOf(in);
    in.sheet.add(resultsTable(in.study, panels, in.item.table, in.sheet.language()));
    in.sheet.put(Kind::Note,
                 resultsNote(panels, in.item.table, in.study.alpha, in.sheet.language()), "note");
}

void putEquation(ReportSheet& sheet, const Answer& answer) {
    ReportBlock block;
    block.kind = Kind::Equation;
    block.equation = equationRow(answer);
    block.text = equationText(answer);
    sheet.add(std::move(block));
}

void addEquation(const ItemInput& in) {
    for (const Answer* a : in.answers) {
        putEquation(in.sheet, *a);
    }
}

void addLenses(const ItemInput& in) {
    std::vector<std::string> names;
    std::vector<const Coefficient*> effects;
    const Answer& first = *in.answers.front();
    const auto labels = labelsOf(in.study);
    if (in.answers.size() == 1) {
        for (const Coefficient& c : first.fit->coefficients) {
            if (c.designTerm >= 0) {
                names.push_back(c.label == shownNames(c.term) ? shownExpression(c.term, labels)
                                                              : c.label);
                effects.push_back(&c);
            }
        }
    } else {
        const auto own = comparedEffects(*first.fit);
        for (const Answer* a : in.answers) {
            const Coefficient* c =
                own.empty() ? nullptr : effectIn(comparedEffects(*a->fit), own.front().row);
            if (c != nullptr && a->design->outcome == first.design->outcome &&
                effectsIn(*a->fit) == effectsIn(*first.fit)) {
                names.push_back(questionTitle(*a));
                effects.push_back(c);
            }
        }
    }
    if (effects.empty()) {
        return;
    }
    in.sheet.figureCaption(in.answers.size() == 1
                               ? "The effects in " + questionTitle(first)
                               : "The effect of " + effects.front()->label + " by specification");
    in.sheet.addFigure(lensDrawing(names, effects, 450.0), "Effects with their intervals");
    in.sheet.put(Kind::Note,
                 "A lens is as tall at any value as that value’s p; bars end at " +
                     percentLevel(in.study.alpha) + ".",
                 "note");
}

void putChecks(ReportSheet& sheet, const Answer& answer) {
    sheet.put(Kind::Heading, "What was checked in " + questionTitle(answer));
    for (const GroupVerdict& verdict : verdictsByGroup(answer.checks, answer.alpha)) {
        if (verdict.worst == Verdict::NotApplicable) {
            continue;
        }
        if (const std::string words = groupSentence(verdict, answer); !words.empty()) {
            sheet.put(Kind::Paragraph, words);
        }
    }
    for (const Decision& decision : answer.question.decisions) {
        const Check* check = findCheck(decision.check);
        sheet.put(Kind::Bullet, std::string("Decided on ") +
                                    (check == nullptr ? decision.check : check->name) + ": " +
                                    decision.reason);
    }
}

void addChecks(const ItemInput& in) {
    for (const Answer* a : in.answers) {
        putChecks(in.sheet, *a);
    }
}

void addAssumptions(const ItemInput& in) {
    std::vector<const Answer*> all;
    for (const auto& [id, answer] : in.all) {
        all.push_back(answer);
    }
    auto rows = assumptionLedger(in.study, all);
    std::erase_if(rows, [&](const AssumptionRow& row) {
        return row.state == AssumptionRow::State::Unasked ||
               (!in.item.questions.empty() &&
                std::find(in.item.questions.begin(), in.item.questions.end(), row.question) ==
                    in.item.questions.end());
    });
    if (rows.empty()) {
        return;
    }
    in.sheet.tableCaption(in.sheet.word("Assumptions, their evidence and what was done"));
    ReportBlock block;
    block.kind = Kind::Table;
    block.cells.push_back({in.sheet.word("question"), in.sheet.word("assumption"),
                           in.sheet.word("evidence"), in.sheet.word("what was done")});
    for (const AssumptionRow& row : rows) {
        const bool fine = row.state == AssumptionRow::State::Fine;
        block.cells.push_back({row.title, in.sheet.word(row.group),
                               fine ? in.sheet.word("nothing against it") : row.evidence,
                               row.state != AssumptionRow::State::Open ? row.done
                               : row.done.empty()
                                   ? in.sheet.word("open")
                                   : row.done + "; " + in.sheet.word("the rest open")});
    }
    block.rules = {0};
    in.sheet.add(std::move(block));
    if (const std::size_t open = openDoubts(rows); open > 0) {
        in.sheet.put(Kind::Note,
                     plural(open, "doubt is", "doubts are") +
                         " open: nobody has said why it does not matter, and no variant is free "
                         "of it.",
                     "note");
    }
}

void addMethods(const ItemInput& in) {
    in.sheet.put(Kind::Heading, in.sheet.word("Methods"));
    for (const Answer* a : in.answers) {
        in.sheet.put(Kind::Paragraph, titleBefore(in, *a) + methodsReading(*a));
    }
}

void addReferences(const ItemInput& in) {
    std::string named;
    for (const Answer* a : in.answers) {
        named += methodsReading(*a) + " " + answerReading(*a) + " ";
        for (const CheckResult& check : a->checks) {
            const Check* known = findCheck(check.id);
            if (known != nullptr && check.verdict != Verdict::NotApplicable) {
                named += std::string(known->source) + "; ";
            }
        }
    }
    const auto works = referencesIn(named);
    if (works.empty()) {
        return;
    }
    in.sheet.put(Kind::Heading, in.sheet.word("References"));
    for (const Reference* work : works) {
        ReportBlock block;
        block.kind = Kind::Reference;
        block.text = work->text();
        block.part = work->cite;
        in.sheet.add(std::move(block));
    }
}

void addTrail(const ItemInput& in) {
    if (in.study.trail.empty()) {
        return;
    }
    in.sheet.put(Kind::Heading, in.sheet.word("What was done"));
    std::string day;
    for (const TrailStep& step : in.study.trail) {
        if (step.at.substr(0, 10) != day) {
            day = step.at.substr(0, 10);
            in.sheet.put(Kind::Paragraph, "**" + day + "**");
        }
        const std::string time = step.at.size() > 15 ? step.at.substr(11, 5) + " " : "";
        in.sheet.put(Kind::Bullet, time + step.did);
    }
}

}  // namespace rapporto
