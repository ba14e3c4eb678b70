#pragma once

#include <optional>
#include <string>
#include <vector>

namespace rapporto {

/// How the rows were drawn. Names of variables; empty: none.
struct Survey {
    std::string weight;
    std::string strata;
    std::string cluster;
    std::string population;  ///< Clusters of the stratum in the population: a number or a variable.
    std::string lonely = "centred";  ///< A stratum’s only cluster: centred, skipped or refused.

    // Weights made anew by those who drew the sample, in place of strata and clusters.
    std::vector<std::string> replicates = {};
    std::string replicateKind = "jackknife";  ///< Or balanced, bootstrap.
    double fay = 0.0;                         ///< Of balanced: how much of a weight stays, 0 to 1.
    std::optional<double> scale = {};         ///< Of the squares; absent: by the kind.

    /// Anything is known of how the rows were drawn.
    [[nodiscard]] bool isDeclared() const {
        return !weight.empty() || !strata.empty() || !cluster.empty() || !replicates.empty();
    }

    friend bool operator==(const Survey&, const Survey&) = default;
};

}  // namespace rapporto
