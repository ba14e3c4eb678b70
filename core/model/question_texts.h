#pragma once

#include "core/model/question.h"

namespace rapporto {

/// Visits every expression of a question, to read or to change it; what names a set is none.
template <class Visit>
void eachText(Question& q, const Visit& visit) {
    for (auto* one :
         {&q.outcome, &q.where, &q.weight, &q.offset, &q.exposure, &q.settings.variable}) {
        visit(*one);
    }
    for (auto* terms : {&q.endogenous, &q.terms, &q.instruments, &q.completeBy}) {
        for (Term& term : *terms) {
            for (std::string& part : term.parts) {
                if (term.kind != Term::Kind::Set) {
                    visit(part);
                }
            }
        }
    }
    for (auto* list : {&q.variables, &q.holding, &q.fixedEffects, &q.ownSlopes,
                       &q.settings.zeroTerms, &q.errors.by}) {
        for (std::string& one : *list) {
            visit(one);
        }
    }
    if (q.byLot) {
        visit(q.byLot->by);
        for (std::string& one : q.byLot->within) {
            visit(one);
        }
    }
    for (LevelSpec& level : q.settings.levels) {
        visit(level.by);
        for (std::string& slope : level.slopes) {
            visit(slope);
        }
    }
    eachText(q.trace, visit);
}

}  // namespace rapporto
