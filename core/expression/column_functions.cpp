// Functions that see more than their own row: over the layout, over all rows or a partition, and
// those of surveys that need a column's mean, quantiles or levels.
#include "core/base/format.h"
#include "core/base/typed_text.h"
#include "core/expression/expression.h"

#include <algorithm>
#include <array>
#include <bit>
#include <chrono>
#include <cmath>
#include <limits>
#include <numeric>

namespace rapporto {
namespace {

constexpr double kNone = std::numeric_limits<double>::quiet_NaN();

using Numbers = std::vector<double>;

Evaluated ofNumbers(Numbers cells) {
    return {Column::ofNumbers("", std::move(cells)), false, 0, {}, {}, {}};
}

// ---- Over the layout -------------------------------------------------------------------------

Result<void> refuseRepeated(const ColumnCall& in) {
    if (in.order->repeated.empty()) {
        return {};
    }
    const std::size_t row = in.order->repeated.front();
    return refuse(
        ErrorCode::BadSetting,
        plural(in.order->repeated.size(), "row repeats", "rows repeat") + " a moment of " +
            (in.order->units.starts.size() > 2 ? "a unit" : "the series") + ", first in row " +
            countText(row + 1),
        "", "A lag needs one row a moment: set the repeated rows right or collapse them.");
}

/// Why a row has nothing `steps` before it: the beginning of its unit, or a gap.
std::vector<Loss> lossesOf(const ColumnCall& in, const std::vector<std::int32_t>& source,
                           std::int64_t steps) {
    std::size_t edge = 0;
    std::size_t gap = 0;
    const TimeOrder& order = *in.order;
    for (std::size_t g = 0; g + 1 < order.units.starts.size(); ++g) {
        const auto rows = order.units.group(g);
        const std::int64_t end = order.moment[steps > 0 ? rows.front() : rows.back()];
        for (const std::uint32_t row : rows) {
            if (source[row] < 0) {
                const std::int64_t wanted = order.moment[row] - steps;
                (steps > 0 ? wanted < end : wanted > end) ? ++edge : ++gap;
            }
        }
    }
    std::vector<Loss> losses;
    if (edge > 0) {
        losses.push_back({steps > 0 ? "before the first moment" : "after the last moment", edge});
    }
    if (gap > 0) {
        losses.push_back({"across a gap in time", gap});
    }
    if (order.unplaced > 0) {
        losses.push_back({"without a time or unit", order.unplaced});
    }
    return losses;
}

Result<std::int64_t> stepsOf(const ColumnCall& in) {
    if (in.settings.empty()) {
        return 1;
    }
    if (in.settings[0] != std::floor(in.settings[0]) || std::abs(in.settings[0]) > 1e6) {
        return refuse(ErrorCode::BadSetting, "the number of steps must be whole");
    }
    return static_cast<std::int64_t>(in.settings[0]);
}

Result<Evaluated> shifted(const ColumnCall& in, std::int64_t direction) {
    const auto steps = stepsOf(in);
    if (!steps) {
        return tl::make_unexpected(steps.error());
    }
    if (auto once = refuseRepeated(in); !once) {
        return tl::make_unexpected(once.error());
    }
    const std::vector<std::int32_t> source = in.order->shifted(direction * *steps);
    Evaluated out = ofNumbers({});
    if (in.of.isText()) {
        std::vector<std::int32_t> codes(in.of.size(), -1);
        for (std::size_t i = 0; i < codes.size(); ++i) {
            codes[i] = source[i] < 0 ? -1 : in.of.codes()[static_cast<std::size_t>(source[i])];
        }
        out.column = Column::ofTexts("", std::move(codes), in.of.texts());
    } else {
        Numbers cells(in.of.size());
        for (std::size_t i = 0; i < cells.size(); ++i) {
            cells[i] = source[i] < 0 ? kNone : in.of.numbers()[static_cast<std::size_t>(source[i])];
        }
        out = ofNumbers(std::move(cells));
    }
    if (in.variable != nullptr) {
        out.measure = in.variable->measure;
        out.levels = in.variable->levels;
    }
    out.losses = lossesOf(in, source, direction * *steps);
    return out;
}

Result<Evaluated> lag(const ColumnCall& in) { return shifted(in, 1); }

Result<Evaluated> lead(const ColumnCall& in) { return shifted(in, -1); }

Result<Evaluated> change(const ColumnCall& in) {
    auto before = shifted(in, 1);
    if (!before) {
        return before;
    }
    Numbers cells(in.of.size());
    for (std::size_t i = 0; i < cells.size(); ++i) {
        cells[i] = in.of.numbers()[i] - before->column.numbers()[i];
    }
    Evaluated out = ofNumbers(std::move(cells));
    out.losses = before->losses;
    return out;
}

Result<Evaluated> growth(const ColumnCall& in) {
    Numbers logs(in.of.size());
    std::size_t lost = 0;
    for (std::size_t i = 0; i < logs.size(); ++i) {
        const double x = in.of.numbers()[i];
        logs[i] = x > 0.0 ? std::log(x) : kNone;
        lost += x <= 0.0 ? 1U : 0U;
    }
    const Column column = Column::ofNumbers("", std::move(logs));
    const ColumnCall inner{column, nullptr, in.settings, {}, nullptr, in.order};
    auto out = change(inner);
    if (out && lost > 0) {
        out->losses.push_back({"growth from or to zero or less", lost});
    }
    return out;
}

// ---- Over rows -------------------------------------------------------------------------------

/// The group's present values, one group after the other, and where each begins.
struct Gathered {
    Numbers values;
    std::vector<std::size_t> starts;
    std::vector<std::uint32_t> rows;

