#include "core/describe/calculator.h"

#include "core/base/format.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

bool isOneSided(const Law& law) { return law.kind == LawKind::ChiSquare || law.kind == LawKind::F; }

std::optional<Refusal> wrongDf(const Law& law) {
    const bool first = law.kind != LawKind::Normal && !(law.df1 > 0.0);
    const bool second = law.kind == LawKind::F && !(law.df2 > 0.0);
    if (first || second) {
        return Refusal{ErrorCode::BadSetting, "degrees of freedom are above zero", "", "", {}};
    }
    return std::nullopt;
}

double upper(const Law& law, double x) {
    switch (law.kind) {
        case LawKind::Normal:
            return normalTail(x);
        case LawKind::T:
            return tTail(x, law.df1);
        case LawKind::ChiSquare:
            return chiSquareTail(x, law.df1);
        default:
            return fTail(x, law.df1, law.df2);
    }
}

double upperCritical(const Law& law, double p) {
    switch (law.kind) {
        // The two-sided value of twice p keeps its digits for a small p; above a half by symmetry.
        case LawKind::Normal:
            return p <= 0.5 ? criticalValue(2.0 * p, std::nullopt)
                            : -criticalValue(2.0 * (1.0 - p), std::nullopt);
        case LawKind::T:
            return p <= 0.5 ? criticalValue(2.0 * p, law.df1)
                            : -criticalValue(2.0 * (1.0 - p), law.df1);
        case LawKind::ChiSquare:
            return chiSquareCritical(p, law.df1);
        default:
            return fCritical(p, law.df1, law.df2);
    }
}

double density(const Law& law, double x) {
    switch (law.kind) {
        case LawKind::Normal:
            return normalDensity(x);
        case LawKind::T:
            return tDensity(x, law.df1);
        case LawKind::ChiSquare:
            return chiSquareDensity(x, law.df1);
        default:
            return fDensity(x, law.df1, law.df2);
    }
}

}  // namespace

Result<double> probabilityBeyond(const Law& law, Tail tail, double statistic) {
    if (const auto wrong = wrongDf(law)) {
        return tl::make_unexpected(*wrong);
    }
    if (std::isnan(statistic)) {
        return refuse(ErrorCode::BadSetting, "the statistic is no number");
    }
    if (isOneSided(law) || tail == Tail::Upper) {
        return upper(law, statistic);
    }
    return tail == Tail::Lower ? upper(law, -statistic) : 2.0 * upper(law, std::abs(statistic));
}

Result<double> statisticFor(const Law& law, Tail tail, double p) {
    if (const auto wrong = wrongDf(law)) {
        return tl::make_unexpected(*wrong);
    }
    if (!(p > 0.0) || !(p < 1.0)) {
        return refuse(ErrorCode::BadSetting, "p lies between 0 and 1");
    }
    if (isOneSided(law) || tail == Tail::Upper) {
        return upperCritical(law, p);
    }
    return tail == Tail::Lower ? -upperCritical(law, p) : upperCritical(law, p / 2.0);
}

Exhibit lawPicture(const Law& law, Tail tail, double statistic) {
    Exhibit e;
    e.fromZero = true;
    e.yTicks = {{0.0, ""}};
    if (wrongDf(law) || !std::isfinite(statistic)) {
        return e;
    }
    const bool oneSided = isOneSided(law);
    const double far = std::max(upperCritical(law, 0.002), std::abs(statistic) * 1.1);
    const double from = oneSided ? 0.0 : -far;
    constexpr int kPlaces = 241;
    Exhibit::Line line;
    for (int k = 0; k < kPlaces; ++k) {
        const double x = from + (far - from) * k / (kPlaces - 1);
        const double y = density(law, x);
        // A pole at zero is drawn as high as the place beside it.
        if (std::isfinite(y)) {
            line.x.push_back(x);
            line.y.push_back(y);
        }
    }
    if (law.df1 < 2.0 && oneSided && line.y.size() > 8) {
        const double cap = line.y[6];
        for (double& y : line.y) {
            y = std::min(y, cap);
        }
    }
    const auto shade = [&](double a, double b) {
        Exhibit::Band band;
        constexpr int kSteps = 60;
        for (int k = 0; k <= kSteps; ++k) {
            const double x = a + (b - a) * k / kSteps;
            const double top = *std::max_element(line.y.begin(), line.y.end());
            band.x.push_back(x);
            band.low.push_back(0.0);
            band.high.push_back(std::min(density(law, x), top));
        }
        e.bands.push_back(std::move(band));
    };
    const double at = oneSided ? std::max(statistic, far * 1e-6) : statistic;
    if (oneSided || tail == Tail::Upper) {
        shade(at, far);
    } else if (tail == Tail::Lower) {
        shade(from, at);
    } else {
        shade(std::abs(at), far);
        shade(from, -std::abs(at));
    }
    e.lines.push_back(std::move(line));
    return e;
}

Result<VarianceSplit> splitVariance(std::optional<double> model, std::optional<double> residual,
                                    std::optional<double> total, double n, double terms) {
    const int given = (model ? 1 : 0) + (residual ? 1 : 0) + (total ? 1 : 0);
    if (given < 2) {
        return refuse(ErrorCode::BadSetting, "two of the three sums of squares are needed", "",
                      "The third follows from them.");
    }
    VarianceSplit out;
    out.model = model.value_or(total.value_or(0.0) - residual.value_or(0.0));
    out.residual = residual.value_or(total.value_or(0.0) - out.model);
    out.total = total.value_or(out.model + out.residual);
    if (std::abs(out.model + out.residual - out.total) > 1e-6 * std::abs(out.total)) {
        return refuse(ErrorCode::BadSetting,
                      "model and residual do not add up to the total: " +
                          shortNumber(out.model + out.residual, 6) + " against " +
                          shortNumber(out.total, 6),
                      "", "Leave one of them empty.");
    }
    if (out.model < 0.0 || out.residual < 0.0 || !(out.total > 0.0)) {
        return refuse(ErrorCode::BadSetting, "a sum of squares is not negative", "",
                      "The total is the largest of the three.");
    }
    out.modelDf = terms;
    out.residualDf = n - terms - 1.0;
    if (!(terms >= 1.0) || !(out.residualDf >= 1.0)) {
        return refuse(ErrorCode::BadSetting, "there must be more rows than terms and a constant",
                      "", "Give n, and the number of terms without the constant.");
    }
    out.sigma = std::sqrt(out.residual / out.residualDf);
    out.rSquared = out.model / out.total;
    out.adjustedRSquared = 1.0 - (1.0 - out.rSquared) * (n - 1.0) / out.residualDf;
    out.f = out.residual > 0.0 ? (out.model / terms) / (out.residual / out.residualDf) : INFINITY;
    out.p = fTail(out.f, terms, out.residualDf);
    return out;
}

}  // namespace rapporto
