// What is odd about one column of numbers.
#include "core/base/format.h"
#include "core/describe/odd/looking.h"
#include "core/describe/summary.h"
#include "core/numerics/ordering.h"

#include <algorithm>
#include <array>
#include <cmath>

namespace rapporto::odd {
namespace {

/// How many sorted numbers are `value`.
std::size_t countOf(const std::vector<double>& sorted, double value) {
    const auto [from, to] = std::equal_range(sorted.begin(), sorted.end(), value);
    return static_cast<std::size_t>(to - from);
}

bool isWhole(double x) { return x == std::floor(x); }

/// −9, 99, 998 and their like: what questionnaires put where there is no answer.
const std::vector<double>& usualCodes() {
    static const std::vector<double> kCodes = [] {
        std::vector<double> out = {-1.0, -2.0, -7.0, -8.0, -9.0};
        for (const double nines : {99.0, 999.0, 9999.0, 99999.0, 999999.0, 9999999.0}) {
            for (const double back : {0.0, 1.0, 2.0}) {
                out.push_back(-(nines - back));
                out.push_back(nines - back);
            }
        }
        for (const double eights : {77.0, 88.0, 777.0, 888.0, 7777.0, 8888.0}) {
            out.push_back(-eights);
            out.push_back(eights);
        }
        return out;
    }();
    return kCodes;
}

/// A code far below the numbers around it. One that is all nines speaks for itself.
bool isLowCode(double code, std::size_t count, const std::vector<double>& others) {
    if (others.empty() || others.front() < code) {
        return false;  // Something lies lower still: it is one number among others.
    }
    if (others.front() >= 0.0) {
        return code <= -7.0 || count >= 3 ||
               std::all_of(others.begin(), others.end(), [](double x) { return isWhole(x); });
    }
    const Middle middle = middleOf(others);
    const double gap = others.front() - code;
    return code <= -9.0 && count >= 2 && gap > 4.0 * middle.spread &&
           gap > 0.5 * (others.back() - others.front());
}

/// The same above: there must be room between it and what lies below.
bool isHighCode(double code, std::size_t count, const std::vector<double>& others) {
    if (others.size() < 10 || others.back() > code) {
        return false;
    }
    const double range = others.back() - others.front();
    const double gap = code - others.back();
    const bool nines = std::fmod(code + 1.0, 10.0) == 0.0;
    if (count >= 2) {
        return gap > (nines ? 0.2 : 0.5) * range && gap >= 3.0;
    }
    return nines && code >= 999.0 && gap > 2.0 * range;
}

/// 8 and 9 after a scale of answers: every whole number from 1 to some k under 8 is there.
std::vector<double> codesAfterScale(const std::vector<double>& sorted) {
    std::vector<double> values;
    std::vector<std::size_t> counts;
    for (const double x : sorted) {
        if (values.empty() || values.back() != x) {
            if (!isWhole(x) || values.size() > 11) {
                return {};
            }
            values.push_back(x);
            counts.push_back(0);
        }
        ++counts.back();
    }
    std::size_t k = 0;
    while (k < values.size() && values[k] == static_cast<double>(k + 1)) {
        ++k;
    }
    // A scale has middles; a count of rare things falls off.
    if (k < 3 || k > 7 || k == values.size() || sorted.size() < 20) {
        return {};
    }
    std::vector<double> codes(values.begin() + static_cast<std::ptrdiff_t>(k), values.end());
    const bool usual = std::all_of(codes.begin(), codes.end(), [&](double c) {
        return (c == 8.0 || c == 9.0) && c > static_cast<double>(k) + 1.0;
    });
    const std::size_t most =
        *std::max_element(counts.begin(), counts.begin() + static_cast<std::ptrdiff_t>(k));
    return usual && counts[k - 1] * 12 >= most ? codes : std::vector<double>();
}

std::string others(const std::vector<double>& sorted) {
    return shortNumber(sorted.front()) + " to " + shortNumber(sorted.back());
}

void findCodes(const Numbers& in, std::vector<Oddity>& out) {
    if (in.variable.measure == Measure::Date || in.sorted.size() < 10) {
        return;
    }
    std::vector<double> found;
    std::vector<double> rest = in.sorted;
    for (const bool low : {true, false}) {
        // The codes at one end, at most three, are judged by what is left without them all.
        std::vector<double> ends;
        std::vector<double> without = rest;
        const auto& codes = usualCodes();
        while (!without.empty() && ends.size() < 3) {
            const double end = low ? without.front() : without.back();
            if (std::find(codes.begin(), codes.end(), end) == codes.end() || (low && end >= 0.0)) {
                break;
            }
            std::erase(without, end);
            ends.push_back(end);
            const bool all =
                !without.empty() && without.size() * 2 >= rest.size() &&
                std::all_of(ends.begin(), ends.end(), [&](double code) {
                    const std::size_t count = countOf(rest, code);
                    return low ? isLowCode(code, count, without) : isHighCode(code, count, without);
                });
            if (all) {
                found.insert(found.end(), ends.begin(), ends.end());
                ends.clear();
                rest = without;
            }
        }
    }
    if (found.empty()) {
        found = codesAfterScale(in.sorted);
        std::erase_if(rest, [&](double x) {
            return std::find(found.begin(), found.end(), x) != found.end();
        });
    }
    if (found.empty() || rest.empty()) {
        return;
    }
    Oddity odd;
    odd.kind = OddKind::NoAnswerCode;
    odd.variables = {in.variable.name};
    std::vector<std::string> names;
    for (const double code : found) {
        odd.values.emplace_back(code);
        names.push_back(shortNumber(code, 8));
    }
    takeRows(odd, in,
             [&](double x) { return std::find(found.begin(), found.end(), x) != found.end(); });
    odd.title = joinedNames(names) + " in " + in.variable.shown();
    odd.text = joinedNames(names) + (found.size() == 1 ? " stands " : " stand ") +
               plural(odd.count, "time", "times") + ", and every other number lies from " +
               others(rest) + ". " + (found.size() == 1 ? "It looks" : "They look") +
               " like a code for “no answer”, and " + (found.size() == 1 ? "counts" : "count") +
               " as a number until it is declared missing.";
    out.push_back(std::move(odd));
}

/// The numbers without what was found to be a code.
std::vector<double> withoutCodes(const Numbers& in, const std::vector<Oddity>& out) {
    std::vector<double> rest = in.sorted;
    for (const Oddity& odd : out) {
        if (odd.kind == OddKind::NoAnswerCode && odd.variables.front() == in.variable.name) {
            for (const Key& key : odd.values) {
                std::erase(rest, std::get<double>(key));
            }
        }
    }
    return rest;
}

/// The number of values at the upper end of sorted places that stand alone: so far from the middle,
/// and so far from the next.
std::size_t aloneAbove(const std::vector<double>& places, double far, double gap, double least) {
    const Middle middle = middleOf(places);
    if (!(middle.spread > 0.0)) {
        return 0;
    }
    const std::size_t n = places.size();
    const std::size_t most = std::max<std::size_t>(3, n / 200);
    for (std::size_t k = std::min(most, n - 1); k > 0; --k) {
        // k values above a gap.
        const double inner = places[n - k - 1];
        const double outer = places[n - k];
        if (outer - inner > std::max(gap * middle.spread, least) &&
            outer - middle.at > far * middle.spread) {
            return k;
        }
    }
    return 0;
}

std::vector<double> turned(std::vector<double> sorted) {
    std::reverse(sorted.begin(), sorted.end());
    for (double& x : sorted) {
        x = -x;
    }
    return sorted;
}

std::string valuesText(const std::vector<double>& values, bool dates) {
    std::vector<std::string> names;
    for (std::size_t k = 0; k < std::min<std::size_t>(values.size(), 5); ++k) {
        names.push_back(dates ? dateText(values[k]) : shortNumber(values[k], 8));
    }
    return joinedNames(names) + (values.size() > 5 ? " …" : "");
}

void tellLone(const Numbers& in, const std::vector<double>& lone, const std::vector<double>& rest,
              OddKind kind, const std::string& why, std::vector<Oddity>& out) {
    if (lone.empty() || rest.empty()) {
        return;
    }
    const bool dates = in.variable.measure == Measure::Date;
    Oddity odd;
    odd.kind = kind;
    odd.variables = {in.variable.name};
    for (const double x : lone) {
        if (odd.values.empty() || std::get<double>(odd.values.back()) != x) {
            odd.values.emplace_back(x);
        }
    }
    takeRows(odd, in,
             [&](double x) { return std::find(lone.begin(), lone.end(), x) != lone.end(); });
    odd.title = valuesText(lone, dates) + " in " + in.variable.shown();
    odd.text = valuesText(lone, dates) + (lone.size() == 1 ? " stands" : " stand") +
               " alone: every other value lies from " +
               (dates ? dateText(rest.front()) + " to " + dateText(rest.back()) : others(rest)) +
               ". " + why;
    out.push_back(std::move(odd));
}

/// Values alone by orders of magnitude, on the scale that suits the column.
void findLone(const Numbers& in, std::vector<Oddity>& out) {
    std::vector<double> sorted = withoutCodes(in, out);
    if (sorted.size() < 15 || sorted.front() == sorted.back() || isGrouping(in.variable.measure) ||
        in.variable.measure == Measure::YesNo) {
        return;
    }
    const bool dates = in.variable.measure == Measure::Date;
    std::size_t below = 0;
    std::size_t above = 0;
    const auto zero = std::lower_bound(sorted.begin(), sorted.end(), 0.0);
    const bool positive = zero == sorted.begin() && !dates;
    if (dates) {
        above = aloneAbove(sorted, 10.0, 5.0, 300.0);
        below = aloneAbove(turned(sorted), 10.0, 5.0, 300.0);
    } else if (positive) {
        std::vector<double> logs;
        for (auto x = std::upper_bound(sorted.begin(), sorted.end(), 0.0); x != sorted.end(); ++x) {
            logs.push_back(std::log(*x));
        }
        if (logs.size() >= 15) {
            const double least = std::log(5.0);
            above = aloneAbove(logs, 7.0, 2.5, least);
            // Small ones near zero may be true; a thousandth of the middle is not.
            below = logs.size() == sorted.size() ? aloneAbove(turned(logs), 7.0, 2.5, least) : 0;
        }
    }
    if (!dates) {
        // Where the column is narrow for its size, differences tell more than ratios.
        const auto logNarrow = positive && middleOf(sorted).spread < 0.15 * middleOf(sorted).at;
        if (!positive || logNarrow) {
            above = std::max(above, aloneAbove(sorted, 25.0, 10.0, 0.0));
            below = std::max(below, aloneAbove(turned(sorted), 25.0, 10.0, 0.0));
        }
    }
    std::vector<double> lone(sorted.begin(), sorted.begin() + static_cast<std::ptrdiff_t>(below));
    lone.insert(lone.end(), sorted.end() - static_cast<std::ptrdiff_t>(above), sorted.end());
    const std::vector<double> rest(sorted.begin() + static_cast<std::ptrdiff_t>(below),
                                   sorted.end() - static_cast<std::ptrdiff_t>(above));
    tellLone(in, lone, rest, dates ? OddKind::LoneDate : OddKind::LoneValue,
             dates
                 ? "A year may be mistyped."
                 : "A decimal mark may have been lost, a unit mixed up, or it is true and decides "
                   "every mean.",
             out);
}

/// Below zero where all others are well above it, and of the size of the others.
void findSign(const Numbers& in, std::vector<Oddity>& out) {
    const std::vector<double> sorted = withoutCodes(in, out);
    const auto zero = std::lower_bound(sorted.begin(), sorted.end(), 0.0);
    const auto negative = static_cast<std::size_t>(zero - sorted.begin());
    if (negative == 0 || sorted.size() < 20 ||
        negative > std::max<std::size_t>(3, sorted.size() / 100) ||
        isGrouping(in.variable.measure) || in.variable.measure == Measure::Date) {
        return;
    }
    const std::vector<double> rest(zero, sorted.end());
    if (rest.front() <= 0.0) {
        return;  // Zeros are there: a negative is no stranger to it than they are.
    }
    const double quarter = sortedQuantile(rest, 0.75) - sortedQuantile(rest, 0.25);
    const auto strange = [&](double x) {
        return rest.front() - x > std::max(quarter, rest.front()) && -x >= rest.front() &&
               -x <= rest.back();
    };
    if (!std::all_of(sorted.begin(), zero, strange)) {
        return;
    }
    for (const Oddity& odd : out) {
        if (odd.kind == OddKind::LoneValue && odd.variables.front() == in.variable.name) {
            return;  // Said already.
        }
    }
    tellLone(in, {sorted.begin(), zero}, rest, OddKind::WrongSign,
             "Without its sign it would be one of them.", out);
}

/// One number that is not zero and far more frequent than any other.
void findHeap(const Numbers& in, std::vector<Oddity>& out) {
    const std::vector<double> sorted = withoutCodes(in, out);
    const std::size_t n = sorted.size();
    if (n < 50 || in.variable.measure != Measure::Quantity) {
        return;
    }
    std::size_t different = 0;
    std::size_t first = 0;
    std::size_t second = 0;
    double most = 0.0;
    for (std::size_t i = 0; i < n;) {
        std::size_t j = i;
        while (j < n && sorted[j] == sorted[i]) {
            ++j;
        }
        ++different;
        if (sorted[i] != 0.0) {
            if (j - i > first) {
                second = first;
                first = j - i;
                most = sorted[i];
            } else {
                second = std::max(second, j - i);
            }
        }
        i = j;
    }
    if (different * 5 < n || first < 5 || first * 25 < n || first < 8 * second) {
        return;
    }
    Oddity odd;
    odd.kind = OddKind::Heap;
    odd.variables = {in.variable.name};
    odd.values.emplace_back(most);
    takeRows(odd, in, [&](double x) { return x == most; });
    const bool end = most == sorted.front() || most == sorted.back();
    odd.title =
        shortNumber(most, 8) + " " + std::to_string(first) + " times in " + in.variable.shown();
    odd.text = shortNumber(most, 8) + " stands " + std::to_string(first) +
               " times, and no other number more than " + plural(second, "time", "times") + ". " +
               (end ? "It is the " + std::string(most == sorted.back() ? "largest" : "smallest") +
                          " of all: what lies beyond may have been cut off there."
                    : "It may stand for something else: a default, a guess, an unknown.");
    out.push_back(std::move(odd));
}

void findConstant(const Numbers& in, std::vector<Oddity>& out) {
    const bool none = in.sorted.empty();
    if (in.column.size() < 2 || (!none && in.sorted.front() != in.sorted.back())) {
        return;
    }
    Oddity odd;
    odd.kind = OddKind::Constant;
    odd.variables = {in.variable.name};
    odd.title = in.variable.shown() + (none ? " holds nothing" : " never varies");
    odd.text =
        none ? "No row of the sample has a value."
             : "Every row says " + shortNumber(in.sorted.front(), 8) + ": it can explain nothing.";
    odd.count = in.rows.size();
    out.push_back(std::move(odd));
}

void findFractions(const Numbers& in, std::vector<Oddity>& out) {
    if (in.variable.measure != Measure::Count) {
        return;
    }
    Oddity odd;
    odd.kind = OddKind::FractionalCount;
    odd.variables = {in.variable.name};
    takeRows(odd, in, [](double x) { return !isWhole(x); });
    if (odd.count == 0) {
        return;
    }
    odd.title = "fractions in " + in.variable.shown();
    odd.text = "It is declared a count, and " + plural(odd.count, "row holds", "rows hold") +
               " a fraction: it may be a quantity, or a mean of counts.";
    out.push_back(std::move(odd));
}

}  // namespace

Numbers numbersOf(const Column& column, const Variable& variable,
                  const std::vector<std::uint32_t>& sample) {
    Numbers out{column, variable, {}, {}};
    const auto cells = column.numbers();
    out.rows.reserve(sample.size());
    out.sorted.reserve(sample.size());
    for (const std::uint32_t row : sample) {
        if (!std::isnan(cells[row])) {
            out.rows.push_back(row);
            out.sorted.push_back(cells[row]);
        }
    }
    sortValues(out.sorted);
    return out;
}

Middle middleOf(const std::vector<double>& sorted) {
    if (sorted.empty()) {
        return {};
    }
    Middle out;
    out.at = sortedQuantile(sorted, 0.5);
    // Distances from the median in order, without sorting: two pointers from the middle out.
    auto right = std::lower_bound(sorted.begin(), sorted.end(), out.at);
    auto left = right;
    double deviation = 0.0;
    for (std::size_t k = 0; k <= sorted.size() / 2; ++k) {
        const double toRight = right == sorted.end() ? INFINITY : *right - out.at;
        const double toLeft = left == sorted.begin() ? INFINITY : out.at - *(left - 1);
        deviation = std::min(toRight, toLeft);
        if (toRight <= toLeft) {
            ++right;
        } else {
            --left;
        }
    }
    const double quarters = sortedQuantile(sorted, 0.75) - sortedQuantile(sorted, 0.25);
    out.spread = std::max(1.4826 * deviation, quarters / 1.349);
    if (out.spread == 0.0) {
        out.spread = (sortedQuantile(sorted, 0.975) - sortedQuantile(sorted, 0.025)) / 3.92;
    }
    return out;
}

void findInNumbers(const Numbers& in, std::vector<Oddity>& out) {
    findConstant(in, out);
    if (in.sorted.empty() || in.sorted.front() == in.sorted.back()) {
        return;
    }
    std::vector<Oddity> own;
    findCodes(in, own);
    findLone(in, own);
    findSign(in, own);
    findHeap(in, own);
    findFractions(in, own);
    out.insert(out.end(), own.begin(), own.end());
}

}  // namespace rapporto::odd
