// What a column says of another: copies, and digits that slipped beside what neighbours lead to.
#include "core/base/format.h"
#include "core/base/parallel.h"
#include "core/data/grouping.h"
#include "core/describe/odd/looking.h"
#include "core/describe/pairwise_moments.h"
#include "core/describe/summary.h"

#include <algorithm>
#include <cmath>
#include <iterator>

namespace rapporto::odd {
namespace {

constexpr double kByChance = 0.05;          ///< Rows of a column that chance may give as far out.
constexpr double kTen = 2.302585092994046;  // ln 10

bool isQuantity(const Variable& v) {
    return v.measure == Measure::Quantity || v.measure == Measure::Count;
}

/// Columns with many different numbers, by their place in the table.
std::vector<std::size_t> richColumns(const Frame& frame, const std::vector<std::size_t>& columns,
                                     const std::vector<std::uint32_t>& sample) {
    std::vector<std::size_t> out;
    for (const std::size_t c : columns) {
        const Column& column = frame.table().columns[c];
        if (column.isText() || !isQuantity(frame.table().variables[c])) {
            continue;
        }
        std::vector<double> look;
        for (std::size_t i = 0; i < sample.size() && look.size() < 2000; ++i) {
            const double x = column.numbers()[sample[i]];
            if (!std::isnan(x)) {
                look.push_back(x);
            }
        }
        std::sort(look.begin(), look.end());
        const auto different = std::unique(look.begin(), look.end()) - look.begin();
        if (different >= 8) {
            out.push_back(c);
        }
    }
    return out;
}

void tellCopy(const Frame& frame, std::size_t a, std::size_t b,
              const std::vector<std::uint32_t>& sample, double r, std::vector<Oddity>& out) {
    const auto x = frame.table().columns[a].numbers();
    const auto y = frame.table().columns[b].numbers();
    const Variable& one = frame.table().variables[a];
    const Variable& other = frame.table().variables[b];
    std::size_t both = 0;
    std::vector<double> ratios;
    Oddity odd;
    odd.kind = OddKind::CopiedColumn;
    odd.variables = {other.name, one.name};
    for (const std::uint32_t row : sample) {
        if (std::isnan(x[row]) || std::isnan(y[row])) {
            continue;
        }
        ++both;
        if (x[row] != y[row]) {
            ++odd.count;
            if (odd.rows.size() < kMostRows) {
                odd.rows.push_back(row);
            }
        }
        if (x[row] != 0.0) {
            ratios.push_back(y[row] / x[row]);
        }
    }
    const bool copy = odd.count * 50 <= both;
    std::sort(ratios.begin(), ratios.end());
    const double factor = ratios.empty() ? 0.0 : sortedQuantile(ratios, 0.5);
    const auto fits = std::count_if(ratios.begin(), ratios.end(), [&](double q) {
        return std::abs(q - factor) <= 1e-9 * std::abs(factor);
    });
    const bool scaled = !copy && !ratios.empty() && fits * 50 >= std::ssize(ratios) * 49;
    if (!copy) {
        odd.rows.clear();
    }
    odd.title = other.shown() +
                (copy     ? " copies "
                 : scaled ? " scales "
                          : " nearly copies ") +
                one.shown();
    odd.text =
        copy ? (odd.count == 0
                    ? "They hold the same number in all " + countText(both) + " rows that have both"
                    : "They hold the same number in all but " + plural(odd.count, "row", "rows") +
                          " of " + countText(both)) +
                   ". One question has use for one of them; where they differ, one is wrong."
        : scaled
            ? other.shown() + " is " + shortNumber(factor, 6) + " times " + one.shown() +
                  " row by row: the same thing in another unit. One question has use for one of "
                  "them."
            : "Their correlation is " + fixedNumber(r, 6, true) +
                  ": one is all but a straight line of the other. Side by side in a question "
                  "neither has an effect of its own.";
    if (!copy) {
        odd.count = both;
    }
    out.push_back(std::move(odd));
}

void findCopies(const Frame& frame, const std::vector<std::size_t>& rich,
                const std::vector<std::uint32_t>& sample, const PairwiseMoments& moments,
                std::vector<Oddity>& out) {
    std::vector<bool> told(rich.size(), false);
    for (std::size_t a = 0; a < rich.size(); ++a) {
        for (std::size_t b = a + 1; b < rich.size(); ++b) {
            const auto i = static_cast<Eigen::Index>(a);
            const auto j = static_cast<Eigen::Index>(b);
            const double r = moments.r(i, j);
            if (!told[b] && moments.n(i, j) >= 10.0 && std::abs(r) > 0.9999) {
                told[b] = true;
                tellCopy(frame, rich[a], rich[b], sample, r, out);
            }
        }
    }
}

/// Logarithms of a column, NaN where there is none.
std::vector<double> logsOf(const Column& column, const std::vector<std::uint32_t>& sample) {
    std::vector<double> out;
    out.reserve(sample.size());
    for (const std::uint32_t row : sample) {
        const double x = column.numbers()[row];
        out.push_back(x > 0.0 ? std::log(x) : std::nan(""));
    }
    return out;
}

/// What neighbours lead to: left over of logs, NaN where there is nothing to go by.
struct Leftover {
    std::vector<double> of;  ///< By place in the sample.
    double spread = INFINITY;
    std::string by;
};

double robustSpread(std::vector<double> numbers) {
    std::erase_if(numbers, [](double x) { return std::isnan(x); });
    std::sort(numbers.begin(), numbers.end());
    return numbers.size() < 20 ? INFINITY : middleOf(numbers).spread;
}

/// From the unit's other rows.
Leftover byUnit(const Frame& frame, const std::vector<double>& logs,
                const std::vector<std::uint32_t>& sample) {
    Leftover out;
    const Column* unit = frame.column(frame.layout().unit);
    if (frame.layout().kind != Layout::Kind::Panel || unit == nullptr) {
        return out;
    }
    const Grouping groups = groupBy(*unit, false);
    std::vector<std::vector<std::size_t>> places(static_cast<std::size_t>(groups.count));
    for (std::size_t i = 0; i < sample.size(); ++i) {
        if (groups.of[sample[i]] >= 0 && !std::isnan(logs[i])) {
            places[static_cast<std::size_t>(groups.of[sample[i]])].push_back(i);
        }
    }
    out.of.assign(sample.size(), std::nan(""));
    for (const auto& own : places) {
        if (own.size() < 3) {
            continue;
        }
        std::vector<double> values;
        for (const std::size_t i : own) {
            values.push_back(logs[i]);
        }
        std::sort(values.begin(), values.end());
        const double middle = sortedQuantile(values, 0.5);
        for (const std::size_t i : own) {
            out.of[i] = logs[i] - middle;
        }
    }
    out.spread = robustSpread(out.of);
    out.by = "the same " + frame.variable(frame.layout().unit)->shown() + " says at other moments";
    return out;
}

/// From another column: a line through the logs, drawn through what lies in the middle.
Leftover byColumn(const std::vector<double>& logs, const std::vector<double>& other,
                  const std::string& name) {
    Leftover out;
    std::vector<std::size_t> both;
    for (std::size_t i = 0; i < logs.size(); ++i) {
        if (!std::isnan(logs[i]) && !std::isnan(other[i])) {
            both.push_back(i);
        }
    }
    if (both.size() < 30) {
        return out;
    }
    out.of.assign(logs.size(), std::nan(""));
    double slope = 0.0;
    double level = 0.0;
    std::vector<bool> use(both.size(), true);
    for (int round = 0; round < 4; ++round) {
        double n = 0.0;
        double sx = 0.0;
        double sy = 0.0;
        for (std::size_t k = 0; k < both.size(); ++k) {
            if (use[k]) {
                n += 1.0;
                sx += other[both[k]];
                sy += logs[both[k]];
            }
        }
        double sxx = 0.0;
        double sxy = 0.0;
        for (std::size_t k = 0; k < both.size(); ++k) {
            if (use[k]) {
                const double dx = other[both[k]] - sx / n;
                sxx += dx * dx;
                sxy += dx * (logs[both[k]] - sy / n);
            }
        }
        slope = sxx > 0.0 ? sxy / sxx : 0.0;
        level = sy / n - slope * sx / n;
        for (const std::size_t i : both) {
            out.of[i] = logs[i] - level - slope * other[i];
        }
        out.spread = robustSpread(out.of);
        for (std::size_t k = 0; k < both.size(); ++k) {
            use[k] = std::abs(out.of[both[k]]) < 3.5 * out.spread;
        }
    }
    out.by = name + " leads to";
    return out;
}

/// How often chance gives a leftover as far out as one, by the law that the tail on its side has
/// where it begins: a power of the value, so that a column that goes on to zero, or one with a long
/// tail above, does not look like slips of the pen.
class Tails {
  public:
    explicit Tails(const Leftover& way) {
        std::copy_if(way.of.begin(), way.of.end(), std::back_inserter(sorted_),
                     [](double left) { return !std::isnan(left); });
        std::sort(sorted_.begin(), sorted_.end());
    }

