#pragma once

#include <array>
#include <cstdint>
#include <vector>

namespace rapporto {

/// What is taken out of a series before it is asked whether it wanders.
enum class Deterministic : std::uint8_t { None, Constant, Trend };

/// Simulated laws; unit_root_tables.cpp is written by tests/reference/make_unit_root_laws.py.
struct UnitRootTables {
    struct Law {
        int columns = 1;  ///< Trending columns; above one the statistic is of their residuals.
        Deterministic with = Deterministic::Constant;
        /// Of each probability the quantile as b₀ + b₁/T + b₂/T² + b₃/T³ of T rows.
        std::vector<std::array<double, 4>> surface;
    };

    /// Mean and variance of the statistic of one column, by rows.
    struct Averages {
        Deterministic with = Deterministic::Constant;
        int lags = 0;
        std::vector<double> mean;
        std::vector<double> variance;
    };

    std::vector<double> normals;  ///< The probabilities of the surfaces as normal quantiles.
    std::vector<Law> laws;
    std::vector<double> rows;  ///< Of the averages, ascending.
    std::vector<Averages> averages;
};

[[nodiscard]] const UnitRootTables& unitRootTables();

}  // namespace rapporto
