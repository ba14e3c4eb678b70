#include "core/data/layout.h"

#include "core/base/format.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <numeric>

namespace rapporto {
namespace {

using Months = std::int64_t;

constexpr std::array<const char*, 8> kNames = {"year", "half", "quarter", "month",
                                               "week", "day",  "number",  "order"};

struct Day {
    Months month;  ///< Since year 0.
    unsigned day;
    bool last;  ///< Of its month.
};

Day dayOf(double days) {
    using namespace std::chrono;
    const year_month_day date{sys_days{std::chrono::days{static_cast<int>(std::floor(days))}}};
    return {Months{static_cast<int>(date.year())} * 12 + static_cast<unsigned>(date.month()) - 1,
            static_cast<unsigned>(date.day()),
            date.day() == year_month_day_last{date.year() / date.month() / last}.day()};
}

Months monthsIn(Frequency frequency) {
    return frequency == Frequency::Year      ? 12
           : frequency == Frequency::Half    ? 6
           : frequency == Frequency::Quarter ? 3
                                             : 1;
}

/// Monthly and coarser dates all fall on the same day of the month, or on its last.
Frequency frequencyOfDates(const Column& time) {
    std::optional<Day> first;
    bool sameDay = true;
    bool lastDay = true;
    bool weekly = true;
    double firstDay = 0.0;
    Months apart = 0;
    for (const double x : time.numbers()) {
        if (std::isnan(x)) {
            continue;
        }
        const Day day = dayOf(x);
        if (!first) {
            first = day;
            firstDay = x;
        }
        sameDay = sameDay && day.day == first->day;
        lastDay = lastDay && day.last;
        weekly = weekly && std::fmod(x - firstDay, 7.0) == 0.0;
        apart = std::gcd(apart, day.month - first->month);
        if (!sameDay && !lastDay && !weekly) {
            return Frequency::Day;
        }
    }
    if (!sameDay && !lastDay) {
        return weekly ? Frequency::Week : Frequency::Day;
    }
    return apart % 12 == 0  ? Frequency::Year
           : apart % 6 == 0 ? Frequency::Half
           : apart % 3 == 0 ? Frequency::Quarter
                            : Frequency::Month;
}

/// Whole steps of numbers that may be fractions of a year: 2012.25, 2012.5, …
std::optional<double> partsOfOne(const Column& time) {
    for (const double parts : {1.0, 2.0, 4.0, 12.0, 52.0, 100.0, 1000.0}) {
        const bool fits = std::all_of(time.numbers().begin(), time.numbers().end(), [&](double x) {
            // Twelfths are often written with two or three decimals.
            return std::isnan(x) ||
                   std::abs(x * parts - std::round(x * parts)) < (parts == 12.0 ? 0.07 : 1e-6);
        });
        if (fits) {
            return parts;
        }
    }
    return std::nullopt;
}

std::optional<Frequency> chosen(const std::string& name) {
    const auto found = std::find(kNames.begin(), kNames.end(), name);
    if (found == kNames.end()) {
        return std::nullopt;
    }
    return static_cast<Frequency>(found - kNames.begin());
}

class Orderer {
  public:
    Orderer(const Table& table, const Layout& layout) : table_(table), layout_(layout) {}

    Result<TimeOrder> run() {
        if (layout_.kind == Layout::Kind::CrossSection) {
            return refuse(ErrorCode::BadSetting, "each row is a case on its own: none is earlier",
                          "layout", "Say in Data that a row is a moment, or a unit at a moment.");
        }
        const auto time = column(layout_.time, "time");
        if (!time) {
            return tl::make_unexpected(time.error());
        }
        if (auto done = placeMoments(**time, measure(layout_.time)); !done) {
            return tl::make_unexpected(done.error());
        }
        if (auto done = placeUnits(**time); !done) {
            return tl::make_unexpected(done.error());
        }
        return std::move(out_);
    }

