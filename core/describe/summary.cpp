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
    double m4 = 0.0;
    for (const double x : values) {
        const double d = x - out.mean;
        m2 += d * d;
        m3 += d * d * d;
        m4 += d * d * d * d;
    }
    out.sd = values.size() > 1 ? std::sqrt(m2 / (n - 1.0)) : 0.0;
    out.skewness = m2 > 0.0 ? (m3 / n) / std::pow(m2 / n, 1.5) : 0.0;
    out.kurtosis = m2 > 0.0 ? (m4 / n) / ((m2 / n) * (m2 / n)) - 3.0 : 0.0;
    out.low = values.front();
    out.high = values.back();
    out.lowerQuartile = sortedQuantile(values, 0.25);
    out.median = sortedQuantile(values, 0.5);
    out.upperQuartile = sortedQuantile(values, 0.75);
    return out;
}

Summary summariseWeighted(std::span<const double> cells, std::span<const double> weights) {
    Summary out;
    std::vector<std::pair<double, double>> values;
    for (std::size_t i = 0; i < cells.size(); ++i) {
        if (std::isnan(cells[i])) {
            ++out.missing;
        } else if (weights[i] > 0.0) {
            values.emplace_back(cells[i], weights[i]);
        }
    }
    out.n = values.size();
    if (values.empty()) {
        return out;
    }
    std::sort(values.begin(), values.end());
    double total = 0.0;
    for (const auto& [x, w] : values) {
        total += w;
        out.mean += w * x;
    }
    out.mean /= total;
    double m2 = 0.0;
    double m3 = 0.0;
    double m4 = 0.0;
    for (const auto& [x, w] : values) {
        const double d = x - out.mean;
        m2 += w * d * d / total;
        m3 += w * d * d * d / total;
        m4 += w * d * d * d * d / total;
    }
    const double n = static_cast<double>(values.size());
    out.sd = values.size() > 1 ? std::sqrt(m2 * n / (n - 1.0)) : 0.0;
    out.skewness = m2 > 0.0 ? m3 / std::pow(m2, 1.5) : 0.0;
    out.kurtosis = m2 > 0.0 ? m4 / (m2 * m2) - 3.0 : 0.0;
    out.low = values.front().first;
    out.high = values.back().first;
    const double ends = 0.5 * (values.front().second + values.back().second);
    const double reach = total - ends;
    std::size_t k = 0;
    double place = 0.0;  // Of value k, from 0 to 1.
    double next = 0.0;
    const auto quantile = [&](double p) {
        while (k + 1 < values.size()) {
            next = place + 0.5 * (values[k].second + values[k + 1].second) / reach;
            if (next >= p) {
                break;
            }
            place = next;
            ++k;
        }
        if (k + 1 >= values.size()) {
            return values.back().first;
        }
        const double share = next > place ? (p - place) / (next - place) : 0.0;
        return values[k].first + share * (values[k + 1].first - values[k].first);
    };
    out.lowerQuartile = quantile(0.25);
    out.median = quantile(0.5);
    out.upperQuartile = quantile(0.75);
    return out;
}

std::vector<bool> rowsInSample(const Frame& frame) {
    std::vector<bool> in(frame.rows());
    for (std::size_t i = 0; i < in.size(); ++i) {
        in[i] = frame.states()[i] == RowState::In;
    }
    return in;
}

namespace {

/// The coarsest of 1, 0.5, 0.25, 0.1 and 0.05 that all values are multiples of; 0: none.
double commonStep(std::span<const double> cells) {
    for (const double step : {1.0, 0.5, 0.25, 0.1, 0.05}) {
        if (std::all_of(cells.begin(), cells.end(), [step](double x) {
                return std::isnan(x) ||
                       std::abs(x / step - std::round(x / step)) < 1e-9 * (1.0 + std::abs(x));
            })) {
            return step;
        }
    }
    return 0.0;
}

}  // namespace

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
        double step = 0.0;  // Of values that are all multiples of one.
        if (bins == 0) {
            const Summary s = summarise(cells);
            const double width =
                2.0 * (s.upperQuartile - s.lowerQuartile) / std::cbrt(static_cast<double>(n));
            bins = width > 0.0
                       ? static_cast<std::size_t>(std::clamp((high - low) / width, 5.0, 40.0))
                       : 10;
            step = commonStep(cells);
        }
        // Bins that hold now two and now three possible values would make teeth.
        const double plain = (high - low) / static_cast<double>(bins);
        const double wide = step > 0.0 ? std::ceil(plain / step - 1e-9) * step : 0.0;
        if (high > low && step > 0.0 && wide <= 4.0 * plain) {
            out.from = low - 0.5 * step;
            out.width = wide;
            out.counts.assign(static_cast<std::size_t>(std::floor((high - out.from) / wide)) + 1,
                              0);
            bins = 0;
        }
        if (bins > 0) {
            bins = high == low ? 1 : bins;
            out.from = low;
            out.width = high > low ? (high - low) / static_cast<double>(bins) : 1.0;
            out.counts.assign(bins, 0);
        }
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
