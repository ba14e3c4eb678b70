#pragma once

#include "core/base/result.h"
#include "core/data/column.h"
#include "core/data/grouping.h"

#include <cstdint>
#include <string>
#include <vector>

namespace rapporto {

/// What a row is.
struct Layout {
    enum class Kind : std::uint8_t { CrossSection, Series, Panel };

    Kind kind = Kind::CrossSection;
    std::string unit;
    std::string time;
    std::string frequency;  ///< Empty: by the evidence; else a name of `Frequency`, or "order".

    friend bool operator==(const Layout&, const Layout&) = default;
};

/// How far apart two moments in a row are.
enum class Frequency : std::uint8_t { Year, Half, Quarter, Month, Week, Day, Number, Order };

/// "year", "half", "quarter", "month", "week", "day", "number", "order".
[[nodiscard]] std::string frequencyName(Frequency frequency);

/// The name is one of those.
[[nodiscard]] bool isFrequency(const std::string& name);

/// Moments in one year, 1 where that has no meaning.
[[nodiscard]] int momentsAYear(Frequency frequency);

/// The rows in the order of time within units, and how many steps apart they are.
///
/// The moment of a row is a whole number of steps. The step is the coarsest that all times fit:
/// for dates a calendar unit, for numbers the greatest common divisor of their differences. With
/// frequency "order" each row is one step after the one before it, whatever the distance.
struct TimeOrder {
    GroupedRows units;                 ///< Rows by unit, ordered by time; one unit in a series.
    std::vector<std::int64_t> moment;  ///< Of each source row; kNoMoment without a time or a unit.
    Frequency frequency = Frequency::Number;
    double step = 1.0;                    ///< Calendar units, or numbers, a moment.
    std::vector<std::uint32_t> repeated;  ///< Rows whose unit has an earlier row at that moment.
    std::size_t unplaced = 0;             ///< Rows without a unit or a time.

    static constexpr std::int64_t kNoMoment = INT64_MIN;

    /// For each row the row `steps` moments earlier in its unit (later when negative), or −1.
    [[nodiscard]] std::vector<std::int32_t> shifted(std::int64_t steps) const;

    /// “month”, “2 years”.
    [[nodiscard]] std::string stepText() const;
};

/// Orders the rows as the layout says. Time: rows, plus sorting within units that are not sorted.
///
/// @return the order, or BadSetting for a cross-section or an unknown frequency, UnknownName,
///         WrongType when the time is neither numbers nor dates.
[[nodiscard]] Result<TimeOrder> orderRows(const Table& table, const Layout& layout);

/// What a person should know of a declared layout.
struct LayoutFacts {
    std::size_t units = 0;
    std::size_t moments = 0;  ///< Different ones, over all units.
    std::size_t rows = 0;     ///< Placed rows.
    std::size_t unplaced = 0;
    std::vector<std::uint32_t> repeated;  ///< Source rows, from 0.
    std::vector<std::uint32_t> afterGap;  ///< Rows more than a step after the one before.
    std::vector<std::uint32_t> singles;   ///< Only rows of their unit.
    bool balanced = false;                ///< Every unit has every moment once.
};

[[nodiscard]] LayoutFacts layoutFacts(const TimeOrder& order);

}  // namespace rapporto
