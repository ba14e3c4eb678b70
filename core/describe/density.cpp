#include "core/describe/density.h"

#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>

namespace rapporto {
namespace {

std::vector<double> presentIn(std::span<const double> cells) {
    std::vector<double> out;
    std::copy_if(cells.begin(), cells.end(), std::back_inserter(out),
                 [](double x) { return !std::isnan(x); });
    return out;
}

/// Counts of pairs of values by their distance in bins.
struct PairCounts {
    double n = 0.0;
    double step = 0.0;
    std::vector<double> pairs;      ///< Ordered pairs i ≠ j at distance k bins; k = 0 first.
    std::vector<double> distances;  ///< Of few values, each pair’s own; then there are no bins.

    /// Σ over ordered pairs of φ⁽ᵒʳᵈᵉʳ⁾(distance / g), the diagonal with it, over n(n − 1)
    /// gᵒʳᵈᵉʳ⁺¹.
    [[nodiscard]] double functional(int order, double g) const {
        const auto derivative = [order](double z) {
            const double s = z * z;
            return order == 4 ? (s * s - 6.0 * s + 3.0) * normalDensity(z)
                              : (s * s * s - 15.0 * s * s + 45.0 * s - 15.0) * normalDensity(z);
        };
        double sum = n * derivative(0.0);
        for (const double distance : distances) {
            sum += 2.0 * derivative(distance / g);
        }
        for (std::size_t k = 0; k < pairs.size(); ++k) {
            const double z = static_cast<double>(k) * step / g;
            if (z > 40.0) {
                break;  // The normal kernel has nothing there.
            }
            sum += pairs[k] * derivative(z);
        }
        return sum / (n * (n - 1.0) * std::pow(g, order + 1));
    }
};

PairCounts pairsOf(const std::vector<double>& values) {
    constexpr std::size_t kBins = 512;
    constexpr std::size_t kFew = 400;
    PairCounts out;
    out.n = static_cast<double>(values.size());
    if (values.size() <= kFew) {
        for (std::size_t i = 0; i < values.size(); ++i) {
            for (std::size_t j = 0; j < i; ++j) {
                out.distances.push_back(std::abs(values[i] - values[j]));
            }
        }
        return out;
    }
    const auto [low, high] = std::minmax_element(values.begin(), values.end());
    out.step = (*high - *low) * 1.01 / static_cast<double>(kBins);
    std::vector<double> counts(kBins, 0.0);
    for (const double x : values) {
        counts[std::min(static_cast<std::size_t>((x - *low) / out.step), kBins - 1)] += 1.0;
    }
    out.pairs.assign(kBins, 0.0);
    for (std::size_t a = 0; a < kBins; ++a) {
        out.pairs[0] += counts[a] * (counts[a] - 1.0);
        for (std::size_t b = 0; b < a && counts[a] > 0.0; ++b) {
            out.pairs[a - b] += 2.0 * counts[a] * counts[b];
        }
    }
    return out;
}

}  // namespace

double sheatherJones(std::span<const double> cells) {
    const std::vector<double> values = presentIn(cells);
    const Summary s = summarise(values);
    if (values.size() < 2 || s.low == s.high) {
        return 0.0;
    }
    const double n = static_cast<double>(values.size());
    const double iqr = (s.upperQuartile - s.lowerQuartile) / 1.349;
    const double scale = iqr > 0.0 ? std::min(s.sd, iqr) : s.sd;
    const double silverman = 0.9 * scale * std::pow(n, -0.2);
    const PairCounts pairs = pairsOf(values);
    const double a = 0.920 * 1.349 * scale * std::pow(n, -1.0 / 7.0);
    const double b = 0.912 * 1.349 * scale * std::pow(n, -1.0 / 9.0);
    const double sdA = pairs.functional(4, a);
    const double tdB = -pairs.functional(6, b);
    if (!(sdA > 0.0) || !(tdB > 0.0)) {
        return silverman;
    }
    const double alphaScale = 1.357 * std::pow(sdA / tdB, 1.0 / 7.0);
    const auto gap = [&](double h) {
        const double curvature = pairs.functional(4, alphaScale * std::pow(h, 5.0 / 7.0));
        return curvature > 0.0
                   ? std::pow(1.0 / (2.0 * std::sqrt(std::numbers::pi) * n * curvature), 0.2) - h
                   : -h;
    };
    double low = silverman / 20.0;
    double high = silverman * 5.0;
    if (!(gap(low) > 0.0) || !(gap(high) < 0.0)) {
        return silverman;
    }
    for (int k = 0; k < 100 && high - low > 1e-12 * high; ++k) {
        const double middle = 0.5 * (low + high);
        (gap(middle) > 0.0 ? low : high) = middle;
    }
    return 0.5 * (low + high);
}

Density densityOf(std::span<const double> cells, double bandwidth,
                  std::span<const double> weights) {
    Density out;
    out.bandwidth = bandwidth;
    std::vector<std::pair<double, double>> masses;  // Value and weight.
    double total = 0.0;
    double low = INFINITY;
    double high = -INFINITY;
    for (std::size_t i = 0; i < cells.size(); ++i) {
        const double w = weights.empty() ? 1.0 : weights[i];
        if (!std::isnan(cells[i]) && w > 0.0) {
            masses.emplace_back(cells[i], w);
            total += w;
            low = std::min(low, cells[i]);
            high = std::max(high, cells[i]);
        }
    }
    if (masses.empty() || !(bandwidth > 0.0)) {
        return out;
    }
    constexpr int kPlaces = 201;
    const double from = low - 3.0 * bandwidth;
    const double to = high + 3.0 * bandwidth;
    // Many values are counted into narrow bins first: a tenth of the bandwidth is not to be seen.
    const double width = bandwidth / 10.0;
    const auto bins = static_cast<std::size_t>((high - low) / width) + 1;
    if (masses.size() > 5000 && bins < masses.size()) {
        std::vector<double> counts(bins, 0.0);
        for (const auto& [x, w] : masses) {
            counts[std::min(static_cast<std::size_t>((x - low) / width), bins - 1)] += w;
        }
        masses.clear();
        for (std::size_t k = 0; k < bins; ++k) {
            if (counts[k] > 0.0) {
                masses.emplace_back(low + (static_cast<double>(k) + 0.5) * width, counts[k]);
            }
        }
    }
    for (int k = 0; k < kPlaces; ++k) {
        const double x = from + (to - from) * k / (kPlaces - 1);
        double sum = 0.0;
        for (const auto& [at, mass] : masses) {
            sum += mass * normalDensity((x - at) / bandwidth);
        }
        out.x.push_back(x);
        out.y.push_back(sum / (total * bandwidth));
    }
    return out;
}

}  // namespace rapporto
