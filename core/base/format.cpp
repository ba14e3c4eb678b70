#include "core/base/format.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

constexpr const char* kMinus = "\u2212";
constexpr const char* kThin = "\u202F";

std::string grouped(const std::string& digits) {
    if (digits.size() < 4) {
        return digits;
    }
    std::string out;
    for (std::size_t i = 0; i < digits.size(); ++i) {
        if (i > 0 && (digits.size() - i) % 3 == 0) {
            out += kThin;
        }
        out += digits[i];
    }
    return out;
}

std::string superscript(int exponent) {
    static const char* const digits[] = {"⁰", "¹", "²", "³", "⁴", "⁵", "⁶", "⁷", "⁸", "⁹"};
    std::string out = exponent < 0 ? "⁻" : "";
    for (const char c : std::to_string(std::abs(exponent))) {
        out += digits[c - '0'];
    }
    return out;
}

}  // namespace

int decimalsFor(double standardError) {
    if (!std::isfinite(standardError) || standardError <= 0.0) {
        return 3;
    }
    return std::clamp(1 - static_cast<int>(std::floor(std::log10(standardError))), 0, 12);
}

std::string fixedNumber(double value, int decimals, bool bare) {
    if (!std::isfinite(value)) {
        return "–";
    }
    std::string text = fmt::format("{:.{}f}", std::abs(value), std::max(decimals, 0));
    const std::size_t point = text.find('.');
    std::string whole = text.substr(0, point);
    const std::string fraction = point == std::string::npos ? "" : text.substr(point);
    const bool zero = text.find_first_of("123456789") == std::string::npos;
    whole = bare && whole == "0" && !fraction.empty() ? "" : grouped(whole);
    return (value < 0.0 && !zero ? kMinus : "") + whole + fraction;
}

std::string shortNumber(double value, int digits) {
    if (!std::isfinite(value)) {
        return "–";
    }
    if (value == 0.0) {
        return "0";
    }
    const int exponent = static_cast<int>(std::floor(std::log10(std::abs(value))));
    if (exponent > 8 || exponent < -5) {
        const double mantissa = value / std::pow(10.0, exponent);
        return fixedNumber(mantissa, digits - 2) + "×10" + superscript(exponent);
    }
    std::string text = fixedNumber(value, std::clamp(digits - 1 - exponent, 0, 12));
    if (text.find('.') != std::string::npos) {
        text.erase(text.find_last_not_of('0') + 1);
        if (text.ends_with('.')) {
            text.pop_back();
        }
    }
    return text;
}

std::string pText(double p) {
    if (!std::isfinite(p)) {
        return "–";
    }
    if (p < 0.001) {
        return "< .001";
    }
    if (p > 0.9995) {
        return "> .999";
    }
    return fixedNumber(p, 3, true);
}

std::string pClause(double p) {
    const std::string text = pText(p);
    return text.starts_with('<') || text.starts_with('>') ? "p " + text : "p = " + text;
}

std::string percentLevel(double alpha) { return shortNumber(100.0 * (1.0 - alpha), 3) + " %"; }

std::string countText(std::size_t count) { return grouped(std::to_string(count)); }

std::string exactNumber(double value) {
    if (value == std::floor(value) && std::abs(value) < 1e15) {
        return fmt::format("{:.0f}", value == 0.0 ? 0.0 : value);
    }
    return fmt::format("{}", value);
}

std::string capitalised(std::string text) {
    if (!text.empty() && text.front() >= 'a' && text.front() <= 'z') {
        text.front() = static_cast<char>(text.front() - 'a' + 'A');
    }
    return text;
}

std::string plural(std::size_t count, const std::string& one, const std::string& many) {
    return countText(count) + " " + (count == 1 ? one : many);
}

std::string joinedNames(const std::vector<std::string>& names) {
    std::string text;
    for (const std::string& name : names) {
        text += (text.empty() ? "" : ", ") + name;
    }
    return text;
}

}  // namespace rapporto
