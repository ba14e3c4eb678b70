#include "core/describe/autocorrelation.h"

#include "core/base/format.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

/// Deviations from the mean of the unit, NaN where there is none.
std::vector<double> deviations(const TimeOrder& order, std::span<const double> cells) {
    std::vector<double> out(cells.size(), std::nan(""));
    for (std::size_t u = 0; u + 1 < order.units.starts.size(); ++u) {
        double sum = 0.0;
        double n = 0.0;
        for (const std::uint32_t row : order.units.group(u)) {
            if (!std::isnan(cells[row])) {
                sum += cells[row];
                n += 1.0;
            }
        }
        for (const std::uint32_t row : order.units.group(u)) {
            out[row] = cells[row] - sum / n;
        }
    }
    return out;
}

struct Sizes {
    double n = 0.0;
    double squares = 0.0;
    std::vector<double> ofUnits;
};

Sizes sizesOf(const TimeOrder& order, const std::vector<double>& d) {
    Sizes out;
    for (std::size_t u = 0; u + 1 < order.units.starts.size(); ++u) {
        double n = 0.0;
        for (const std::uint32_t row : order.units.group(u)) {
            if (!std::isnan(d[row])) {
                n += 1.0;
                out.squares += d[row] * d[row];
            }
        }
        out.n += n;
        out.ofUnits.push_back(n);
    }
    return out;
}

double possiblePairs(const Sizes& sizes, double lag) {
    double sum = 0.0;
    for (const double n : sizes.ofUnits) {
        sum += std::max(n - lag, 0.0);
    }
    return sum;
}

/// Mean product of `late` with `early` that many moments before, times possible pairs over n.
double product(const TimeOrder& order, const std::vector<double>& early,
               const std::vector<double>& late, std::int64_t lag, const Sizes& sizes) {
    const std::vector<std::int32_t> before = order.shifted(lag);
    double sum = 0.0;
    double present = 0.0;
    for (std::size_t i = 0; i < late.size(); ++i) {
        if (before[i] >= 0 && !std::isnan(late[i]) &&
            !std::isnan(early[static_cast<std::size_t>(before[i])])) {
            sum += late[i] * early[static_cast<std::size_t>(before[i])];
            present += 1.0;
        }
    }
    const double possible = possiblePairs(sizes, static_cast<double>(std::abs(lag)));
    return present > 0.0 ? sum / present * possible / sizes.n : 0.0;
}

}  // namespace

Autocorrelations autocorrelations(const TimeOrder& order, std::span<const double> cells,
                                  std::size_t lags) {
    Autocorrelations out;
    const std::vector<double> d = deviations(order, cells);
    const Sizes sizes = sizesOf(order, d);
    out.n = static_cast<std::size_t>(sizes.n);
    if (!(sizes.squares > 0.0)) {
        return out;
    }
    for (std::size_t k = 1; k <= lags; ++k) {
        out.r.push_back(product(order, d, d, static_cast<std::int64_t>(k), sizes) * sizes.n /
                        sizes.squares);
    }
    std::vector<double> phi;
    double rest = 1.0;
    for (std::size_t k = 0; k < lags; ++k) {
        double top = out.r[k];
        for (std::size_t j = 0; j < phi.size(); ++j) {
            top -= phi[j] * out.r[k - 1 - j];
        }
        const double own = rest > 1e-12 ? top / rest : 0.0;
        std::vector<double> next(k + 1);
        for (std::size_t j = 0; j < k; ++j) {
            next[j] = phi[j] - own * phi[k - 1 - j];
        }
        next[k] = own;
        phi = std::move(next);
        rest *= 1.0 - own * own;
        out.partial.push_back(own);
    }
    const std::size_t counted =
        std::min(lags, std::max<std::size_t>(1, std::min<std::size_t>(10, out.n / 5)));
    for (std::size_t k = 1; k <= counted; ++k) {
        out.q += out.r[k - 1] * out.r[k - 1] / (sizes.n - static_cast<double>(k));
    }
    out.q *= sizes.n * (sizes.n + 2.0);
    out.df = static_cast<double>(counted);
    out.p = chiSquareTail(out.q, out.df);
    return out;
}

std::vector<double> crossCorrelations(const TimeOrder& order, std::span<const double> x,
                                      std::span<const double> y, std::size_t lags) {
    // Rows that have both.
    std::vector<double> a(x.begin(), x.end());
    std::vector<double> b(y.begin(), y.end());
    for (std::size_t i = 0; i < a.size(); ++i) {
        if (std::isnan(a[i]) || std::isnan(b[i])) {
            a[i] = b[i] = std::nan("");
        }
    }
    a = deviations(order, a);
    b = deviations(order, b);
    const Sizes sa = sizesOf(order, a);
    const Sizes sb = sizesOf(order, b);
    std::vector<double> out;
    const double scale = std::sqrt(sa.squares * sb.squares) / sa.n;
    for (auto k = -static_cast<std::int64_t>(lags); k <= static_cast<std::int64_t>(lags); ++k) {
        out.push_back(scale > 0.0 ? product(order, a, b, k, sa) / scale : 0.0);
    }
    return out;
}

Exhibit correlogram(const std::vector<double>& r, int firstLag, double bound) {
    Exhibit e;
    e.zeroLine = true;
    e.xTitle = "lag";
    for (std::size_t k = 0; k < r.size(); ++k) {
        const double at = firstLag + static_cast<double>(k);
        e.bars.push_back({at - 0.07, at + 0.07, std::min(r[k], 0.0), std::max(r[k], 0.0)});
        e.bars.back().says = "lag " + fixedNumber(at, 0) + ": " + fixedNumber(r[k], 3, true);
    }
    // Lags are whole: no number stands between them.
    const std::size_t every = (r.size() + 12) / 13;
    for (std::size_t k = 0; k < r.size(); ++k) {
        if (const int lag = firstLag + static_cast<int>(k); lag % static_cast<int>(every) == 0) {
            e.xTicks.push_back({static_cast<double>(lag), fixedNumber(lag, 0)});
        }
    }
    const double from = firstLag - 0.5;
    const double to = firstLag + static_cast<double>(r.size()) - 0.5;
    e.bands.push_back({"", {from, to}, {-bound, -bound}, {bound, bound}});
    return e;
}

}  // namespace rapporto
