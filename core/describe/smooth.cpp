#include "core/describe/smooth.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace rapporto {
namespace {

struct Point {
    double x = 0.0;
    double y = 0.0;
    double weight = 1.0;
    double trust = 1.0;  ///< Of the robustness iterations.

    friend bool operator<(const Point& a, const Point& b) {
        return a.x < b.x || (a.x == b.x && a.y < b.y);
    }
};

/// What one place takes from the points.
struct Local {
    double y = 0.0;
    double own = 0.0;    ///< Share of its own y that a point of weight one here would take.
    double norm2 = 0.0;  ///< ‖l‖².
    bool there = false;
};

/// The line through the nearest points of `points`, ascending in x, at the place of point `rank`.
Local localAt(const std::vector<Point>& points, std::size_t rank, std::size_t near, bool norm) {
    const std::size_t n = points.size();
    const double at = points[rank].x;
    // The window of the nearest points slides along the sorted x.
    std::size_t from = rank > near ? rank - near : 0;
    while (from + near < n && points[from + near].x - at < at - points[from].x) {
        ++from;
    }
    const double reach = std::max(at - points[from].x, points[from + near - 1].x - at);
    const auto kernel = [&](double d) {
        if (!(reach > 0.0)) {
            return 1.0;
        }
        const double u = std::abs(d) / reach;
        const double v = 1.0 - u * u * u;
        return u < 1.0 ? v * v * v : 0.0;
    };
    double s = 0.0;
    double sx = 0.0;
    double sy = 0.0;
    double sxx = 0.0;
    double sxy = 0.0;
    for (std::size_t i = from; i < from + near; ++i) {
        const double d = points[i].x - at;
        const double w = kernel(d) * points[i].weight * points[i].trust;
        s += w;
        sx += w * d;
        sy += w * points[i].y;
        sxx += w * d * d;
        sxy += w * d * points[i].y;
    }
    Local out;
    if (!(s > 0.0)) {
        return out;
    }
    out.there = true;
    // With one distinct x in reach the local line is their mean.
    const double det = s * sxx - sx * sx;
    const bool line = det > 1e-12 * s * sxx;
    out.y = line ? (sxx * sy - sx * sxy) / det : sy / s;
    out.own = line ? sxx / det : 1.0 / s;
    for (std::size_t i = from; norm && i < from + near; ++i) {
        const double d = points[i].x - at;
        const double w = kernel(d) * points[i].weight * points[i].trust;
        const double l = line ? w * (sxx - sx * d) / det : w / s;
        out.norm2 += l * l;
    }
    return out;
}

/// Values at places, straight between them, for points ascending in x.
std::vector<double> between(const std::vector<double>& x, const std::vector<double>& values,
                            const std::vector<Point>& points) {
    std::vector<double> out(points.size());
    std::size_t k = 0;
    for (std::size_t i = 0; i < points.size(); ++i) {
        while (k + 1 < x.size() && x[k + 1] < points[i].x) {
            ++k;
        }
        if (k + 1 == x.size() || points[i].x <= x[k]) {
            out[i] = values[points[i].x <= x[k] ? k : x.size() - 1];
            continue;
        }
        const double share = (points[i].x - x[k]) / (x[k + 1] - x[k]);
        out[i] = share == 1.0 ? values[k + 1] : values[k] + share * (values[k + 1] - values[k]);
    }
    return out;
}

/// Bisquare weights of residuals over six times their median; false where that is zero.
bool distrust(std::vector<Point>& points, const std::vector<double>& fitted) {
    std::vector<double> sizes(points.size());
    for (std::size_t i = 0; i < points.size(); ++i) {
        sizes[i] = std::abs(points[i].y - fitted[i]);
    }
    std::vector<double> sorted = sizes;
    const std::size_t half = sorted.size() / 2;
    std::nth_element(sorted.begin(), sorted.begin() + static_cast<std::ptrdiff_t>(half),
                     sorted.end());
    double median = sorted[half];
    if (sorted.size() % 2 == 0) {
        median =
            0.5 * (median + *std::max_element(sorted.begin(),
                                              sorted.begin() + static_cast<std::ptrdiff_t>(half)));
    }
    if (!(median > 0.0)) {
        return false;
    }
    for (std::size_t i = 0; i < points.size(); ++i) {
        const double u = sizes[i] / (6.0 * median);
        points[i].trust = u < 1.0 ? (1.0 - u * u) * (1.0 - u * u) : 0.0;
    }
    return true;
}

}  // namespace

