#pragma once

#include <optional>
#include <string>
#include <vector>

namespace rapporto {

/// What a sweep is asked over, by names that outlive changes of the question.
struct SweepChoices {
    std::string of;  ///< The coefficient that is followed; empty: the first effect.
    std::optional<std::vector<std::string>> vary;  ///< Terms that come and go; absent: eight.
    std::vector<std::string> errors = {"classical", "robust", "own"};
    bool outliers = true;  ///< Also without the rows that stand out.

    friend bool operator==(const SweepChoices&, const SweepChoices&) = default;
};

}  // namespace rapporto
