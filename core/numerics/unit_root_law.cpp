#include "core/numerics/unit_root_law.h"

#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

constexpr std::size_t kFewestRows = 12;
constexpr std::size_t kFewestRowsOfResiduals = 20;

/// The rising curve through places, evaluated at x; beyond its ends it goes on straight.
/// Source: Fritsch & Carlson (1980), SIAM Journal on Numerical Analysis 17; slopes by harmonic
/// means.
double along(const std::vector<double>& x, const std::vector<double>& y, double at) {
    const std::size_t n = x.size();
    const auto secant = [&](std::size_t k) { return (y[k + 1] - y[k]) / (x[k + 1] - x[k]); };
    const auto slope = [&](std::size_t k) {
        if (k == 0 || k == n - 1) {
            return secant(k == 0 ? 0 : n - 2);
        }
        const double before = secant(k - 1);
        const double after = secant(k);
        return before * after > 0.0 ? 2.0 * before * after / (before + after) : 0.0;
    };
    if (at <= x.front() || at >= x.back()) {
        const std::size_t end = at <= x.front() ? 0 : n - 1;
        return y[end] + slope(end) * (at - x[end]);
    }
    const auto k =
        static_cast<std::size_t>(std::upper_bound(x.begin(), x.end(), at) - x.begin()) - 1;
    const double h = x[k + 1] - x[k];
    const double s = (at - x[k]) / h;
    return (1.0 + 2.0 * s) * (1.0 - s) * (1.0 - s) * y[k] +
           s * (1.0 - s) * (1.0 - s) * h * slope(k) + s * s * (3.0 - 2.0 * s) * y[k + 1] +
           s * s * (s - 1.0) * h * slope(k + 1);
}

}  // namespace

std::optional<double> unitRootP(double t, int columns, Deterministic with, std::size_t rows) {
    const UnitRootTables& tables = unitRootTables();
    const auto law = std::find_if(
        tables.laws.begin(), tables.laws.end(),
        [&](const UnitRootTables::Law& one) { return one.columns == columns && one.with == with; });
    if (law == tables.laws.end() || !std::isfinite(t) ||
        rows < (columns == 1 ? kFewestRows : kFewestRowsOfResiduals)) {
        return std::nullopt;
    }
    const double u = 1.0 / static_cast<double>(rows);
    std::vector<double> quantiles;
    quantiles.reserve(law->surface.size());
    for (const auto& b : law->surface) {
        quantiles.push_back(b[0] + u * (b[1] + u * (b[2] + u * b[3])));
    }
    // Normal quantiles make both tails nearly straight.
    return normalTail(-along(quantiles, tables.normals, t));
}

std::optional<UnitRootAverage> unitRootAverage(Deterministic with, int lags, std::size_t rows) {
    const UnitRootTables& tables = unitRootTables();
    const auto found = std::find_if(
        tables.averages.begin(), tables.averages.end(),
        [&](const UnitRootTables::Averages& one) { return one.with == with && one.lags == lags; });
    if (found == tables.averages.end()) {
        return std::nullopt;
    }
    const auto n = static_cast<double>(rows);
    std::size_t after = 0;
    while (after < tables.rows.size() && tables.rows[after] < n) {
        ++after;
    }
    const std::size_t last = tables.rows.size() - 1;
    if (after > last) {  // Beyond the longest the law hardly moves.
        return UnitRootAverage{found->mean[last], found->variance[last]};
    }
    const std::size_t before = tables.rows[after] == n || after == 0 ? after : after - 1;
    if ((after == 0 && tables.rows[0] > n) || std::isnan(found->mean[before]) ||
        std::isnan(found->mean[after])) {
        return std::nullopt;
    }
    const double span = 1.0 / tables.rows[before] - 1.0 / tables.rows[after];
    const double share = span > 0.0 ? (1.0 / tables.rows[before] - 1.0 / n) / span : 0.0;
    return UnitRootAverage{
        found->mean[before] + share * (found->mean[after] - found->mean[before]),
        found->variance[before] + share * (found->variance[after] - found->variance[before])};
}

}  // namespace rapporto
