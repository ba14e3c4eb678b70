#pragma once

#include <cstddef>
#include <string>
#include <string_view>

namespace rapporto::odd {

/// In small letters of the Latin alphabet without accents, one space between words and none at the
/// ends; letters of other alphabets stay. UTF-8.
[[nodiscard]] std::string plainSpelling(std::string_view text);

/// How many letters: code points.
[[nodiscard]] std::size_t lengthOf(std::string_view text);

/// The digits in it, each run ended by a space: “3 12 ”.
[[nodiscard]] std::string numbersIn(std::string_view text);

/// The least number of letters put in, left out, exchanged or swapped with a neighbour that turns
/// one into the other (Damerau 1964, restricted), counted up to 3.
[[nodiscard]] std::size_t slipsBetween(std::string_view a, std::string_view b);

}  // namespace rapporto::odd
