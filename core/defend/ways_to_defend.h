#pragma once

#include "core/study/answer.h"

namespace rapporto {

/// Something that can be asked of one effect so as to defend it, with its reason.
struct WayToDefend {
    std::string label;
    std::string why;
    Question question;     ///< As it would be.
    bool variant = false;  ///< It stands beside the question, not in its place.
};

/// What can be asked of an effect that the question does not ask yet: how strong a cause left out
/// would have to be, lots, worst cases where outcomes are not seen, how many rows would find it,
/// and placebos where there are moments: the outcome before the cause, the cause after it.
[[nodiscard]] std::vector<WayToDefend> waysToDefend(const Study& study, const Answer& answer,
                                                    std::size_t coefficient);

}  // namespace rapporto
