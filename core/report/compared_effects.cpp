#include "core/base/format.h"
#include "core/model/likelihood.h"
#include "core/paths/trace.h"
#include "core/paths/trace_kind.h"
#include "core/report/wording.h"

#include <algorithm>

namespace rapporto {
namespace {

bool isEffect(const Coefficient& c) {
    return c.designTerm >= 0 ||
           (c.term != "(constant)" && (c.equation == "zero" || c.equation == "seen" ||
                                       c.equation == "first" || c.equation.starts_with("to ")));
}

/// An equation beside the main one, with what its effects are counted in.
std::string furtherEquation(const Fit& fit, const std::string& equation) {
    if (equation == "zero") {
        return fit.likelihood && fit.likelihood->family->zeros == Family::Zeros::Hurdle
                   ? "any at all, log odds"
                   : "always zero, log odds";
    }
    return equation == "seen" ? "whether seen, probit index" : equation;
}

}  // namespace

std::vector<ComparedEffect> comparedEffects(const Fit& fit) {
    std::vector<ComparedEffect> out;
    bool alone = true;
    for (const Coefficient& c : fit.coefficients) {
        if (isEffect(c)) {
            out.push_back({{c.term, c.equation}, &c});
            alone = alone && c.equation == out.front().row.equation;
        }
    }
    for (ComparedEffect& one : out) {
        one.row.equation = alone || one.row.equation == "main"
                               ? std::string()
                               : furtherEquation(fit, one.row.equation);
    }
    return out;
}

std::vector<ComparedEffect> comparedEffects(const Answer& answer) {
    if (answer.fit) {
        return comparedEffects(*answer.fit);
    }
    std::vector<ComparedEffect> out;
    if (answer.trace) {
        const auto& effects = answer.trace->effects;
        for (std::size_t k = 0; k < effects.size(); ++k) {
            // One way alone is its own sum.
            const auto ways =
                std::count_if(effects.begin(), effects.end(), [&](const TraceEffect& one) {
                    return one.from == effects[k].from && one.to == effects[k].to &&
                           one.at == effects[k].at && one.kind == effects[k].kind &&
                           !one.through.empty();
                });
            const Coefficient& row = answer.trace->effectRows[k];
            if (ways != 1 || !effects[k].through.empty()) {
                out.push_back({{row.term, row.equation}, &row});
            }
        }
    }
    return out;
}

std::string effectAxis(const Answer& answer) {
    return answer.fit ? answer.design->outcome + '\n' + effectsIn(*answer.fit) : std::string();
}

const Coefficient* effectIn(const std::vector<ComparedEffect>& effects, const ComparedRow& row) {
    const auto found = std::find_if(effects.begin(), effects.end(),
                                    [&](const ComparedEffect& one) { return one.row == row; });
    return found == effects.end() ? nullptr : found->effect;
}

std::vector<ComparedRow> comparedRows(const std::vector<std::vector<ComparedEffect>>& fits) {
    std::vector<ComparedRow> out;
    for (const auto& effects : fits) {
        for (const ComparedEffect& one : effects) {
            if (std::find(out.begin(), out.end(), one.row) != out.end()) {
                continue;
            }
            // Behind the last row of its term.
            const auto last = std::find_if(out.rbegin(), out.rend(), [&](const ComparedRow& row) {
                return row.term == one.row.term;
            });
            out.insert(last == out.rend() ? out.end() : last.base(), one.row);
        }
    }
    return out;
}

std::string effectsIn(const Fit& fit) {
    return fit.likelihood ? fit.likelihood->family->scale : "the outcome";
}

bool isOfLogs(const Answer& answer) {
    if (!answer.fit || !answer.design) {
        return false;
    }
    if (!answer.fit->likelihood) {
        return !answer.design->outcomeLogOf.empty();
    }
    return answer.fit->likelihood->family->inLogs();
}

}  // namespace rapporto
