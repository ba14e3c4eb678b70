#include "core/describe/summary.h"

#include <algorithm>
#include <cmath>
#include <set>

namespace rapporto {

double sortedQuantile(const std::vector<double>& sorted, double p) {
    const double at = p * static_cast<double>(sorted.size() - 1);
    const auto below = static_cast<std::size_t>(std::floor(at));
    const std::size_t above = std::min(below + 1, sorted.size() - 1);
    return sorted[below] + (at - static_cast<double>(below)) * (sorted[above] - sorted[below]);
}

Summary summarise(std::span<const double> cells, const std::vector<bool>& use) {
    Summary out;
    std::vector<double> values;
    values.reserve(cells.size());
    for (std::size_t i = 0; i < cells.size(); ++i) {
        if (!use.empty() && !use[i]) {
            continue;
        }
        if (std::isnan(cells[i])) {
            ++out.missing;
        } else {
            values.push_back(cells[i]);
        }
    }
    out.n = values.size();
    if (values.empty()) {
        return out;
    }
    std::sort(values.begin(), values.end());
    const double n = static_cast<double>(values.size());
    for (const double x : values) {
        out.mean += x / n;
    }
    double m2 = 0.0;
    double m3 = 0.0;
    for (const double x : values) {
        const double d = x - out.mean;
        m2 += d * d;
        m3 += d * d * d;
    }
    out.sd = values.size() > 1 ? std::sqrt(m2 / (n - 1.0)) : 0.0;
    out.skewness = m2 > 0.0 ? (m3 / n) / std::pow(m2 / n, 1.5) : 0.0;
    out.low = values.front();
    out.high = values.back();
    out.lowerQuartile = sortedQuantile(values, 0.25);
    out.median = sortedQuantile(values, 0.5);
    out.upperQuartile = sortedQuantile(values, 0.75);
    return out;
}

std::vector<bool> rowsInSample(const Frame& frame) {
    std::vector<bool> in(frame.rows());
    for (std::size_t i = 0; i < in.size(); ++i) {
        in[i] = frame.states()[i] == RowState::In;
    }
    return in;
}

Histogram histogram(std::span<const double> cells, std::size_t bins) {
    Histogram out;
    double low = INFINITY;
    double high = -INFINITY;
    std::size_t n = 0;
    std::set<double> distinct;
    bool whole = true;
    for (const double x : cells) {
        if (std::isnan(x)) {
            continue;
        }
        low = std::min(low, x);
        high = std::max(high, x);
        whole = whole && x == std::floor(x);
        ++n;
        if (distinct.size() <= 30) {
            distinct.insert(x);
        }
    }
    if (n == 0) {
        return out;
    }
    if (bins == 0 && whole && high - low < 30.0) {
        out.from = low - 0.5;
        out.counts.assign(static_cast<std::size_t>(high - low) + 1, 0);
    } else {
        if (bins == 0) {
            const Summary s = summarise(cells);
            const double width =
                2.0 * (s.upperQuartile - s.lowerQuartile) / std::cbrt(static_cast<double>(n));
            bins = width > 0.0
                       ? static_cast<std::size_t>(std::clamp((high - low) / width, 5.0, 40.0))
                       : 10;
        }
        if (high == low) {
            bins = 1;
        }
        out.from = low;
        out.width = high > low ? (high - low) / static_cast<double>(bins) : 1.0;
        out.counts.assign(bins, 0);
    }
    for (const double x : cells) {
        if (!std::isnan(x)) {
            const auto bin = static_cast<std::size_t>(std::max((x - out.from) / out.width, 0.0));
            ++out.counts[std::min(bin, out.counts.size() - 1)];
        }
    }
    return out;
}

}  // namespace rapporto
