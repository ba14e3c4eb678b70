#include "core/model/level_parts.h"

#include <algorithm>
#include <cmath>

namespace rapporto {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

LevelsFit::Level levelWithSpreads(const DesignLevel& level, const LevelChart& chart,
                                  MatrixXd covariance) {
    LevelsFit::Level out;
    out.by = level.name;
    out.labels = level.labels;
    out.covariance = std::move(covariance);
    for (Index c = 0; c < chart.q; ++c) {
        LevelsFit::Variance v;
        v.term = c == 0 ? "(constant)" : level.slopeNames[static_cast<std::size_t>(c - 1)];
        v.variance = out.covariance(c, c);
        v.atBoundary = v.variance <= 0.0;
        out.variances.push_back(std::move(v));
    }
    for (Index a = 0; a < chart.q && chart.full; ++a) {
        for (Index b = a + 1; b < chart.q; ++b) {
            LevelsFit::Correlation r;
            r.first = static_cast<std::size_t>(a);
            r.second = static_cast<std::size_t>(b);
            const double spread = std::sqrt(out.covariance(a, a) * out.covariance(b, b));
            if (spread > 0.0) {
                r.value = std::clamp(out.covariance(a, b) / spread, -1.0, 1.0);
                r.atBoundary = std::abs(*r.value) > 1.0 - 1e-6;
            }
            out.correlations.push_back(r);
        }
    }
    out.sizes.assign(static_cast<std::size_t>(level.count), 0);
    for (const std::int32_t group : level.of) {
        ++out.sizes[static_cast<std::size_t>(group)];
    }
    return out;
}

void addParameters(const LevelsFit::Level& level, std::size_t place, bool correlations,
                   std::vector<LevelParameter>& into) {
    for (std::size_t c = 0; c < level.variances.size(); ++c) {
        into.push_back({place, static_cast<Index>(c), std::nullopt});
    }
    for (std::size_t r = 0; correlations && r < level.correlations.size(); ++r) {
        into.push_back({place, static_cast<Index>(level.correlations[r].first),
                        static_cast<Index>(level.correlations[r].second)});
    }
}

void setEnds(LevelsFit& fit, const std::vector<ProfileEnds>& ends, bool correlations) {
    const auto squared = [](std::optional<double> spread) {
        return spread ? std::optional(*spread * *spread) : spread;
    };
    auto end = ends.begin();
    for (LevelsFit::Level& level : fit.levels) {
        for (LevelsFit::Variance& v : level.variances) {
            v.low = squared(end->low);
            v.high = squared(end->high);
            ++end;
        }
        for (std::size_t r = 0; correlations && r < level.correlations.size(); ++r) {
            level.correlations[r].low = end->low;
            level.correlations[r].high = end->high;
            ++end;
        }
    }
}

void addShift(const DesignLevel& level, const MatrixXd& effects, VectorXd& shift) {
    for (std::size_t i = 0; i < level.of.size(); ++i) {
        const auto row = static_cast<Index>(i);
        shift(row) += effects(level.of[i], 0);
        for (Index s = 1; s < effects.cols(); ++s) {
            shift(row) += effects(level.of[i], s) * level.slopes(row, s - 1);
        }
    }
}

}  // namespace rapporto