    /// @return the expected number of rows of the column beyond `left`, on its side.
    [[nodiscard]] double expectedBeyond(double left) const {
        const std::size_t n = sorted_.size();
        const std::size_t near = std::max<std::size_t>(8, n / 8);
        const std::size_t out = std::max<std::size_t>(4, n / 33);
        if (near >= n) {
            return 0.0;
        }
        const auto at = [&](std::size_t rank) {
            return left < 0.0 ? -sorted_[rank - 1] : sorted_[n - rank];
        };
        const double reach = at(out) - at(near);
        const double beyond = std::abs(left) - at(out);
        if (beyond <= 0.0) {
            return static_cast<double>(out);
        }
        if (reach <= 0.0) {
            return 0.0;
        }
        const double steep = std::log(static_cast<double>(near) / static_cast<double>(out)) / reach;
        return static_cast<double>(out) * std::exp(-steep * beyond);
    }

  private:
    std::vector<double> sorted_;
};

/// Rows whose leftover is a power of ten and nothing else is near it.
void findSlips(const Frame& frame, std::size_t c, const std::vector<std::uint32_t>& sample,
               const std::vector<double>& logs, const std::vector<Leftover>& ways,
               std::vector<Oddity>& out) {
    const Leftover* best = nullptr;
    for (const Leftover& way : ways) {
        if (!way.of.empty() && (best == nullptr || way.spread < best->spread)) {
            best = &way;
        }
    }
    // A power of ten must be far outside of what is usual: six spreads. Where one is not, two or
    // three are.
    if (best == nullptr || !(best->spread > 0.0) || best->spread * 6.0 > 2.0 * kTen) {
        return;
    }
    const Tails tails(*best);
    std::vector<std::pair<double, std::size_t>> far;
    for (std::size_t i = 0; i < best->of.size(); ++i) {
        if (std::abs(best->of[i]) > 5.0 * best->spread) {
            far.emplace_back(best->of[i], i);
        }
    }
    const auto slips = [&](double left) {
        const double powers = std::round(std::abs(left) / kTen);
        const double least = best->spread * 6.0 <= kTen ? 1.0 : 2.0;
        return powers >= least && powers <= 3.0 &&
               std::abs(std::abs(left) - powers * kTen) < std::min(2.5 * best->spread, 1.0) &&
               tails.expectedBeyond(left) < kByChance;
    };
    Oddity odd;
    odd.kind = OddKind::SlippedDigit;
    odd.variables = {frame.table().variables[c].name};
    std::vector<std::string> says;
    for (const auto& [left, i] : far) {
        if (!slips(left)) {
            continue;
        }
        ++odd.count;
        odd.rows.push_back(sample[i]);
        const double value = frame.table().columns[c].numbers()[sample[i]];
        odd.values.emplace_back(value);
        const auto times =
            static_cast<int>(std::lround(std::pow(10.0, std::round(std::abs(left) / kTen))));
        if (says.size() < 3) {
            says.push_back(shortNumber(value, 8) + " in row " + std::to_string(sample[i] + 1) +
                           " is about " + std::to_string(times) +
                           (left > 0.0 ? " times " : " times less than ") + "what " + best->by);
        }
    }
    // Many that lie far out in every distance are a law with long tails, not slips.
    const std::size_t most = std::max<std::size_t>(3, logs.size() / 100);
    if (odd.count == 0 || odd.count > most || far.size() > 2 * odd.count + 1) {
        return;
    }
    const Variable& variable = frame.table().variables[c];
    odd.title = plural(odd.count, "slipped digit", "slipped digits") + " in " + variable.shown();
    std::string sentence;
    for (const std::string& one : says) {
        sentence += (sentence.empty() ? "" : "; ") + one;
    }
    odd.text = capitalised(sentence) + (odd.count > says.size() ? "; and others" : "") +
               ". A digit or a decimal mark may have slipped.";
    out.push_back(std::move(odd));
}

}  // namespace

void findAcross(const Frame& frame, const std::vector<std::size_t>& columns,
                const std::vector<std::uint32_t>& sample, const Job& job,
                std::vector<Oddity>& out) {
    const std::vector<std::size_t> rich = richColumns(frame, columns, sample);
    if (rich.empty() || sample.size() < 10 || job.stopped()) {
        return;
    }
    std::vector<std::vector<double>> cells(rich.size());
    std::vector<std::vector<double>> logs(rich.size());
    inParallel(rich.size(), [&](std::size_t k) {
        const Column& column = frame.table().columns[rich[k]];
        for (const std::uint32_t row : sample) {
            cells[k].push_back(column.numbers()[row]);
        }
        logs[k] = logsOf(column, sample);
    });
    std::vector<const std::vector<double>*> plain;
    std::vector<const std::vector<double>*> ofLogs;
    for (std::size_t k = 0; k < rich.size(); ++k) {
        plain.push_back(&cells[k]);
        ofLogs.push_back(&logs[k]);
    }
    findCopies(frame, rich, sample, pairwiseMoments(plain, {}, job), out);
    if (job.stopped()) {
        return;
    }
    const PairwiseMoments related = pairwiseMoments(ofLogs, {}, job);
    std::vector<std::vector<Oddity>> found(rich.size());
    inParallel(rich.size(), [&](std::size_t k) {
        if (job.stopped()) {
            return;
        }
        std::vector<Leftover> ways = {byUnit(frame, logs[k], sample)};
        // The two columns that go with it most.
        std::vector<std::size_t> others;
        for (std::size_t o = 0; o < rich.size(); ++o) {
            const auto i = static_cast<Eigen::Index>(k);
            const auto j = static_cast<Eigen::Index>(o);
            if (o != k && std::isfinite(related.r(i, j)) && std::abs(related.r(i, j)) > 0.5) {
                others.push_back(o);
            }
        }
        const auto strength = [&](std::size_t o) {
            return std::abs(related.r(static_cast<Eigen::Index>(k), static_cast<Eigen::Index>(o)));
        };
        std::stable_sort(others.begin(), others.end(),
                         [&](std::size_t a, std::size_t b) { return strength(a) > strength(b); });
        for (std::size_t o = 0; o < std::min<std::size_t>(others.size(), 2); ++o) {
            ways.push_back(byColumn(logs[k], logs[others[o]],
                                    frame.table().variables[rich[others[o]]].shown()));
        }
        findSlips(frame, rich[k], sample, logs[k], ways, found[k]);
    });
    for (const auto& own : found) {
        out.insert(out.end(), own.begin(), own.end());
    }
}

}  // namespace rapporto::odd
