// Rows that repeat, moments that repeat, traits that change and come back.
#include "core/base/format.h"
#include "core/data/grouping.h"
#include "core/describe/odd/looking.h"

#include <algorithm>
#include <bit>
#include <cmath>
#include <map>
#include <unordered_map>

namespace rapporto::odd {
namespace {

/// The cell as bits; missing ones are alike.
std::uint64_t cellBits(const Column& column, std::uint32_t row) {
    if (column.isText()) {
        return static_cast<std::uint64_t>(static_cast<std::int64_t>(column.codes()[row]));
    }
    const double x = column.numbers()[row];
    return std::isnan(x) ? ~std::uint64_t{0} : std::bit_cast<std::uint64_t>(x == 0.0 ? 0.0 : x);
}

std::uint64_t mixed(std::uint64_t hash, std::uint64_t bits) {
    hash ^= bits + 0x9E3779B97F4A7C15U + (hash << 6U) + (hash >> 2U);
    hash *= 0xBF58476D1CE4E5B9U;
    return hash ^ (hash >> 29U);
}

/// The chance that two rows agree in the column, from the first rows.
double chanceAlike(const Column& column, const std::vector<std::uint32_t>& sample) {
    constexpr std::size_t kLook = 20000;
    std::unordered_map<std::uint64_t, std::size_t> counts;
    const std::size_t n = std::min(sample.size(), kLook);
    for (std::size_t i = 0; i < n; ++i) {
        ++counts[cellBits(column, sample[i])];
    }
    double pairs = 0.0;
    for (const auto& [bits, count] : counts) {
        pairs += static_cast<double>(count) * static_cast<double>(count - 1);
    }
    const double all = static_cast<double>(n) * static_cast<double>(n - 1);
    // Where no two were alike, fewer than one pair in three of those looked at.
    return std::max(pairs, 1.0) / std::max(all, 1.0);
}

std::string rowNumbers(const std::vector<std::size_t>& rows) {
    std::vector<std::string> names;
    for (std::size_t k = 0; k < std::min<std::size_t>(rows.size(), 6); ++k) {
        names.push_back(std::to_string(rows[k] + 1));
    }
    return joinedNames(names) + (rows.size() > 6 ? " …" : "");
}

}  // namespace

void findInRows(const Frame& frame, const std::vector<std::uint32_t>& sample,
                std::vector<Oddity>& out) {
    std::vector<const Column*> columns;
    for (std::size_t j = 0; j < frame.table().columns.size(); ++j) {
        if (frame.table().variables[j].expression.empty()) {
            columns.push_back(&frame.table().columns[j]);
        }
    }
    if (sample.size() < 2 || columns.empty()) {
        return;
    }
    std::vector<std::uint64_t> hashes(sample.size(), 0);
    for (const Column* column : columns) {
        for (std::size_t i = 0; i < sample.size(); ++i) {
            hashes[i] = mixed(hashes[i], cellBits(*column, sample[i]));
        }
    }
    std::unordered_map<std::uint64_t, std::uint32_t> first;
    first.reserve(sample.size());
    Oddity odd;
    odd.kind = OddKind::RepeatedRows;
    std::vector<std::size_t> originals;
    for (std::size_t i = 0; i < sample.size(); ++i) {
        const auto [at, isNew] = first.try_emplace(hashes[i], sample[i]);
        const auto same = [&, earlier = at->second](const Column* column) {
            return cellBits(*column, earlier) == cellBits(*column, sample[i]);
        };
        if (isNew || !std::all_of(columns.begin(), columns.end(), same)) {
            continue;
        }
        ++odd.count;
        if (odd.rows.size() < kMostRows) {
            odd.rows.push_back(sample[i]);
            originals.push_back(at->second);
        }
    }
    if (odd.count == 0) {
        return;
    }
    // With few answers to choose from, people who answer alike are no slip. What columns say
    // together is less than what they say apart: half of it is granted, and all of the one that
    // says most.
    double surprise = 0.0;
    double most = 0.0;
    for (const Column* column : columns) {
        const double own = std::log(chanceAlike(*column, sample));
        surprise += own;
        most = std::min(most, own);
    }
    const double n = static_cast<double>(sample.size());
    const double expected = n * (n - 1.0) / 2.0 * std::exp(0.5 * (surprise + most));
    if (expected > 0.02 * static_cast<double>(odd.count)) {
        return;
    }
    odd.title = odd.count == 1 ? "row " + std::to_string(odd.rows.front() + 1) + " repeats row " +
                                     std::to_string(originals.front() + 1)
                               : countText(odd.count) + " rows repeat others";
    odd.text =
        (odd.count == 1
             ? "Row " + std::to_string(odd.rows.front() + 1) + " says in every column what row " +
                   std::to_string(originals.front() + 1) + " says"
             : "Rows " + rowNumbers(odd.rows) + " say in every column what an earlier row says") +
        ". By chance " +
        (expected < 0.001 ? std::string("next to none")
                          : "fewer than " + shortNumber(expected, 1)) +
        " would. Entered twice, " + (odd.count == 1 ? "it counts" : "they count") +
        " twice, and errors come out too small.";
    out.push_back(std::move(odd));
}

void findTraits(const Frame& frame, const std::vector<std::size_t>& columns,
                std::vector<Oddity>& out) {
    if (frame.layout().kind != Layout::Kind::Panel) {
        return;
    }
    const auto& order = frame.timeOrder();
    if (!order) {
        return;
    }
    if (!order->repeated.empty()) {
        Oddity odd;
        odd.kind = OddKind::RepeatedMoments;
        odd.variables = {frame.layout().unit, frame.layout().time};
        odd.count = order->repeated.size();
        odd.rows.assign(
            order->repeated.begin(),
            order->repeated.begin() + static_cast<std::ptrdiff_t>(std::min(odd.count, kMostRows)));
        const Variable* unit = frame.variable(frame.layout().unit);
        odd.title = plural(odd.count, "moment stands", "moments stand") + " twice in a " +
                    (unit == nullptr ? std::string("unit") : unit->shown());
        odd.text = plural(odd.count, "row has", "rows have") +
                   " the unit and the moment of an earlier row (row" +
                   (odd.count == 1 ? " " : "s ") + rowNumbers(odd.rows) +
                   "). Lags and changes need one row a moment.";
        out.push_back(std::move(odd));
    }
    for (const std::size_t c : columns) {
        const Column& column = frame.table().columns[c];
        const Variable& variable = frame.table().variables[c];
        const bool trait = column.isText() || variable.measure == Measure::Groups ||
                           variable.measure == Measure::OrderedGroups;
        if (!trait || variable.name == frame.layout().unit ||
            variable.name == frame.layout().time) {
            continue;
        }
        std::size_t units = 0;
        std::size_t constant = 0;
        Oddity odd;
        odd.kind = OddKind::ChangedTrait;
        odd.variables = {variable.name};
        for (std::size_t u = 0; u + 1 < order->units.starts.size(); ++u) {
            std::vector<std::uint32_t> rows;
            for (const std::uint32_t row : order->units.group(u)) {
                if (!column.isMissing(row) && frame.states()[row] == RowState::In) {
                    rows.push_back(row);
                }
            }
            if (rows.size() < 3) {
                continue;
            }
            ++units;
            std::map<std::uint64_t, std::size_t> counts;
            for (const std::uint32_t row : rows) {
                ++counts[cellBits(column, row)];
            }
            if (counts.size() == 1) {
                ++constant;
                continue;
            }
            // One row alone that says another thing, with the old thing after it.
            const auto bits = [&](std::size_t k) { return cellBits(column, rows[k]); };
            for (std::size_t k = 0; counts.size() == 2 && k < rows.size(); ++k) {
                const bool returns = k > 0 && k + 1 < rows.size() && bits(k - 1) == bits(k + 1);
                if (counts[bits(k)] == 1 && returns) {
                    ++odd.count;
                    odd.rows.push_back(rows[k]);
                }
            }
        }
        if (odd.count == 0 || units < 10 || constant * 10 < units * 9) {
            continue;
        }
        odd.title =
            variable.shown() + " changes and comes back in " + plural(odd.count, "row", "rows");
        odd.text = "In " + countText(constant) + " of " + countText(units) + " units " +
                   variable.shown() + " never changes. In " + plural(odd.count, "row", "rows") +
                   " (" + rowNumbers(odd.rows) +
                   ") it says another thing once, and what it said before right after.";
        out.push_back(std::move(odd));
    }
}

}  // namespace rapporto::odd