LocalSmooth localSmooth(std::span<const double> x, std::span<const double> y,
                        std::span<const double> weights, const SmoothSettings& settings) {
    constexpr std::size_t kMostPoints = 20000;
    constexpr std::size_t kMostPlaces = 400;
    constexpr std::size_t kPlacesOfMany = 120;
    LocalSmooth out;
    const std::size_t stride = (x.size() + kMostPoints - 1) / kMostPoints;
    std::vector<Point> points;
    for (std::size_t i = 0; i < x.size(); i += std::max<std::size_t>(stride, 1)) {
        const double w = weights.empty() ? 1.0 : weights[i];
        if (w > 0.0) {
            points.push_back({x[i], y[i], w});
        }
    }
    std::sort(points.begin(), points.end());
    const std::size_t n = points.size();
    if (n < 5 || points.front().x == points.back().x) {
        return out;
    }
    const std::size_t near = std::clamp<std::size_t>(
        static_cast<std::size_t>(settings.span * static_cast<double>(n)), 4, n);
    std::vector<std::size_t> places;
    for (std::size_t i = 0; i < n && places.size() <= kMostPlaces; ++i) {
        if (i == 0 || points[i].x != points[i - 1].x) {
            places.push_back(i);
        }
    }
    if (places.size() > kMostPlaces) {
        places.clear();
        for (std::size_t p = 0; p < kPlacesOfMany; ++p) {
            const std::size_t rank = p * (n - 1) / (kPlacesOfMany - 1);
            if (places.empty() || points[rank].x > points[places.back()].x) {
                places.push_back(rank);
            }
        }
    }
    std::vector<double> own;
    std::vector<double> norm2;
    for (int turn = 0;; ++turn) {
        out.x.clear();
        out.y.clear();
        own.clear();
        norm2.clear();
        for (const std::size_t rank : places) {
            if (const Local local = localAt(points, rank, near, settings.band); local.there) {
                out.x.push_back(points[rank].x);
                out.y.push_back(local.y);
                own.push_back(local.own);
                norm2.push_back(local.norm2);
            }
        }
        if (turn == settings.robustness || out.x.empty() ||
            !distrust(points, between(out.x, out.y, points))) {
            break;
        }
    }
    if (!settings.band || settings.robustness > 0 || !weights.empty() || out.x.empty()) {
        return out;
    }
    const auto fitted = between(out.x, out.y, points);
    const auto shares = between(out.x, own, points);
    const auto norms = between(out.x, norm2, points);
    double rss = 0.0;
    double delta = static_cast<double>(n);
    for (std::size_t i = 0; i < n; ++i) {
        rss += (points[i].y - fitted[i]) * (points[i].y - fitted[i]);
        delta += norms[i] - 2.0 * shares[i];
    }
    if (delta > 1.0) {
        out.df = delta;
        for (const double one : norm2) {
            out.se.push_back(std::sqrt(rss / delta * one));
        }
    }
    return out;
}

Exhibit::Line localLine(const std::vector<double>& x, const std::vector<double>& y, double span,
                        const std::string& name) {
    LocalSmooth smooth = localSmooth(x, y, {}, {span, 0, false});
    return {name, std::move(smooth.x), std::move(smooth.y)};
}

}  // namespace rapporto
