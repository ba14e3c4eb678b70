#include "core/numerics/sample_quantile.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace rapporto {

using Eigen::Index;
using Eigen::VectorXd;

double sampleQuantile(std::vector<double> values, double p) {
    const double place = std::clamp(p, 0.0, 1.0) * (static_cast<double>(values.size()) - 1.0);
    const auto low = static_cast<std::ptrdiff_t>(std::floor(place));
    std::nth_element(values.begin(), values.begin() + low, values.end());
    const double a = values[static_cast<std::size_t>(low)];
    const double part = place - std::floor(place);
    if (part <= 0.0) {
        return a;
    }
    const double b = *std::min_element(values.begin() + low + 1, values.end());
    return a + part * (b - a);
}

double countedQuantile(const VectorXd& values, const VectorXd& counts, double p) {
    if (counts.size() == 0) {
        return sampleQuantile({values.data(), values.data() + values.size()}, p);
    }
    std::vector<Index> order(static_cast<std::size_t>(values.size()));
    std::iota(order.begin(), order.end(), Index{0});
    std::sort(order.begin(), order.end(), [&](Index a, Index b) { return values(a) < values(b); });
    const double place = std::clamp(p, 0.0, 1.0) * (counts.sum() - 1.0);
    const double below = std::floor(place);
    // The value of the row that stands at a place, from 0.
    double low = values(order.back());
    double high = low;
    double sum = 0.0;
    bool found = false;
    for (const Index i : order) {
        sum += counts(i);
        if (!found && sum > below) {
            low = values(i);
            found = true;
        }
        if (sum > below + 1.0) {
            high = values(i);
            break;
        }
    }
    return low + (place - below) * (high - low);
}

}  // namespace rapporto
