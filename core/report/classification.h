#pragma once

#include "core/study/answer.h"

namespace rapporto {

/// What a cut of the probability tells right and wrong, in rows (by weights where there are any).
struct Classification {
    double cut = 0.5;
    double yesFound = 0.0;   ///< Yes, told yes.
    double yesMissed = 0.0;  ///< Yes, told no.
    double noTaken = 0.0;    ///< No, told yes.
    double noSpared = 0.0;   ///< No, told no.

    [[nodiscard]] double all() const { return yesFound + yesMissed + noTaken + noSpared; }

    [[nodiscard]] double right() const { return (yesFound + noSpared) / all(); }
};

/// Rows with a probability of `cut` or more are told yes.
/// @return nothing for an answer that is no likelihood of yes and no.
[[nodiscard]] std::optional<Classification> classify(const Answer& answer, double cut);

/// The table in words: what is told right, of the yes, of the no, of those told yes.
[[nodiscard]] std::string classificationReading(const Answer& answer, const Classification& told);

}  // namespace rapporto
