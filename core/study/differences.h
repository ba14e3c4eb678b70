#pragma once

#include "core/study/study.h"

namespace rapporto {

/// How two states of one study part.
struct StudyDifferences {
    std::size_t shared = 0;          ///< Steps that both trails begin with.
    std::vector<TrailStep> first;    ///< Steps that only the first has taken since.
    std::vector<TrailStep> second;   ///< And the second.
    std::vector<std::string> parts;  ///< What they hold differently, in words: “question q2”.

    [[nodiscard]] bool same() const { return parts.empty() && first.empty() && second.empty(); }
};

[[nodiscard]] StudyDifferences differencesOf(const Study& first, const Study& second);

}  // namespace rapporto
