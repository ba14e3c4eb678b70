#include "core/expression/expression.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

namespace rapporto {
namespace {

constexpr double kNone = std::numeric_limits<double>::quiet_NaN();

double finiteOrNone(double x) { return std::isfinite(x) ? x : kNone; }

double roundHalfAway(const double* a, std::size_t count) {
    if (count == 1) {
        return std::round(a[0]);
    }
    const double scale = std::pow(10.0, std::trunc(a[1]));
    return finiteOrNone(std::round(a[0] * scale) / scale);
}

double power(const double* a, std::size_t /*count*/) {
    // Whole powers by products: exact where the result is, unlike some libraries' pow.
    if (a[1] == 2.0) {
        return finiteOrNone(a[0] * a[0]);
    }
    return finiteOrNone(std::pow(a[0], a[1]));
}

}  // namespace

const std::vector<RowFunction>& rowFunctions() {
    static const std::vector<RowFunction> kFunctions = {
        {"ln", 1, 1,
         [](const double* a, std::size_t) { return a[0] > 0.0 ? std::log(a[0]) : kNone; }, false,
         "ln of zero or less", "natural logarithm"},
        {"log10", 1, 1,
         [](const double* a, std::size_t) { return a[0] > 0.0 ? std::log10(a[0]) : kNone; }, false,
         "log10 of zero or less", "logarithm to base 10"},
        {"exp", 1, 1, [](const double* a, std::size_t) { return finiteOrNone(std::exp(a[0])); },
         false, "too large a number", "e to the power"},
        {"sqrt", 1, 1,
         [](const double* a, std::size_t) { return a[0] >= 0.0 ? std::sqrt(a[0]) : kNone; }, false,
         "square root of a negative number", "square root"},
        {"power", 2, 2, &power, false, "a power without a value", "x to the power y"},
        {"abs", 1, 1, [](const double* a, std::size_t) { return std::abs(a[0]); }, false, nullptr,
         "absolute value"},
        {"floor", 1, 1, [](const double* a, std::size_t) { return std::floor(a[0]); }, false,
         nullptr, "largest whole number not above"},
        {"ceiling", 1, 1, [](const double* a, std::size_t) { return std::ceil(a[0]); }, false,
         nullptr, "smallest whole number not below"},
        {"ceil", 1, 1, [](const double* a, std::size_t) { return std::ceil(a[0]); }, false, nullptr,
         "smallest whole number not below"},
        {"round", 1, 2, &roundHalfAway, false, "too large a number",
         "rounded, halves away from zero"},
        {"mod", 2, 2,
         [](const double* a, std::size_t) { return a[1] != 0.0 ? std::fmod(a[0], a[1]) : kNone; },
         false, "a remainder by zero", "remainder"},
        {"sign", 1, 1,
         [](const double* a, std::size_t) { return a[0] > 0.0 ? 1.0 : (a[0] < 0.0 ? -1.0 : 0.0); },
         false, nullptr, "−1, 0 or 1"},
        {"least", 1, 64, [](const double* a, std::size_t n) { return *std::min_element(a, a + n); },
         false, nullptr, "smallest of several"},
        {"greatest", 1, 64,
         [](const double* a, std::size_t n) { return *std::max_element(a, a + n); }, false, nullptr,
         "largest of several"},
        {"coalesce", 1, 64,
         [](const double* a, std::size_t n) {
             const double* found = std::find_if(a, a + n, [](double x) { return !std::isnan(x); });
             return found == a + n ? kNone : *found;
         },
         true, nullptr, "first that is not missing"},
        {"nullif", 2, 2, [](const double* a, std::size_t) { return a[0] == a[1] ? kNone : a[0]; },
         true, nullptr, "missing where the two are equal"},
    };
    return kFunctions;
}

std::optional<std::string> nearestName(const std::string& name,
                                       const std::vector<std::string>& known) {
    std::optional<std::string> best;
    std::size_t bestDistance = std::max<std::size_t>(2, name.size() / 3) + 1;
    for (const auto& candidate : known) {
        std::vector<std::size_t> row(candidate.size() + 1);
        std::iota(row.begin(), row.end(), std::size_t{0});
        for (std::size_t i = 0; i < name.size(); ++i) {
            std::size_t diagonal = row[0]++;
            for (std::size_t j = 0; j < candidate.size(); ++j) {
                const bool same = std::tolower(static_cast<unsigned char>(name[i])) ==
                                  std::tolower(static_cast<unsigned char>(candidate[j]));
                const std::size_t next =
                    std::min({row[j] + 1, row[j + 1] + 1, diagonal + (same ? 0 : 1)});
                diagonal = std::exchange(row[j + 1], next);
            }
        }
        if (row.back() < bestDistance) {
            bestDistance = row.back();
            best = candidate;
        }
    }
    return best;
}

}  // namespace rapporto
