#pragma once

#include <optional>
#include <string>
#include <vector>

namespace rapporto {

/// The decimals that show an estimate to two significant digits of its standard error, 0 to 12.
[[nodiscard]] int decimalsFor(double standardError);

/// `value` with `decimals` decimals, a true minus sign (U+2212), narrow no-break spaces (U+202F)
/// between thousands, and no zero before the decimal mark of a number below one when `bare`.
[[nodiscard]] std::string fixedNumber(double value, int decimals, bool bare = false);

/// `value` to `digits` significant digits, in the same dress; very large or small ones as 1.2×10⁵.
[[nodiscard]] std::string shortNumber(double value, int digits = 4);

/// A p-value as “.032”, “< .001”, “.51”; two significant digits below .1.
[[nodiscard]] std::string pText(double p);

/// A p-value in a sentence: “p = .032” or “p < .001”.
[[nodiscard]] std::string pClause(double p);

/// The level of an interval at 1 − alpha: “95 %”.
[[nodiscard]] std::string percentLevel(double alpha);

/// A count with thin spaces between thousands.
[[nodiscard]] std::string countText(std::size_t count);

/// The shortest text that reads back as the same double, with an ASCII minus: for files and names.
[[nodiscard]] std::string exactNumber(double value);

/// “a, b, c”.
[[nodiscard]] std::string joinedNames(const std::vector<std::string>& names);

/// With its first letter, where that is a plain one, made large.
[[nodiscard]] std::string capitalised(std::string text);

/// “1 row”, “3 rows”.
[[nodiscard]] std::string plural(std::size_t count, const std::string& one,
                                 const std::string& many);

}  // namespace rapporto
