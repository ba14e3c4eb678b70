#include "core/describe/smooth.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace rapporto {

Exhibit::Line localLine(const std::vector<double>& x, const std::vector<double>& y, double span,
                        const std::string& name) {
    Exhibit::Line line;
    line.name = name;
    const std::size_t stride = x.size() / 20000 + 1;
    std::vector<std::pair<double, double>> points;
    for (std::size_t i = 0; i < x.size(); i += stride) {
        points.emplace_back(x[i], y[i]);
    }
    std::sort(points.begin(), points.end());
    if (points.size() < 5 || points.front().first == points.back().first) {
        return line;
    }
    const std::size_t n = points.size();
    const std::size_t near =
        std::clamp<std::size_t>(static_cast<std::size_t>(span * static_cast<double>(n)), 4, n);
    constexpr std::size_t kPlaces = 60;
    for (std::size_t p = 0; p < kPlaces; ++p) {
        // Places at quantiles: dense where the data are.
        const double at = points[p * (n - 1) / (kPlaces - 1)].first;
        if (!line.x.empty() && at <= line.x.back()) {
            continue;
        }
        // The window of the nearest points slides along the sorted x.
        std::size_t from = p * (n - 1) / (kPlaces - 1);
        from = from > near ? from - near : 0;
        while (from + near < n && points[from + near].first - at < at - points[from].first) {
            ++from;
        }
        const double reach = std::max(at - points[from].first, points[from + near - 1].first - at);
        double s = 0.0;
        double sx = 0.0;
        double sy = 0.0;
        double sxx = 0.0;
        double sxy = 0.0;
        for (std::size_t i = from; i < from + near; ++i) {
            const double d = points[i].first - at;
            const double u = reach > 0.0 ? std::abs(d) / reach : 0.0;
            const double w = u < 1.0 ? std::pow(1.0 - u * u * u, 3) : (reach > 0.0 ? 0.0 : 1.0);
            s += w;
            sx += w * d;
            sy += w * points[i].second;
            sxx += w * d * d;
            sxy += w * d * points[i].second;
        }
        const double det = s * sxx - sx * sx;
        if (s <= 0.0) {
            continue;
        }
        // With one distinct x in reach the local line is their mean.
        line.x.push_back(at);
        line.y.push_back(det > 1e-12 * s * sxx ? (sxx * sy - sx * sxy) / det : sy / s);
    }
    return line;
}

}  // namespace rapporto
