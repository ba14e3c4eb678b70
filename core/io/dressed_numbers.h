#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace rapporto {

/// How the numbers of a column are written.
struct NumberDress {
    char decimal = '.';
    std::string mark;  ///< Between thousands: “.”, “,”, “'”, “ ” (any kind of space) or empty.
    std::string unit;  ///< Around the numbers: “€”, “%”, “kg”; empty: none.

    /// “‘.’ between thousands, ‘,’ before decimals, ‘€’ taken off”.
    [[nodiscard]] std::string words() const;
};

struct DressedNumbers {
    NumberDress dress;
    std::vector<std::optional<double>> values;  ///< One a text.
};

/// A number with thousands marks, a currency sign, a percent sign or a unit around it, in
/// parentheses where it is negative, or with an exponent; nothing where it is none. Letters and
/// digits that only stand together, as in “G001”, are a name.
///
/// @param unit  what stands around it is put here.
[[nodiscard]] std::optional<double> dressedNumber(std::string_view cell, const NumberDress& dress,
                                                  std::string& unit);

/// The dress under which most of the texts are numbers, the decimal mark of the file first; nothing
/// where fewer than four in five are.
[[nodiscard]] std::optional<DressedNumbers> undressed(const std::vector<std::string>& texts,
                                                      char decimal);

/// Without spaces of any kind at its ends.
[[nodiscard]] std::string_view withoutOuterSpaces(std::string_view text);

}  // namespace rapporto
