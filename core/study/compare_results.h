#pragma once

#include <nlohmann/json_fwd.hpp>

#include <cstddef>
#include <string>
#include <vector>

namespace rapporto {

/// One place where two results differ.
struct ResultDifference {
    std::string where;  ///< “q2 · coefficients · member · estimate”.
    std::string before;
    std::string now;

    [[nodiscard]] std::string text() const {
        return where + ": " + before + " was, " + now + " is";
    }
};

/// Numbers and words that differ between two results files, in their order. Entries are matched by
/// what they are of (question, term, check), others by their place. Two numbers agree when they
/// differ by at most `relative` of the larger one, or both are under 1e-300.
///
/// @param most  differences to name; `left` is told how many more there are.
[[nodiscard]] std::vector<ResultDifference> differencesBetween(const nlohmann::ordered_json& before,
                                                               const nlohmann::ordered_json& now,
                                                               double relative, std::size_t most,
                                                               std::size_t* left = nullptr);

}  // namespace rapporto
