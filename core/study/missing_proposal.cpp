#include "core/study/missing_proposal.h"

#include "core/base/format.h"
#include "core/impute/sets.h"

#include <algorithm>
#include <map>

namespace rapporto {
namespace {

/// Columns of the table behind these expressions.
std::set<std::string> columnsBehind(const std::vector<std::string>& texts, const Study& study,
                                    const Frame& frame) {
    std::set<std::string> seen;
    std::set<std::string> out;
    std::vector<std::string> open;
    const auto addText = [&](const std::string& text) {
        if (const auto parsed = Expression::parse(text)) {
            const auto names = parsed->names();
            open.insert(open.end(), names.begin(), names.end());
        }
    };
    for (const std::string& text : texts) {
        const auto set = std::find_if(study.sets.begin(), study.sets.end(),
                                      [&](const TermSet& one) { return one.name == text; });
        if (set == study.sets.end()) {
            addText(text);
            continue;
        }
        std::for_each(set->members.begin(), set->members.end(), addText);
    }
    while (!open.empty()) {
        const std::string name = open.back();
        open.pop_back();
        const Variable* variable = frame.variable(name);
        if (variable == nullptr || !seen.insert(name).second) {
            continue;
        }
        if (variable->expression.empty()) {
            out.insert(name);
        } else {
            addText(variable->expression);
        }
    }
    return out;
}

std::vector<std::string> textsOf(const Question& q) {
    std::vector<std::string> out = {q.outcome, q.weight};
    for (const Term* term : q.allTerms()) {
        if (!term->muted) {
            out.insert(out.end(), term->parts.begin(), term->parts.end());
        }
    }
    out.insert(out.end(), q.fixedEffects.begin(), q.fixedEffects.end());
    out.insert(out.end(), q.variables.begin(), q.variables.end());
    return out;
}

std::size_t gapsIn(const Frame& frame, const Column& column) {
    std::size_t gaps = 0;
    for (std::size_t i = 0; i < frame.rows(); ++i) {
        gaps += frame.states()[i] == RowState::In && column.isMissing(i) ? 1U : 0U;
    }
    return gaps;
}

/// It can stand among what foretells: it varies, and has no more levels than rows can tell apart.
bool canForetell(const Frame& frame, const std::string& name) {
    constexpr std::size_t kMostLevels = 30;
    const Column* column = frame.column(name);
    const Variable* variable = frame.variable(name);
    if (column->isText() && variable->measure == Measure::Text) {
        return false;
    }
    std::vector<std::size_t> rows;
    for (std::size_t i = 0; i < frame.rows(); ++i) {
        if (frame.states()[i] == RowState::In) {
            rows.push_back(i);
        }
    }
    if (!column->isText() && !isGrouping(variable->measure)) {
        const auto of = [&](std::size_t row) { return column->numbers()[row]; };
        return std::any_of(rows.begin(), rows.end(),
                           [&](std::size_t row) { return of(row) != of(rows.front()); });
    }
    const std::size_t levels = levelsOf(*column, *variable, rows).size();
    return levels > 1 && levels <= kMostLevels && levels * 10 <= rows.size();
}

}  // namespace

ImputationSpec proposedImputation(const Study& study, const Frame& frame) {
    ImputationSpec out;
    out.sets = study.imputation.sets;
    std::vector<std::string> texts;
    for (const Question& q : study.questions) {
        const auto of = textsOf(q);
        texts.insert(texts.end(), of.begin(), of.end());
    }
    const std::set<std::string> used = columnsBehind(texts, study, frame);
    for (const Variable& variable : frame.table().variables) {
        if (!variable.expression.empty() || (!used.empty() && !used.contains(variable.name))) {
            continue;
        }
        const Column& column = *frame.column(variable.name);
        const std::size_t gaps = gapsIn(frame, column);
        if (gaps == 0 && canForetell(frame, variable.name)) {
            out.with.push_back(quotedName(variable.name));
        } else if (gaps > 0 && gaps < frame.count(RowState::In) &&
                   canForetell(frame, variable.name)) {
            out.variables.push_back(variable.name);
        }
    }
    return out.variables.empty() ? ImputationSpec{} : out;
}

std::vector<Term> completeByProposed(const Study& study, const Frame& frame,
                                     const Question& question) {
    std::vector<std::string> texts = textsOf(question);
    texts.insert(texts.end(), study.imputation.with.begin(), study.imputation.with.end());
    std::vector<Term> out;
    for (const std::string& name : columnsBehind(texts, study, frame)) {
        if (gapsIn(frame, *frame.column(name)) == 0 && canForetell(frame, name)) {
            out.push_back(Term::expression(quotedName(name)));
        }
    }
    return out;
}

std::vector<WayToAsk> waysWithMissing(const Study& study, const Frame& frame,
                                      const Question& question) {
    std::vector<WayToAsk> out;
    if (question.missing != "rows") {
        WayToAsk way{"rows that lack nothing",
                     "Rows that lack an answer are left out: right where they are missing for no "
                     "reason that has to do with the outcome.",
                     question};
        way.question.missing = "rows";
        way.question.completeBy.clear();
        out.push_back(std::move(way));
    }
    if (question.missing != "imputed" && study.imputation.isDeclared()) {
        WayToAsk way{"missing answers filled in",
                     plural(static_cast<std::size_t>(study.imputation.sets), "set", "sets") +
                         " of " + joinedNames(study.imputation.variables) +
                         ": right where answers are missing at random given what foretells them.",
                     question};
        way.question.missing = "imputed";
        way.question.completeBy.clear();
        out.push_back(std::move(way));
    }
    if (question.missing != "weighted") {
        WayToAsk way{"complete rows weighted", "", question};
        way.question.missing = "weighted";
        way.question.completeBy = completeByProposed(study, frame, question);
        if (!way.question.completeBy.empty()) {
            std::vector<std::string> names;
            for (const Term& term : way.question.completeBy) {
                names.push_back(term.shown());
            }
            way.why = "By the inverse of their chance to be complete, foretold by " +
                      joinedNames(names) +
                      ": right where that tells who answers. Errors become robust ones.";
            out.push_back(std::move(way));
        }
    }
    return out;
}

}  // namespace rapporto
