#include "core/report/left_wording.h"

#include "core/base/format.h"

#include <cmath>

namespace rapporto {

std::string leftVariableWords(const LeftTable& table, const Variable& variable) {
    if (table.variable(variable.name) == nullptr) {
        return "Worked out by the database from “" + variable.expression + "” as it is asked for";
    }
    const auto all = table.facts();
    if (all == nullptr) {
        return "It is not looked at yet: the database is asked where it is needed";
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
    return answer.asked ? "the rows stay with the database" : "the source is a summary";
}

}  // namespace rapporto
