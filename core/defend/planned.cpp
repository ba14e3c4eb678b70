#include "core/defend/planned.h"

#include "core/model/effect_named.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

/// Of the law of t with as many more degrees of freedom as there are rows more.
std::optional<double> freedomWith(const Coefficient& effect, double times) {
    return effect.df ? std::optional(std::max(*effect.df * times, 1.0)) : std::nullopt;
}

/// Probability that an effect of so many errors is found: t about where it is expected, the far
/// side left out as the rule of smallestSeen() does.
double chance(double errors, double alpha, std::optional<double> df) {
    const double over = errors - criticalValue(alpha, df);
    return df ? tTail(-over, *df) : normalTail(-over);
}

}  // namespace

Result<Planned> plannedSize(const Design& design, const Fit& fit, const PlannedRequest& request,
                            double alpha) {
    const Coefficient* effect = effectNamed(fit, request.of);
    if (effect == nullptr) {
        return refuse(ErrorCode::UnknownName, "‘" + request.of + "’ is no effect of this question",
                      "how many rows",
                      "Name a term with one coefficient, or a level as zone=Ridge.");
    }
    if (!isError(effect->se, effect->estimate)) {
        return refuse(ErrorCode::BadSetting,
                      "‘" + request.of + "’ has no error that more rows could shrink",
                      "how many rows");
    }
    Planned out;
    out.of = effect->term;
    out.effect = request.effect;
    out.power = request.power;
    const double size = std::abs(request.effect);
    out.here = chance(size / effect->se, alpha, effect->df);
    // More rows, smaller errors, a law nearer to the normal one: where the chance passes the power.
    const auto chanceWith = [&](double times) {
        return chance(size / effect->se * std::sqrt(times), alpha, freedomWith(*effect, times));
    };
    double low = 1e-9;
    double high = 1e12;
    for (int step = 0; step < 200; ++step) {
        const double middle = std::sqrt(low * high);
        (chanceWith(middle) < request.power ? low : high) = middle;
    }
    const auto up = [](double x) { return std::ceil(x * (1.0 - 1e-9)); };
    out.rows = up(high * fit.n);
    if (!design.clusters.empty()) {
        const auto fewest =
            std::min_element(design.clusterCounts.begin(), design.clusterCounts.end());
        out.clusters = up(high * static_cast<double>(*fewest));
    }
    return out;
}

}  // namespace rapporto
