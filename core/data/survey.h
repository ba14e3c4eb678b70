#pragma once

#include <string>

namespace rapporto {

/// How the rows were drawn. Names of variables; empty: none.
struct Survey {
    std::string weight;
    std::string strata;
    std::string cluster;
    std::string population;  ///< Clusters of the stratum in the population: a number or a variable.

    friend bool operator==(const Survey&, const Survey&) = default;
};

}  // namespace rapporto
