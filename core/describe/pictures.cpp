#include "core/describe/pictures.h"

#include "core/base/format.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <numbers>
#include <numeric>

namespace rapporto {
namespace {

double normalDensity(double z) {
    return std::exp(-0.5 * z * z) / std::sqrt(2.0 * std::numbers::pi);
}

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

/// Rows in the sample that have a value, ascending by it.
struct Ordered {
    std::vector<double> values;
    std::vector<std::size_t> rows;
};

Ordered orderedIn(const Frame& frame, const std::string& name) {
    const auto cells = frame.column(name)->numbers();
    Ordered out;
    for (std::size_t i = 0; i < cells.size(); ++i) {
        if (frame.states()[i] == RowState::In && !std::isnan(cells[i])) {
            out.rows.push_back(i);
        }
    }
    std::stable_sort(out.rows.begin(), out.rows.end(),
                     [&](std::size_t a, std::size_t b) { return cells[a] < cells[b]; });
    for (const std::size_t row : out.rows) {
        out.values.push_back(cells[row]);
    }
    return out;
}

std::string titled(const Variable& v) { return v.shown() + (v.unit.empty() ? "" : ", " + v.unit); }

std::string percent(double alpha) { return shortNumber(100.0 * (1.0 - alpha), 3) + " %"; }

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

Density densityOf(std::span<const double> cells, double bandwidth) {
    Density out;
    out.bandwidth = bandwidth;
    const std::vector<double> values = presentIn(cells);
    if (values.empty() || !(bandwidth > 0.0)) {
        return out;
    }
    const auto [low, high] = std::minmax_element(values.begin(), values.end());
    constexpr int kPlaces = 201;
    const double from = *low - 3.0 * bandwidth;
    const double to = *high + 3.0 * bandwidth;
    // Many values are counted into narrow bins first: a tenth of the bandwidth is not to be seen.
    std::vector<std::pair<double, double>> masses;
    if (values.size() > 5000) {
        const double width = bandwidth / 10.0;
        const auto bins = static_cast<std::size_t>((*high - *low) / width) + 1;
        if (bins < values.size()) {
            std::vector<double> counts(bins, 0.0);
            for (const double x : values) {
                counts[std::min(static_cast<std::size_t>((x - *low) / width), bins - 1)] += 1.0;
            }
            for (std::size_t k = 0; k < bins; ++k) {
                if (counts[k] > 0.0) {
                    masses.emplace_back(*low + (static_cast<double>(k) + 0.5) * width, counts[k]);
                }
            }
        }
    }
    if (masses.empty()) {
        for (const double x : values) {
            masses.emplace_back(x, 1.0);
        }
    }
    for (int k = 0; k < kPlaces; ++k) {
        const double x = from + (to - from) * k / (kPlaces - 1);
        double sum = 0.0;
        for (const auto& [at, mass] : masses) {
            sum += mass * normalDensity((x - at) / bandwidth);
        }
        out.x.push_back(x);
        out.y.push_back(sum / (static_cast<double>(values.size()) * bandwidth));
    }
    return out;
}

Exhibit quantilePlot(const Frame& frame, const std::string& name, double alpha) {
    Exhibit e;
    const Variable& v = *frame.variable(name);
    const Ordered all = orderedIn(frame, name);
    const auto n = static_cast<double>(all.values.size());
    e.title = v.shown() + " against a normal law";
    e.subtitle = "n = " + countText(all.values.size()) + " · line through the quartiles, " +
                 percent(alpha) + " band for each point";
    e.xTitle = "normal quantile";
    e.yTitle = titled(v);
    if (all.values.size() < 3) {
        return e;
    }
    e.y = all.values;
    e.rows = all.rows;
    for (std::size_t i = 0; i < all.values.size(); ++i) {
        e.x.push_back(normalQuantile((static_cast<double>(i) + 1.0 - 0.375) / (n + 0.25)));
    }
    const double low = sortedQuantile(all.values, 0.25);
    const double high = sortedQuantile(all.values, 0.75);
    const double slope = (high - low) / (normalQuantile(0.75) - normalQuantile(0.25));
    const double middle = 0.5 * (low + high);
    Exhibit::Line line{"normal", {}, {}, false};
    Exhibit::Line lower{"", {}, {}, true};
    Exhibit::Line upper{"", {}, {}, true};
    const double z = normalQuantile(1.0 - alpha / 2.0);
    constexpr int kPlaces = 81;
    for (int k = 0; k < kPlaces; ++k) {
        const double x = e.x.front() + (e.x.back() - e.x.front()) * k / (kPlaces - 1);
        const double p = normalTail(-x);
        const double reach = z * slope / normalDensity(x) * std::sqrt(p * normalTail(x) / n);
        for (auto [into, shift] :
             {std::pair{&line, 0.0}, std::pair{&lower, -reach}, std::pair{&upper, reach}}) {
            into->x.push_back(x);
            into->y.push_back(middle + slope * x + shift);
        }
    }
    e.lines = {line, lower, upper};
    return e;
}

Exhibit empiricalDistribution(const Frame& frame, const std::string& name, double alpha) {
    Exhibit e;
    const Variable& v = *frame.variable(name);
    const Ordered all = orderedIn(frame, name);
    const auto n = static_cast<double>(all.values.size());
    e.title = "Share of rows at or below a value of " + v.shown();
    e.subtitle = "n = " + countText(all.values.size()) + " · " + percent(alpha) +
                 " band for the whole curve";
    e.xTitle = titled(v);
    e.yTitle = "share of rows";
    if (all.values.empty()) {
        return e;
    }
    const double reach = std::sqrt(std::log(2.0 / alpha) / (2.0 * n));
    Exhibit::Line steps{"", {}, {}, false};
    Exhibit::Line lower{"", {}, {}, true};
    Exhibit::Line upper{"", {}, {}, true};
    double before = 0.0;
    for (std::size_t i = 0; i < all.values.size();) {
        std::size_t j = i;
        while (j < all.values.size() && all.values[j] == all.values[i]) {
            e.x.push_back(all.values[j]);
            e.rows.push_back(all.rows[j]);
            ++j;
        }
        const double share = static_cast<double>(j) / n;
        e.y.resize(j, share);
        for (const double height : {before, share}) {
            steps.x.push_back(all.values[i]);
            steps.y.push_back(height);
            lower.x.push_back(all.values[i]);
            lower.y.push_back(std::max(height - reach, 0.0));
            upper.x.push_back(all.values[i]);
            upper.y.push_back(std::min(height + reach, 1.0));
        }
        before = share;
        i = j;
    }
    e.lines = {steps, lower, upper};
    return e;
}

Exhibit byGroups(const Frame& frame, const std::string& quantity, const std::string& groups,
                 double alpha) {
    Exhibit e;
    const Column& y = *frame.column(quantity);
    const Column& g = *frame.column(groups);
    const Variable& v = *frame.variable(quantity);
    const Variable& by = *frame.variable(groups);
    constexpr std::size_t kMost = 30;
    std::map<double, std::size_t> place;
    for (const FoundLevel& level : levelsOf(g, by)) {
        if (place.size() < kMost) {
            place.emplace(level.code, place.size());
            e.xNames.push_back(level.label);
        }
    }
    std::vector<std::vector<double>> values(place.size());
    for (std::size_t i = 0; i < frame.rows(); ++i) {
        if (frame.states()[i] != RowState::In || y.isMissing(i) || g.isMissing(i)) {
            continue;
        }
        const auto at = place.find(g.isText() ? g.codes()[i] : g.numbers()[i]);
        if (at == place.end()) {
            continue;
        }
        // A pattern without random numbers: the golden ratio spreads neighbours evenly.
        auto& group = values[at->second];
        const double turn = static_cast<double>(group.size()) * std::numbers::phi;
        e.x.push_back(static_cast<double>(at->second) + 1.0 +
                      0.26 * (turn - std::floor(turn) - 0.5));
        e.y.push_back(y.numbers()[i]);
        e.rows.push_back(i);
        group.push_back(y.numbers()[i]);
    }
    e.title = v.shown() + " by " + by.shown();
    e.subtitle = "n = " + countText(e.x.size()) + " · boxes: quartiles · at their right: mean, " +
                 percent(alpha);
    e.xTitle = by.shown();
    e.yTitle = titled(v);
    for (std::size_t k = 0; k < values.size(); ++k) {
        if (values[k].empty()) {
            continue;
        }
        const Summary s = summarise(values[k]);
        const double at = static_cast<double>(k) + 1.0;
        const double l = at - 0.2;
        const double r = at + 0.2;
        e.lines.push_back(
            {"",
             {l, r, r, l, l},
             {s.lowerQuartile, s.lowerQuartile, s.upperQuartile, s.upperQuartile, s.lowerQuartile},
             false});
        e.lines.push_back({"", {l, r}, {s.median, s.median}, false});
        const auto n = static_cast<double>(values[k].size());
        const double reach =
            values[k].size() > 1 ? criticalValue(alpha, n - 1.0) * s.sd / std::sqrt(n) : 0.0;
        const double m = at + 0.3;
        e.lines.push_back({"", {m, m}, {s.mean - reach, s.mean + reach}, false});
        e.lines.push_back({"", {m - 0.04, m + 0.04}, {s.mean, s.mean}, false});
    }
    return e;
}

}  // namespace rapporto