    [[nodiscard]] std::span<double> group(std::size_t g) {
        return {values.data() + starts[g], starts[g + 1] - starts[g]};
    }
};

std::size_t groupCount(const ColumnCall& in) {
    return in.groups == nullptr ? 1 : static_cast<std::size_t>(in.groups->count);
}

std::size_t groupOf(const ColumnCall& in, std::size_t row) {
    return in.groups == nullptr ? 0 : static_cast<std::size_t>(in.groups->of[row]);
}

Gathered gather(const ColumnCall& in) {
    Gathered out;
    const std::size_t n = in.of.size();
    out.starts.assign(groupCount(in) + 1, 0);
    for (std::size_t i = 0; i < n; ++i) {
        out.starts[groupOf(in, i) + 1] += in.of.isMissing(i) ? 0U : 1U;
    }
    std::partial_sum(out.starts.begin(), out.starts.end(), out.starts.begin());
    out.values.resize(out.starts.back());
    out.rows.resize(out.starts.back());
    std::vector<std::size_t> at(out.starts.begin(), out.starts.end() - 1);
    for (std::size_t i = 0; i < n; ++i) {
        if (!in.of.isMissing(i)) {
            const std::size_t place = at[groupOf(in, i)]++;
            out.values[place] = in.of.isText() ? 0.0 : in.of.numbers()[i];
            out.rows[place] = static_cast<std::uint32_t>(i);
        }
    }
    return out;
}

/// One number a group, given to all its rows.
template <class F>
Evaluated aggregated(const ColumnCall& in, F ofGroup) {
    Gathered all = gather(in);
    Numbers byGroup(groupCount(in));
    for (std::size_t g = 0; g < byGroup.size(); ++g) {
        byGroup[g] = ofGroup(all.group(g));
    }
    Numbers cells(in.of.size());
    for (std::size_t i = 0; i < cells.size(); ++i) {
        cells[i] = byGroup[groupOf(in, i)];
    }
    return ofNumbers(std::move(cells));
}

/// Neumaier's compensated sum (1974).
double sumOf(std::span<const double> values) {
    double sum = 0.0;
    double lost = 0.0;
    for (const double x : values) {
        const double next = sum + x;
        lost += std::abs(sum) >= std::abs(x) ? (sum - next) + x : (x - next) + sum;
        sum = next;
    }
    return sum + lost;
}

double meanOf(std::span<const double> values) {
    return values.empty() ? kNone : sumOf(values) / static_cast<double>(values.size());
}

double sdOf(std::span<const double> values) {
    if (values.size() < 2) {
        return kNone;
    }
    const double mean = meanOf(values);
    double squares = 0.0;
    double drift = 0.0;
    for (const double x : values) {
        squares += (x - mean) * (x - mean);
        drift += x - mean;
    }
    const auto n = static_cast<double>(values.size());
    return std::sqrt(std::max(squares - drift * drift / n, 0.0) / (n - 1.0));
}

/// Linear between order statistics (Hyndman & Fan 1996, type 7). Reorders the values.
double quantileOf(std::span<double> values, double p) {
    if (values.empty()) {
        return kNone;
    }
    const double at = p * static_cast<double>(values.size() - 1);
    const auto below = static_cast<std::ptrdiff_t>(std::floor(at));
    std::nth_element(values.begin(), values.begin() + below, values.end());
    const double low = values[static_cast<std::size_t>(below)];
    if (static_cast<std::size_t>(below) + 1 >= values.size()) {
        return low;
    }
    const double high = *std::min_element(values.begin() + below + 1, values.end());
    return low + (at - static_cast<double>(below)) * (high - low);
}

Result<Evaluated> avg(const ColumnCall& in) { return aggregated(in, &meanOf); }

Result<Evaluated> sum(const ColumnCall& in) {
    return aggregated(in, [](std::span<const double> v) { return v.empty() ? kNone : sumOf(v); });
}

Result<Evaluated> least(const ColumnCall& in) {
    return aggregated(in, [](std::span<const double> v) {
        return v.empty() ? kNone : *std::min_element(v.begin(), v.end());
    });
}

Result<Evaluated> most(const ColumnCall& in) {
    return aggregated(in, [](std::span<const double> v) {
        return v.empty() ? kNone : *std::max_element(v.begin(), v.end());
    });
}

Result<Evaluated> median(const ColumnCall& in) {
    return aggregated(in, [](std::span<double> v) { return quantileOf(v, 0.5); });
}

Result<Evaluated> stddev(const ColumnCall& in) { return aggregated(in, &sdOf); }

Result<Evaluated> count(const ColumnCall& in) {
    auto out =
        aggregated(in, [](std::span<const double> v) { return static_cast<double>(v.size()); });
    out.measure = Measure::Count;
    return out;
}

Result<Evaluated> rank(const ColumnCall& in) {
    Gathered all = gather(in);
    Numbers cells(in.of.size(), kNone);
    std::vector<std::size_t> order;
    for (std::size_t g = 0; g + 1 < all.starts.size(); ++g) {
        const auto values = all.group(g);
        const std::uint32_t* rows = all.rows.data() + all.starts[g];
        order.resize(values.size());
        std::iota(order.begin(), order.end(), std::size_t{0});
        std::sort(order.begin(), order.end(),
                  [&](std::size_t a, std::size_t b) { return values[a] < values[b]; });
        for (std::size_t from = 0; from < order.size();) {
            std::size_t to = from + 1;
            while (to < order.size() && values[order[to]] == values[order[from]]) {
                ++to;
            }
            // Ties share the mean of the ranks from + 1 to `to`.
            const double shared = 0.5 * static_cast<double>(from + 1 + to);
            for (; from < to; ++from) {
                cells[rows[order[from]]] = shared;
            }
        }
    }
    return ofNumbers(std::move(cells));
}

// ---- For surveys -----------------------------------------------------------------------------

Result<Evaluated> centre(const ColumnCall& in) {
    auto out = avg(in);
    Numbers cells(in.of.size());
    for (std::size_t i = 0; i < cells.size(); ++i) {
        cells[i] = in.of.numbers()[i] - out->column.numbers()[i];
    }
    return ofNumbers(std::move(cells));
}

Result<Evaluated> standardise(const ColumnCall& in) {
    const auto mean = avg(in);
    const auto sd = stddev(in);
    Numbers cells(in.of.size());
    std::size_t lost = 0;
    for (std::size_t i = 0; i < cells.size(); ++i) {
        const double scale = sd->column.numbers()[i];
        cells[i] = scale > 0.0 ? (in.of.numbers()[i] - mean->column.numbers()[i]) / scale : kNone;
        lost += std::isnan(cells[i]) && !in.of.isMissing(i) ? 1U : 0U;
    }
    Evaluated out = ofNumbers(std::move(cells));
    if (lost > 0) {
        out.losses.push_back({"nothing varies there", lost});
    }
    return out;
}

Result<Evaluated> reverse(const ColumnCall& in) {
    const double low = in.settings[0];
    const double high = in.settings[1];
    if (low >= high) {
        return refuse(ErrorCode::BadSetting, "the lower end of the scale must come first");
    }
    Numbers cells(in.of.size());
    std::size_t outside = 0;
    for (std::size_t i = 0; i < cells.size(); ++i) {
        const double x = in.of.numbers()[i];
        cells[i] = x >= low && x <= high ? low + high - x : kNone;
        outside += x < low || x > high ? 1U : 0U;
    }
    Evaluated out = ofNumbers(std::move(cells));
    if (outside > 0) {
        out.losses.push_back({"outside the scale", outside});
    }
    if (in.variable != nullptr) {
        out.measure = in.variable->measure;
        // A level keeps its words with the turned value.
        for (auto level = in.variable->levels.rbegin(); level != in.variable->levels.rend();
             ++level) {
            if (const double* value = std::get_if<double>(&level->value)) {
                out.levels.push_back({Key(low + high - *value), level->label});
            }
        }
    }
    return out;
}

Result<Evaluated> bands(const ColumnCall& in) {
    const Numbers& cuts = in.settings;
    if (!std::is_sorted(cuts.begin(), cuts.end(), std::less_equal<>())) {
        return refuse(ErrorCode::BadSetting, "the cuts of the bands must ascend");
    }
    std::vector<std::string> names = {"< " + exactNumber(cuts.front())};
    for (std::size_t k = 1; k < cuts.size(); ++k) {
        names.push_back("[" + exactNumber(cuts[k - 1]) + ", " + exactNumber(cuts[k]) + ")");
    }
    names.push_back("≥ " + exactNumber(cuts.back()));
    std::vector<std::int32_t> codes(in.of.size(), -1);
    for (std::size_t i = 0; i < codes.size(); ++i) {
        if (!in.of.isMissing(i)) {
            codes[i] = static_cast<std::int32_t>(
                std::upper_bound(cuts.begin(), cuts.end(), in.of.numbers()[i]) - cuts.begin());
        }
    }
    Evaluated out = ofNumbers({});
    out.measure = Measure::OrderedGroups;
    for (const std::string& name : names) {
        out.levels.push_back({Key(name), ""});
    }
    out.column = Column::ofTexts("", std::move(codes), std::move(names));
    return out;
}

Result<Evaluated> winsorise(const ColumnCall& in) {
    const double low = in.settings[0];
    const double high = in.settings[1];
    if (!(low >= 0.0 && low < high && high <= 1.0)) {
        return refuse(ErrorCode::BadSetting, "the two shares must lie between 0 and 1, ascending",
                      "", "As in winsorise(x, 0.01, 0.99).");
    }
    const Evaluated floors =
        aggregated(in, [low](std::span<double> v) { return quantileOf(v, low); });
    const Evaluated ceilings =
        aggregated(in, [high](std::span<double> v) { return quantileOf(v, high); });
    Numbers cells(in.of.size());
    for (std::size_t i = 0; i < cells.size(); ++i) {
        const double x = in.of.numbers()[i];
        cells[i] = std::isnan(x)
                       ? kNone
                       : std::clamp(x, floors.column.numbers()[i], ceilings.column.numbers()[i]);
    }
    return ofNumbers(std::move(cells));
}

/// The value or the label of a level, against each cell.
Result<Evaluated> indicator(const ColumnCall& in) {
    std::string wanted = in.word;
    std::vector<std::string> known;
    if (in.variable != nullptr) {
        for (const Level& level : in.variable->levels) {
            known.push_back(level.label.empty() ? keyText(level.value) : level.label);
            if (level.label == in.word) {
                wanted = keyText(level.value);
            }
        }
    }
    Numbers cells(in.of.size(), kNone);
    bool found = wanted != in.word;
    if (in.of.isText()) {
        const auto& texts = in.of.texts();
        known.insert(known.end(), texts.begin(), texts.end());
        const auto place = std::find(texts.begin(), texts.end(), wanted);
        found = found || place != texts.end();
        const auto code = static_cast<std::int32_t>(place - texts.begin());
        for (std::size_t i = 0; i < cells.size(); ++i) {
            cells[i] = in.of.isMissing(i) ? kNone : (in.of.codes()[i] == code ? 1.0 : 0.0);
        }
    } else {
        // A word that is no label equals nothing, and is refused below.
        const double value = numberIn(wanted).value_or(kNone);
        for (std::size_t i = 0; i < cells.size(); ++i) {
            cells[i] = in.of.isMissing(i) ? kNone : (in.of.numbers()[i] == value ? 1.0 : 0.0);
            found = found || cells[i] == 1.0;
        }
    }
    if (!found) {
        const auto near = nearestName(in.word, known);
        return refuse(ErrorCode::UnknownName, "no row has the level ‘" + in.word + "’", "",
                      near ? "Did you mean ‘" + *near + "’?" : "", {in.word});
    }
    Evaluated out = ofNumbers(std::move(cells));
    out.isTruth = true;
    return out;
}

/// A number from 0 up to 1 for each row, the same whenever the seed is: a counter-based generator
/// (the finaliser of splitmix64, Steele, Lea & Flood 2014), so that a row's number hangs on the
/// seed and its place alone.
Result<Evaluated> uniform(const ColumnCall& in) {
    const auto mixed = [](std::uint64_t x) {
        x = (x ^ (x >> 30U)) * 0xBF58476D1CE4E5B9U;
        x = (x ^ (x >> 27U)) * 0x94D049BB133111EBU;
        return x ^ (x >> 31U);
    };
    Numbers cells(in.of.size());
    for (std::size_t i = 0; i < cells.size(); ++i) {
        const double seed = in.of.numbers()[i];
        const std::uint64_t start = mixed(std::bit_cast<std::uint64_t>(seed + 0.0));
        const std::uint64_t bits =
            mixed(start + 0x9E3779B97F4A7C15U * (static_cast<std::uint64_t>(i) + 1));
        cells[i] = std::isnan(seed) ? kNone : static_cast<double>(bits >> 11U) * 0x1.0p-53;
    }
    return ofNumbers(std::move(cells));
}

/// Steps since the first moment of the layout.
Result<Evaluated> trend(const ColumnCall& in) {
    if (in.variable != nullptr || (in.of.size() > 0 && in.of.numbers()[0] != 0.0)) {
        return refuse(ErrorCode::BadSetting, "it takes nothing", "", "Write trend().");
    }
    const auto& moments = in.order->moment;
    std::int64_t first = std::numeric_limits<std::int64_t>::max();
    for (const std::int64_t moment : moments) {
        first = moment == TimeOrder::kNoMoment ? first : std::min(first, moment);
    }
    Numbers cells(moments.size(), kNone);
    for (std::size_t i = 0; i < cells.size(); ++i) {
        if (moments[i] != TimeOrder::kNoMoment) {
            cells[i] = static_cast<double>(moments[i] - first);
        }
    }
    Evaluated out = ofNumbers(std::move(cells));
    if (in.order->unplaced > 0) {
        out.losses.push_back({"without a time or unit", in.order->unplaced});
    }
    return out;
}

/// A field of a day that is counted from 1970-01-01. Weeks are those of ISO 8601.
double fieldOf(double day, const std::string& field) {
    using namespace std::chrono;
    const sys_days date{days{static_cast<int>(std::floor(day))}};
    const year_month_day parts{date};
    if (field == "year") {
        return static_cast<int>(parts.year());
    }
    if (field == "quarter") {
        return (static_cast<unsigned>(parts.month()) + 2) / 3;
    }
    if (field == "month") {
        return static_cast<unsigned>(parts.month());
    }
    if (field == "day") {
        return static_cast<unsigned>(parts.day());
    }
    // The week of its Thursday, counted from the first one of that year.
    const sys_days thursday = date + days{4 - static_cast<int>(weekday{date}.iso_encoding())};
    const sys_days newYear{year_month_day{thursday}.year() / January / 1};
    return static_cast<double>((thursday - newYear).count() / 7 + 1);
}

Result<Evaluated> extract(const ColumnCall& in) {
    static const std::array<std::string, 5> kFields = {"year", "quarter", "month", "week", "day"};
    if (std::find(kFields.begin(), kFields.end(), in.word) == kFields.end()) {
        return refuse(ErrorCode::BadSetting, "‘" + in.word + "’ is no part of a date", "",
                      "Name year, quarter, month, week or day.");
    }
    if (in.variable == nullptr || in.variable->measure != Measure::Date) {
        return refuse(ErrorCode::WrongType, "it needs the name of a date", "",
                      "Say under Variables that the column is a date.");
    }
    Numbers cells(in.of.size(), kNone);
    for (std::size_t i = 0; i < cells.size(); ++i) {
        const double day = in.of.numbers()[i];
        // The calendar ends with the year 32767 on either side.
        if (std::abs(day) < 1e7) {
            cells[i] = fieldOf(day, in.word);
        }
    }
    return ofNumbers(std::move(cells));
}

}  // namespace

const std::vector<ColumnFunction>& columnFunctions() {
    static const std::vector<ColumnFunction> kFunctions = {
        {"lag", 0, 1, true, true, false, false, &lag, "value one moment (or several) earlier"},
        {"lead", 0, 1, true, true, false, false, &lead, "value one moment (or several) later"},
        {"change", 0, 1, true, false, false, false, &change, "value minus its lag"},
        {"growth", 0, 1, true, false, false, false, &growth, "change of the logarithm"},
        {"trend", 0, 0, true, false, false, false, &trend, "steps since the first moment: trend()"},
        {"extract", 0, 0, false, false, true, false, &extract,
         "a part of a date: extract(month from t); year, quarter, month, week, day"},
        {"avg", 0, 0, false, false, false, true, &avg, "mean over rows"},
        {"sum", 0, 0, false, false, false, true, &sum, "sum over rows"},
        {"min", 0, 0, false, false, false, true, &least, "smallest over rows"},
        {"max", 0, 0, false, false, false, true, &most, "largest over rows"},
        {"median", 0, 0, false, false, false, true, &median, "median over rows"},
        {"stddev", 0, 0, false, false, false, true, &stddev, "standard deviation over rows"},
        {"count", 0, 0, false, true, false, true, &count, "how many rows have a value"},
        {"rank", 0, 0, false, false, false, true, &rank, "rank from 1, ties share the mean"},
        {"centre", 0, 0, false, false, false, true, &centre, "distance from the mean"},
        {"standardise", 0, 0, false, false, false, true, &standardise,
         "distance from the mean in standard deviations"},
        {"reverse", 2, 2, false, false, false, false, &reverse,
         "a scale turned round: x, low, high"},
        {"bands", 1, 64, false, false, false, false, &bands, "ordered bands between cuts"},
        {"winsorise", 2, 2, false, false, false, true, &winsorise,
         "tails drawn in to two quantiles"},
        {"indicator", 0, 0, false, true, true, false, &indicator, "1 where the level is this one"},
        {"uniform", 0, 0, false, false, false, false, &uniform,
         "a random number from 0 up to 1, the same for the same seed"},
    };
    return kFunctions;
}

}  // namespace rapporto
