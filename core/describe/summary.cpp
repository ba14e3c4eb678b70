#include "core/describe/summary.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numeric>

namespace rapporto {

double sortedQuantile(const std::vector<double>& sorted, double p) {
    const double at = p * static_cast<double>(sorted.size() - 1);
    const auto below = static_cast<std::size_t>(std::floor(at));
    const std::size_t above = std::min(below + 1, sorted.size() - 1);
    return sorted[below] + (at - static_cast<double>(below)) * (sorted[above] - sorted[below]);
}

void setShape(Summary& summary, double squares, double cubes, double fourths) {
    const double n = static_cast<double>(summary.n);
    const double m2 = squares / n;
    summary.sd = summary.n > 1 ? std::sqrt(squares / (n - 1.0)) : 0.0;
    summary.skewness = squares > 0.0 ? (cubes / n) / std::pow(m2, 1.5) : 0.0;
    summary.kurtosis = squares > 0.0 ? (fourths / n) / (m2 * m2) - 3.0 : 0.0;
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
    // What rounding left, of values far from zero above all.
    out.mean += std::accumulate(values.begin(), values.end(), 0.0,
                                [&](double sum, double x) { return sum + (x - out.mean); }) /
                n;
    double m2 = 0.0;
    double m3 = 0.0;
    double m4 = 0.0;
    for (const double x : values) {
        const double d = x - out.mean;
        m2 += d * d;
        m3 += d * d * d;
        m4 += d * d * d * d;
    }
    setShape(out, m2, m3, m4);
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
    out.mean += std::accumulate(values.begin(), values.end(), 0.0,
                                [&](double sum, const auto& one) {
                                    return sum + one.second * (one.first - out.mean);
                                }) /
                total;
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

constexpr std::array kSteps = {1.0, 0.5, 0.25, 0.1, 0.05};

/// The coarsest step that all values are multiples of; 0: none.
double commonStep(std::span<const double> cells) {
    for (const double step : kSteps) {
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

std::span<const double> commonSteps() { return kSteps; }

std::size_t Histogram::binOf(double x) const {
    return std::min(static_cast<std::size_t>(std::max((x - from) / width, 0.0)), counts.size() - 1);
}

Histogram binsFor(const BinFacts& facts, std::size_t bins) {
    Histogram out;
    const double range = facts.high - facts.low;
    if (facts.n == 0) {
        return out;
    }
    if (bins == 0 && facts.eachItsOwn()) {
        out.from = facts.low - 0.5;
        out.counts.assign(static_cast<std::size_t>(range) + 1, 0);
        return out;
    }
    double step = 0.0;
    if (bins == 0) {
        const double width = 2.0 * facts.quartileRange / std::cbrt(static_cast<double>(facts.n));
        bins = width > 0.0 ? static_cast<std::size_t>(std::clamp(range / width, 5.0, 40.0)) : 10;
        step = facts.step;
    }
    // Bins that hold now two and now three possible values would make teeth.
    const double plain = range / static_cast<double>(bins);
    const double wide = step > 0.0 ? std::ceil(plain / step - 1e-9) * step : 0.0;
    if (range > 0.0 && step > 0.0 && wide <= 4.0 * plain) {
        out.from = facts.low - 0.5 * step;
        out.width = wide;
        out.counts.assign(static_cast<std::size_t>(std::floor((facts.high - out.from) / wide)) + 1,
                          0);
        return out;
    }
    out.from = facts.low;
    out.width = range > 0.0 ? range / static_cast<double>(bins) : 1.0;
    out.counts.assign(range > 0.0 ? bins : 1, 0);
    return out;
}

Histogram histogram(std::span<const double> cells, std::size_t bins) {
    BinFacts facts{0, INFINITY, -INFINITY, true};
    for (const double x : cells) {
        if (std::isnan(x)) {
            continue;
        }
        facts.low = std::min(facts.low, x);
        facts.high = std::max(facts.high, x);
        facts.whole = facts.whole && x == std::floor(x);
        ++facts.n;
    }
    if (bins == 0 && facts.n > 0 && !facts.eachItsOwn()) {
        const Summary s = summarise(cells);
        facts.quartileRange = s.upperQuartile - s.lowerQuartile;
        facts.step = commonStep(cells);
    }
    Histogram out = binsFor(facts, bins);
    for (const double x : cells) {
        if (!std::isnan(x)) {
            ++out.counts[out.binOf(x)];
        }
    }
    return out;
}

}  // namespace rapporto
