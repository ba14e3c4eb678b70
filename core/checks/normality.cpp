// Are errors normal enough? Jarque–Bera and Shapiro–Wilk of the residuals.
#include "core/describe/normality.h"

#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/checks/normal_enough.h"
#include "core/checks/told.h"
#include "core/describe/normality_tests.h"
#include "core/numerics/distributions.h"
#include "core/numerics/ordering.h"

#include <algorithm>
#include <cmath>
#include <span>

namespace rapporto {

bool manyRows(double n, double skewness) { return n > 200.0 && n > 25.0 * skewness * skewness; }

namespace {

using Eigen::Index;
using Eigen::VectorXd;

/// Ordered residuals beside the normal line: the picture of all tests of normality, untitled.
struct QuantilePicture {
    Exhibit exhibit;
};

QuantilePicture quantilePicture(const CheckInput& in) {
    const VectorXd e = scaledResiduals(in);
    const bool small = e.size() * in.design.X.cols() <= 5000 && in.fit.dfResidual >= 2.0 &&
                       !std::isnan(in.fit.leverage.sum());
    const std::vector<Placed> order = ordered(small ? studentisedResiduals(in) : e);
    const double n = static_cast<double>(e.size());
    const double sd = std::sqrt(e.squaredNorm() / in.fit.dfResidual);
    Exhibit out;
    out.subtitle = "ordered residuals against where a normal law would put them · n = " +
                   countText(order.size());
    out.xTitle = "normal quantile";
    out.yTitle = small ? "studentised residual" : "residual, in standard deviations";
    for (std::size_t i = 0; i < order.size(); ++i) {
        out.x.push_back(normalQuantile((static_cast<double>(i) + 0.625) / (n + 0.25)));
        out.y.push_back(small ? order[i].value : (sd > 0.0 ? order[i].value / sd : 0.0));
        out.rows.push_back(in.design.rows[static_cast<std::size_t>(order[i].at)]);
    }
    // 95 % of the order statistics of a normal sample lie between these: the beta law's normal
    // approximation, sd √(p(1−p)/n)/φ(z).
    Exhibit::Band band{"95 %, each point"};
    const std::size_t step = order.size() / 80 + 1;
    const OrderBand drawn = simulatedBand(in.design, in.fit, 0.05, false);
    if (!drawn.low.empty()) {
        // With few rows the terms take part of each residual away: draws of the model know how
        // much.
        band.x = out.x;
        band.low = drawn.low;
        band.high = drawn.high;
    }
    for (std::size_t i = 0; drawn.low.empty() && i < order.size(); i += step) {
        const double p = (static_cast<double>(i) + 0.625) / (n + 0.25);
        const double z = out.x[i];
        const double width = 1.959963984540054 * std::sqrt(p * (1.0 - p) / n) /
                             (0.3989422804014327 * std::exp(-0.5 * z * z));
        band.x.push_back(z);
        band.low.push_back(z - width);
        band.high.push_back(z + width);
    }
    out.lines = {{"normal", {out.x.front(), out.x.back()}, {out.x.front(), out.x.back()}, false}};
    out.bands = {std::move(band)};
    return {std::move(out)};
}

void describe(const CheckInput& in, CheckResult& result, const Moments& m) {
    tellNormality(in, {m.skewness, m.kurtosis}, result);
    result.exhibit = onceFor<QuantilePicture>(in, [&in] { return quantilePicture(in); })->exhibit;
    result.exhibit.title = result.verdict == Verdict::Fine ? "Residuals follow the normal line"
                           : std::abs(m.skewness) >= 0.5
                               ? "The tails part from the normal line, more on one side"
                               : "The tails part from the normal line";
    if (result.verdict != Verdict::Fine) {
        offerLogOutcome(in, result);
        const VectorXd t = studentisedResiduals(in);
        std::vector<std::size_t> far;
        const double bound = criticalValue(in.alpha / static_cast<double>(t.size()),
                                           std::max(in.fit.dfResidual - 1.0, 1.0));
        for (Index i = 0; i < t.size(); ++i) {
            if (std::abs(t(i)) > bound) {
                far.push_back(in.design.rows[static_cast<std::size_t>(i)]);
            }
        }
        offerWithout(in, far, result);
        offerDrawing(in, result);
    }
}

}  // namespace

void tellNormality(const CheckInput& in, const ResidualShape& m, CheckResult& result) {
    const double skew = std::abs(m.skewness);
    const double tails = std::abs(m.kurtosis - 3.0);
    const double p = *result.p;
    // Size: skewness counts in full, excess kurtosis by half.
    result.verdict = judge(p, in.alpha, std::max(skew, tails / 2.0), 0.2, 1.0);
    result.headline = pClause(p);
    const bool many = manyRows(in.fit.n, m.skewness);
    if (many && isDoubt(result.verdict)) {
        result.verdict = Verdict::Noted;
    }
    const std::string shape = std::string(m.skewness > 0.2    ? "a long tail upwards"
                                          : m.skewness < -0.2 ? "a long tail downwards"
                                                              : "little lean") +
                              " (skewness " + fixedNumber(m.skewness, 2) + ") and " +
                              (m.kurtosis > 3.5   ? "heavy tails"
                               : m.kurtosis < 2.5 ? "light tails"
                                                  : "ordinary tails") +
                              " (kurtosis " + fixedNumber(m.kurtosis, 2) + ", normal 3)";
    if (p >= in.alpha) {
        result.reading =
            "There is no sign that the residuals depart from a normal law (" + pClause(p) + ").";
    } else if (result.verdict == Verdict::Fine) {
        result.reading = "A departure from the normal law is detectable (" + pClause(p) +
                         ") but small: " + shape + ".";
    } else {
        result.reading = "The residuals are not normal (" + pClause(p) + "): they have " + shape +
                         ". " +
                         (many ? "With " + countText(static_cast<std::size_t>(in.fit.n)) +
                                     " rows the effects’ intervals hardly depend on this; "
                                     "intervals for single predictions do."
                               : "With " + countText(static_cast<std::size_t>(in.fit.n)) +
                                     " rows and such a shape the intervals of the effects depend "
                                     "on this.");
    }
}

// Jarque & Bera (1980), Economics Letters 6, 255–259.
CheckResult checkJarqueBera(const CheckInput& in) {
    if (in.fit.statistics.rss <= 0.0) {
        return notApplicable("The fit is perfect: there are no residuals.");
    }
    const Moments m = moments(scaledResiduals(in));
    CheckResult result;
    const double n = static_cast<double>(in.fit.residuals.size());
    result.statistic =
        n / 6.0 * (m.skewness * m.skewness + (m.kurtosis - 3.0) * (m.kurtosis - 3.0) / 4.0);
    result.statisticName = "Jarque–Bera";
    result.df = {2.0};
    result.distribution = "chi2";
    result.p = chiSquareTail(*result.statistic, 2.0);
    result.details = {{"skewness", m.skewness}, {"kurtosis", m.kurtosis}};
    describe(in, result, m);
    return result;
}

CheckResult checkShapiroWilk(const CheckInput& in) {
    const auto n = in.fit.residuals.size();
    if (n > 5000) {
        return notApplicable(
            "Its p is known up to 5\u202f000 rows; look at the quantile plot and Jarque–Bera "
            "instead.");
    }
    if (n < 3 || in.fit.statistics.rss <= 0.0) {
        return notApplicable("It needs at least three residuals that differ.");
    }
    const VectorXd e = scaledResiduals(in);
    const ShapiroWilk found = shapiroWilk(e);
    const Moments m = moments(e);
    CheckResult result;
    result.statistic = found.w;
    result.statisticName = "Shapiro–Wilk W";
    result.distribution = "W";
    result.p = found.p;
    result.details = {{"skewness", m.skewness}, {"kurtosis", m.kurtosis}};
    describe(in, result, m);
    return result;
}

namespace {

std::shared_ptr<const Deviates> deviatesOf(const CheckInput& in, const VectorXd& e) {
    return onceFor<Deviates>(in, [&e] { return Deviates({e.begin(), e.end()}); });
}

/// A test of residuals with its statistic’s name; too few rows are said.
CheckResult normalityOf(const CheckInput& in, Index least, const char* name,
                        std::pair<double, double> (*test)(const CheckInput&, const VectorXd&),
                        const char* distribution) {
    if (in.fit.residuals.size() < least || in.fit.statistics.rss <= 0.0) {
        return notApplicable(in.fit.statistics.rss <= 0.0
                                 ? "The fit is perfect: there are no residuals."
                                 : "It needs " + std::to_string(least) + " residuals.");
    }
    const VectorXd e = scaledResiduals(in);
    const auto [statistic, p] = test(in, e);
    const Moments m = moments(e);
    CheckResult result;
    result.statistic = statistic;
    result.statisticName = name;
    result.distribution = distribution;
    result.p = p;
    result.details = {{"skewness", m.skewness}, {"kurtosis", m.kurtosis}};
    describe(in, result, m);
    return result;
}

}  // namespace

CheckResult checkAndersonDarling(const CheckInput& in) {
    return normalityOf(
        in, 8, "Anderson–Darling A²",
        [](const CheckInput& asked, const VectorXd& e) {
            const AndersonDarling found = andersonDarling(*deviatesOf(asked, e));
            return std::pair{found.adjusted, found.p};
        },
        "A");
}

CheckResult checkLilliefors(const CheckInput& in) {
    return normalityOf(
        in, 5, "Lilliefors D",
        [](const CheckInput& asked, const VectorXd& e) {
            const Lilliefors found = lilliefors(*deviatesOf(asked, e));
            return std::pair{found.d, found.p};
        },
        "D");
}

CheckResult checkDagostino(const CheckInput& in) {
    CheckResult result = normalityOf(
        in, 20, "D’Agostino K²",
        [](const CheckInput& /*asked*/, const VectorXd& e) {
            const DAgostino found =
                dagostino(std::span(e.data(), static_cast<std::size_t>(e.size())));
            return std::pair{found.k2, found.p};
        },
        "chi2");
    if (result.p) {
        result.df = {2.0};
    }
    return result;
}

}  // namespace rapporto
