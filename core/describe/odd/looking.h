// What the parts of the search share. Not for others.
#pragma once

#include "core/describe/odd/oddity.h"

#include <optional>
#include <span>

namespace rapporto::odd {

constexpr std::size_t kMostRows = 10000;

/// A numeric column as the search sees it.
struct Numbers {
    const Column& column;
    const Variable& variable;
    std::vector<std::uint32_t> rows;  ///< In the sample, with a number.
    std::vector<double> sorted;
};

/// Rows of the sample.
[[nodiscard]] std::vector<std::uint32_t> sampleRows(const Frame& frame);

[[nodiscard]] Numbers numbersOf(const Column& column, const Variable& variable,
                                const std::vector<std::uint32_t>& sample);

/// Rows of the column for which `holds`.
template <class Holds>
void takeRows(Oddity& out, const Numbers& in, Holds holds) {
    const auto cells = in.column.numbers();
    for (const std::uint32_t row : in.rows) {
        if (holds(cells[row])) {
            ++out.count;
            if (out.rows.size() < kMostRows) {
                out.rows.push_back(row);
            }
        }
    }
}

/// Middle and spread of sorted numbers that a tenth of gross errors hardly moves: the median, and
/// the greater of the normal-consistent quartile distance and absolute deviation.
struct Middle {
    double at = 0.0;
    double spread = 0.0;
};

[[nodiscard]] Middle middleOf(const std::vector<double>& sorted);

// The parts; each adds what it finds.
void findInNumbers(const Numbers& in, std::vector<Oddity>& out);
void findInLevels(const Column& column, const Variable& variable,
                  const std::vector<std::uint32_t>& sample, std::vector<Oddity>& out);
void findInRows(const Frame& frame, const std::vector<std::uint32_t>& sample,
                std::vector<Oddity>& out);
void findTraits(const Frame& frame, const std::vector<std::size_t>& columns,
                std::vector<Oddity>& out);

/// Copies and slipped digits: what a column says of another. Columns by their place in the table.
void findAcross(const Frame& frame, const std::vector<std::size_t>& columns,
                const std::vector<std::uint32_t>& sample, const Job& job, std::vector<Oddity>& out);

}  // namespace rapporto::odd