  private:
    [[nodiscard]] Result<const Column*> column(const std::string& name, const char* role) const {
        const int at = table_.find(name);
        if (at < 0) {
            return refuse(ErrorCode::UnknownName,
                          name.empty() ? fmt::format("the layout names no {}", role)
                                       : fmt::format("there is no variable ‘{}’", name),
                          "layout", fmt::format("Choose the {} in Data.", role));
        }
        return &table_.columns[static_cast<std::size_t>(at)];
    }

    [[nodiscard]] Measure measure(const std::string& name) const {
        return table_.variables[static_cast<std::size_t>(table_.find(name))].measure;
    }

    Result<void> placeMoments(const Column& time, Measure timeMeasure) {
        if (time.isText()) {
            return refuse(ErrorCode::WrongType, "the time ‘" + time.name() + "’ holds text",
                          "layout", "A time is a date or a number, such as a year.");
        }
        const bool dates = timeMeasure == Measure::Date;
        if (layout_.frequency.empty()) {
            out_.frequency = dates ? frequencyOfDates(time) : Frequency::Number;
        } else if (const auto named = chosen(layout_.frequency)) {
            out_.frequency = *named;
        } else {
            return refuse(ErrorCode::BadSetting,
                          "the frequency ‘" + layout_.frequency + "’ is not known", "layout",
                          "It is year, half, quarter, month, week, day or order.");
        }
        out_.moment.assign(time.size(), TimeOrder::kNoMoment);
        if (out_.frequency == Frequency::Order || (!dates && !partsOfOne(time))) {
            out_.frequency = Frequency::Order;
            return {};  // Numbered when the rows are sorted.
        }
        const double parts = dates ? 1.0 : *partsOfOne(time);
        for (std::size_t i = 0; i < time.size(); ++i) {
            const double x = time.numbers()[i];
            if (!std::isnan(x)) {
                out_.moment[i] = dates ? momentOf(x) : std::llround(x * parts);
            }
        }
        divideByStep(parts);
        return {};
    }

    [[nodiscard]] std::int64_t momentOf(double days) const {
        if (out_.frequency == Frequency::Day || out_.frequency == Frequency::Number) {
            return std::llround(std::floor(days));
        }
        if (out_.frequency == Frequency::Week) {
            // 5 January 1970 was a Monday.
            return static_cast<std::int64_t>(std::floor((days - 4.0) / 7.0));
        }
        return dayOf(days).month / monthsIn(out_.frequency);
    }

    void divideByStep(double parts) {
        std::int64_t step = 0;
        std::optional<std::int64_t> first;
        for (const std::int64_t m : out_.moment) {
            if (m != TimeOrder::kNoMoment) {
                first = first ? first : m;
                step = std::gcd(step, m - *first);
                if (step == 1) {
                    break;
                }
            }
        }
        step = std::max<std::int64_t>(step, 1);
        out_.step = static_cast<double>(step) / parts;
        if (step > 1) {
            for (std::int64_t& m : out_.moment) {
                m = m == TimeOrder::kNoMoment ? m : (m - *first) / step;
            }
        }
    }

    Result<void> placeUnits(const Column& time) {
        Grouping units;
        if (layout_.kind == Layout::Kind::Panel) {
            const auto unit = column(layout_.unit, "unit");
            if (!unit) {
                return tl::make_unexpected(unit.error());
            }
            units = groupBy(**unit, false);
        } else {
            units.of.assign(time.size(), 0);
            units.count = 1;
        }
        for (std::size_t i = 0; i < time.size(); ++i) {
            if (time.isMissing(i) || units.of[i] < 0) {
                units.of[i] = -1;
                out_.moment[i] = TimeOrder::kNoMoment;
                ++out_.unplaced;
            }
        }
        out_.units = rowsByGroup(units);
        for (std::size_t g = 0; g + 1 < out_.units.starts.size(); ++g) {
            sortUnit(g, time);
        }
        return {};
    }

