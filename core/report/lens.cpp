#include "core/report/lens.h"

#include "core/numerics/distributions.h"

namespace rapporto {

std::vector<LensPoint> lensOutline(const Coefficient& effect, int steps) {
    std::vector<LensPoint> points;
    if (!(effect.se > 0.0)) {
        return points;
    }
    const double reach = criticalValue(0.001, effect.df);
    for (int i = 0; i <= steps; ++i) {
        const double t = reach * (2.0 * i / steps - 1.0);
        points.push_back({effect.estimate + t * effect.se, twoSidedP(t, effect.df)});
    }
    return points;
}

}  // namespace rapporto
