#pragma once

#include "core/data/column.h"

#include <cstdint>
#include <map>
#include <optional>
#include <string>
#include <vector>

namespace rapporto {

/// The effect of a cause as it would be had the cause been drawn by lot, over and over.
struct LotRequest {
    std::string of;                          ///< A term with one variable behind it.
    std::vector<std::string> within = {};    ///< Lots are drawn within the groups of these.
    std::string by = {};                     ///< Whole groups of this draw one lot; empty: rows.
    int draws = 9999;                        ///< At the most; all lots where they are no more.
    std::optional<std::uint64_t> seed = {};  ///< Absent: the study’s.

    friend bool operator==(const LotRequest&, const LotRequest&) = default;
};

/// How far an effect could move, whatever the outcomes are that were not seen.
struct WorstCaseRequest {
    std::string of;
    std::optional<double> low = {};  ///< Ends of what the outcome can be; absent: of what was seen.
    std::optional<double> high = {};

    friend bool operator==(const WorstCaseRequest&, const WorstCaseRequest&) = default;
};

/// How many rows a design like this one needs to find an effect of some size.
struct PlannedRequest {
    std::string of;
    double effect = 0.0;  ///< In the units of the coefficient.
    double power = 0.8;

    friend bool operator==(const PlannedRequest&, const PlannedRequest&) = default;
};

/// How a variable goes on after the last moment.
struct GoesOn {
    std::string way = "last";      ///< Or mean, season (as a year before), values.
    std::vector<Key> values = {};  ///< Of values: one a moment; the last one stays.

    friend bool operator==(const GoesOn&, const GoesOn&) = default;
};

/// The outcome at moments to come, of a series.
struct ForecastRequest {
    int moments = 12;
    std::map<std::string, GoesOn> terms = {};  ///< By variable; those not named stay as they were.

    friend bool operator==(const ForecastRequest&, const ForecastRequest&) = default;
};

}  // namespace rapporto