    void sortUnit(std::size_t g, const Column& time) {
        const auto from =
            out_.units.rows.begin() + static_cast<std::ptrdiff_t>(out_.units.starts[g]);
        const auto to =
            out_.units.rows.begin() + static_cast<std::ptrdiff_t>(out_.units.starts[g + 1]);
        const auto earlier = [&](std::uint32_t a, std::uint32_t b) {
            return time.numbers()[a] < time.numbers()[b];
        };
        if (!std::is_sorted(from, to, earlier)) {
            std::stable_sort(from, to, earlier);
        }
        if (out_.frequency == Frequency::Order) {
            std::int64_t next = 0;
            for (auto it = from; it != to; ++it) {
                const bool same = it != from && time.numbers()[*it] == time.numbers()[*(it - 1)];
                out_.moment[*it] = same ? next - 1 : next++;
            }
        }
        for (auto it = from; it != to; ++it) {
            if (it != from && out_.moment[*it] == out_.moment[*(it - 1)]) {
                out_.repeated.push_back(*it);
            }
        }
    }

    const Table& table_;
    const Layout& layout_;
    TimeOrder out_;
};

}  // namespace

bool isFrequency(const std::string& name) { return chosen(name).has_value(); }

std::string frequencyName(Frequency frequency) {
    return kNames[static_cast<std::size_t>(frequency)];
}

int momentsAYear(Frequency frequency) {
    switch (frequency) {
        case Frequency::Half:
            return 2;
        case Frequency::Quarter:
            return 4;
        case Frequency::Month:
            return 12;
        case Frequency::Week:
            return 52;
        case Frequency::Day:
            return 365;
        default:
            return 1;
    }
}

std::vector<std::int32_t> TimeOrder::shifted(std::int64_t steps) const {
    std::vector<std::int32_t> source(moment.size(), -1);
    for (std::size_t g = 0; g + 1 < units.starts.size(); ++g) {
        const auto rows = units.group(g);
        std::size_t from = 0;
        for (const std::uint32_t row : rows) {
            const std::int64_t wanted = moment[row] - steps;
            // Both moments ascend, so the place never moves back.
            while (from < rows.size() && moment[rows[from]] < wanted) {
                ++from;
            }
            if (from < rows.size() && moment[rows[from]] == wanted) {
                source[row] = static_cast<std::int32_t>(rows[from]);
            }
        }
    }
    return source;
}

std::string TimeOrder::stepText() const {
    if (frequency == Frequency::Order) {
        return "row";
    }
    const std::string one = frequency == Frequency::Number ? "step" : frequencyName(frequency);
    if (frequency == Frequency::Number) {
        return step == 1.0 ? "1" : shortNumber(step, 6);
    }
    return step == 1.0 ? one : shortNumber(step, 6) + (one == "half" ? " halves" : " " + one + "s");
}

Result<TimeOrder> orderRows(const Table& table, const Layout& layout) {
    return Orderer(table, layout).run();
}

LayoutFacts layoutFacts(const TimeOrder& order) {
    LayoutFacts out;
    out.units = order.units.starts.size() - 1;
    out.rows = order.units.rows.size();
    out.unplaced = order.unplaced;
    out.repeated = order.repeated;
    std::vector<std::int64_t> all;
    all.reserve(out.rows);
    for (std::size_t g = 0; g < out.units; ++g) {
        const auto rows = order.units.group(g);
        if (rows.size() == 1) {
            out.singles.push_back(rows.front());
        }
        for (std::size_t i = 0; i < rows.size(); ++i) {
            all.push_back(order.moment[rows[i]]);
            if (i > 0 && order.moment[rows[i]] > order.moment[rows[i - 1]] + 1) {
                out.afterGap.push_back(rows[i]);
            }
        }
    }
    std::sort(all.begin(), all.end());
    all.erase(std::unique(all.begin(), all.end()), all.end());
    out.moments = all.size();
    out.balanced = out.repeated.empty() && out.rows == out.units * out.moments;
    return out;
}

}  // namespace rapporto
