#include "core/report/reading_words.h"

#include "core/base/format.h"

namespace rapporto {

std::string withUnit(const std::string& number, const std::string& unit) {
    return unit.empty() ? number : number + " " + unit;
}

std::string namesOf(const std::vector<Term>& terms) {
    std::vector<std::string> names;
    for (const Term& term : terms) {
        names.push_back(term.shown());
    }
    return joinedNames(names);
}

}  // namespace rapporto
