#pragma once

#include "core/study/study.h"

#include <string>
#include <vector>

namespace rapporto {

/// A way a question could be put, with its reason; never applied by itself.
struct WayToAsk {
    std::string label;  ///< “errors clustered by village”.
    std::string why;    ///< One sentence that names the evidence.
    Question question;  ///< As it would be.
    /// A grouping that has to be derived before, or nothing.
    std::optional<Derived> groups = {};
};

/// What the outcome’s measure, the layout, the survey design and the codebook suggest for a
/// question that explains: how to estimate it, which errors, what to hold fixed, the season.
/// Nothing is proposed that the question has already, nor where it has chosen otherwise than by
/// default.
[[nodiscard]] std::vector<WayToAsk> waysToAsk(const Study& study, const Frame& frame,
                                              const Question& question);

}  // namespace rapporto
