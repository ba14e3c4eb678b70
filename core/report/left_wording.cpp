#include "core/report/left_wording.h"

#include "core/base/format.h"

#include <cmath>

namespace rapporto {

std::string leftVariableWords(const LeftTable& table, const Variable& variable) {
    if (table.variable(variable.name) == nullptr) {
        return "Worked out from “" + variable.expression + "” as " + table.words().asked +
               " is asked";
    }
    const auto all = table.facts();
    if (all == nullptr) {
        return "It is not looked at yet: " + table.words().asked + " is asked where it is needed";
    }
    const LeftFacts& facts = all->at(variable.name);
    std::string out =
        plural(static_cast<std::size_t>(facts.present), "row has an answer", "rows have an answer");
    if (!isGrouping(variable.measure) && std::isfinite(facts.sd)) {
        out += "; mean " + shortNumber(facts.mean, 5) + ", standard deviation " +
               shortNumber(facts.sd, 4) + ", from " + shortNumber(facts.low, 5) + " to " +
               shortNumber(facts.high, 5);
        out += variable.missing.empty() ? "" : ", codes for no answer included";
    }
    return out;
}

std::string whyNoRows(const Answer& answer) {
    return answer.asked ? "the rows stay where they lie" : "the source is a summary";
}

}  // namespace rapporto
