#include "core/report/classification.h"

#include "core/base/format.h"
#include "core/model/likelihood.h"

#include <algorithm>

namespace rapporto {

std::optional<Classification> classify(const Answer& answer, double cut) {
    if (!answer.fit || !answer.design || !answer.fit->likelihood ||
        answer.fit->likelihood->family->outcome != Family::Outcome::YesNo) {
        return std::nullopt;
    }
    Classification out;
    out.cut = cut;
    const Design& design = *answer.design;
    for (Eigen::Index i = 0; i < design.y.size(); ++i) {
        const double w = design.weights.size() > 0 ? design.weights(i) : 1.0;
        const bool told = answer.fit->fitted(i) >= cut;
        double& cell = design.y(i) > 0.5 ? (told ? out.yesFound : out.yesMissed)
                                         : (told ? out.noTaken : out.noSpared);
        cell += w;
    }
    return out;
}

std::string classificationReading(const Answer& answer, const Classification& told) {
    const auto percent = [](double part, double of) {
        return of > 0.0 ? "**" + fixedNumber(100.0 * part / of, 0) + " %**" : std::string("none");
    };
    const double yes = told.yesFound + told.yesMissed;
    const double no = told.noTaken + told.noSpared;
    const double larger = std::max(yes, no) / told.all();
    return "Told yes from a probability of " + fixedNumber(told.cut, 2) + " on, " +
           percent(told.yesFound + told.noSpared, told.all()) + " of the rows are told right (" +
           fixedNumber(100.0 * larger, 0) + " % by always saying " + (yes >= no ? "yes" : "no") +
           "): " + percent(told.yesFound, yes) + " of the yes to " + answer.design->outcomeLabel +
           ", " + percent(told.noSpared, no) + " of the no. Of the rows told yes " +
           percent(told.yesFound, told.yesFound + told.noTaken) + " are yes.";
}

}  // namespace rapporto
