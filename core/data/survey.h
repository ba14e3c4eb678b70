#pragma once

#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace rapporto {

/// What is known of a variable in the population: the shares of its levels, or its mean.
struct KnownTotal {
    std::string variable;
    std::vector<std::pair<std::string, double>> shares = {};  ///< By label, else by value; sum 1.
    std::optional<double> mean = {};                          ///< In place of shares.

    friend bool operator==(const KnownTotal&, const KnownTotal&) = default;
};

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

    // What the weights are brought to.
    std::vector<KnownTotal> targets = {};
    std::string calibration = "raking";  ///< Or linear.
    /// The least and the most that a new weight may be of the old one.
    std::optional<std::pair<double, double>> bounds = {};

    /// Anything is known of how the rows were drawn, or of what they stand for.
    [[nodiscard]] bool isDeclared() const {
        return isWeighted() || !strata.empty() || !cluster.empty() || !replicates.empty();
    }

    /// Rows count differently.
    [[nodiscard]] bool isWeighted() const { return !weight.empty() || !targets.empty(); }

    /// The weight as words name it: “w”, “w, calibrated”, “calibrated weights”.
    [[nodiscard]] std::string weightShown() const {
        return targets.empty()  ? weight
               : weight.empty() ? "calibrated weights"
                                : weight + ", calibrated";
    }

    friend bool operator==(const Survey&, const Survey&) = default;
};

}  // namespace rapporto
