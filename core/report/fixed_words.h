#pragma once

#include <string>
#include <vector>

namespace rapporto {

/// The languages that fixed words of a report can be in: "en", "de", "fr", "es", "it".
[[nodiscard]] const std::vector<std::string>& reportLanguages();

/// A fixed word of tables, captions and headings (“Table”, “Rows”, “Constant”) in a language; the
/// English one where there is no other.
[[nodiscard]] std::string fixedWord(const std::string& english, const std::string& language);

}  // namespace rapporto
