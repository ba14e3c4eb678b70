#pragma once

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

namespace rapporto {

/// How missing answers are filled in: several times over, each variable from the others in turn.
struct ImputationSpec {
    std::vector<std::string> variables = {};  ///< What is filled in: columns of the table.
    std::vector<std::string> with = {};       ///< What else foretells: expressions without gaps.
    int sets = 20;
    int rounds = 10;  ///< How often every variable is drawn anew before a set is taken.
    int donors = 5;   ///< Of matching: how many of the nearest rows one is drawn from.
    std::optional<std::uint64_t> seed = {};      ///< Absent: the study’s.
    std::map<std::string, std::string> by = {};  ///< A variable’s way; absent: by its measure.

    [[nodiscard]] bool isDeclared() const { return !variables.empty(); }

    friend bool operator==(const ImputationSpec&, const ImputationSpec&) = default;
};

}  // namespace rapporto
