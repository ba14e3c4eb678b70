#pragma once

#include <string>

namespace rapporto {

/// A text in which nothing is a command: signs of the language escaped, Greek letters and signs of
/// mathematics by their commands, letters beyond Latin by `\letter{…}`, which the preamble of a
/// report defines.
[[nodiscard]] std::string latexText(const std::string& text);

/// A sign between the pieces of an equation: “−”, “=”, “+”, “;”.
[[nodiscard]] std::string latexMath(const std::string& sign);

}  // namespace rapporto
