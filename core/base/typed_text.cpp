#include "core/base/typed_text.h"

#include <fast_float/fast_float.h>

#include <cmath>

namespace rapporto {

std::string trimmed(std::string_view text) {
    const auto from = text.find_first_not_of(" \t\r");
    return from == std::string_view::npos
               ? ""
               : std::string(text.substr(from, text.find_last_not_of(" \t\r") - from + 1));
}

std::optional<double> numberIn(std::string_view text) {
    constexpr std::string_view kMinus = "−";
    std::string plain = trimmed(text);
    if (plain.starts_with(kMinus)) {
        plain = "-" + plain.substr(kMinus.size());
    } else if (plain.starts_with('+') && !plain.starts_with("+-")) {
        plain.erase(0, 1);
    }
    double value = 0.0;
    const char* end = plain.data() + plain.size();
    const auto [at, error] = fast_float::from_chars(plain.data(), end, value);
    return error == std::errc() && at == end && std::isfinite(value) ? std::optional(value)
                                                                     : std::nullopt;
}

}  // namespace rapporto
