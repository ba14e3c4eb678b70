#pragma once

#include <boost/math/special_functions/erf.hpp>

#include <cmath>
#include <numbers>

namespace rapporto {

/// ln Φ(x) and φ(x)/Φ(x), to the last digits in the far tail, too.
struct NormalBelow {
    double value = 0.0;
    double ratio = 0.0;
};

[[nodiscard]] inline NormalBelow normalBelow(double x) {
    const double lead = 0.5 * std::log(2.0 * std::numbers::pi);
    if (x < -30.0) {
        // Φ(x) = φ(x)/−x · (1 − 1/x² + 1·3/x⁴ − 1·3·5/x⁶ …).
        const double r = 1.0 / (x * x);
        double series = 1.0;
        for (const double factor : {13.0, 11.0, 9.0, 7.0, 5.0, 3.0, 1.0}) {
            series = 1.0 - factor * r * series;
        }
        return {-0.5 * x * x - std::log(-x) - lead + std::log(series), -x / series};
    }
    const double p = 0.5 * boost::math::erfc(-x / std::numbers::sqrt2);
    // ln Φ near one from the other tail: no digits are lost to 1 − p.
    const double value =
        x > 1.0 ? std::log1p(-0.5 * boost::math::erfc(x / std::numbers::sqrt2)) : std::log(p);
    return {value, std::exp(-0.5 * x * x - lead) / p};
}

}  // namespace rapporto
