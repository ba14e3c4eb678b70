#include "core/model/smallest_seen.h"

#include "core/numerics/distributions.h"

#include <cmath>

namespace rapporto {

std::optional<double> smallestSeen(const Coefficient& effect, double alpha) {
    if (!std::isfinite(effect.se) || effect.se <= 0.0) {
        return std::nullopt;
    }
    // Two tails of .4 together leave .8 below the upper one.
    constexpr double kTails = 0.4;
    return (criticalValue(alpha, effect.df) + criticalValue(kTails, effect.df)) * effect.se;
}

}  // namespace rapporto
