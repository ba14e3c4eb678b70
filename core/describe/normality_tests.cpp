#include "core/describe/normality_tests.h"

#include "core/base/format.h"
#include "core/describe/normality.h"
#include "core/numerics/distributions.h"
#include "core/numerics/ordering.h"

#include <algorithm>
#include <array>
#include <cmath>

namespace rapporto {
namespace {

double lowerNormal(double z) { return normalTail(-z); }

}  // namespace

Deviates::Deviates(std::vector<double> values) : z(std::move(values)) {
    const Eigen::Map<const Eigen::VectorXd> x(z.data(), static_cast<Eigen::Index>(z.size()));
    const double mean = x.mean();
    const double sd =
        std::sqrt((x.array() - mean).square().sum() / static_cast<double>(z.size() - 1));
    for (double& value : z) {
        value = (value - mean) / sd;
    }
    sortValues(z);
}

AndersonDarling andersonDarling(const Deviates& of) {
    const std::vector<double>& z = of.z;
    const std::size_t count = z.size();
    const auto n = static_cast<double>(count);
    double sum = 0.0;
    for (std::size_t i = 0; i < count; ++i) {
        // The upper tail by its own value: 1 − Φ would lose it.
        sum += (2.0 * static_cast<double>(i) + 1.0) *
               (std::log(lowerNormal(z[i])) + std::log(normalTail(z[count - 1 - i])));
    }
    AndersonDarling out;
    out.a2 = -n - sum / n;
    const double a = out.adjusted = out.a2 * (1.0 + 0.75 / n + 2.25 / (n * n));
    out.p = a >= 0.6   ? std::exp(1.2937 - 5.709 * a + 0.0186 * a * a)
            : a > 0.34 ? std::exp(0.9177 - 4.279 * a - 1.38 * a * a)
            : a > 0.2  ? 1.0 - std::exp(-8.318 + 42.796 * a - 59.938 * a * a)
                       : 1.0 - std::exp(-13.436 + 101.14 * a - 223.73 * a * a);
    // Beyond its smallest value the quadratic would rise again; the law has nothing there.
    out.p = a > 153.0 ? 0.0 : std::clamp(out.p, 0.0, 1.0);
    return out;
}

Lilliefors lilliefors(const Deviates& of) {
    const std::vector<double>& z = of.z;
    const auto n = static_cast<double>(z.size());
    Lilliefors out;
    for (std::size_t i = 0; i < z.size(); ++i) {
        const auto k = static_cast<double>(i);
        const double phi = lowerNormal(z[i]);
        out.d = std::max({out.d, (k + 1.0) / n - phi, phi - k / n});
    }
    const double m = std::min(n, 100.0);
    const double d = n > 100.0 ? out.d * std::pow(n / 100.0, 0.49) : out.d;
    const double small =
        std::exp(-7.01256 * d * d * (m + 2.78019) + 2.99587 * d * std::sqrt(m + 2.78019) -
                 0.122119 + 0.974598 / std::sqrt(m) + 1.67997 / m);
    if (small <= 0.1) {
        out.p = small;
        return out;
    }
    constexpr double b0 = 0.37872256037043;
    constexpr double b1 = 1.30748185078790;
    constexpr double b2 = 0.08861783849346;
    const double a =
        (-(b1 + n) + std::sqrt((b1 + n) * (b1 + n) - 4.0 * b2 * (b0 - 1.0 / (out.d * out.d)))) /
        (2.0 * b2);
    constexpr std::array<double, 11> c = {-0.37782822932809, 1.67819837908004,  -3.02959249450445,
                                          2.80015798142101,  -1.39874347510845, 0.40466213484419,
                                          -0.06353440854207, 0.00287462087623,  0.00069650013110,
                                          -0.00011872227037, 0.00000575586834};
    double p = 0.0;
    for (std::size_t k = c.size(); k-- > 0;) {
        p = p * a + c[k];
    }
    out.p = std::clamp(p, 0.1, 1.0);
    return out;
}

DAgostino dagostino(std::span<const double> values) {
    const Eigen::Map<const Eigen::VectorXd> x(values.data(),
                                              static_cast<Eigen::Index>(values.size()));
    const Moments m = moments(x);
    return dagostino(static_cast<double>(values.size()), m.skewness, m.kurtosis);
}

DAgostino dagostino(double n, double skewness, double kurtosis) {
    DAgostino out;
    {
        const double y = skewness * std::sqrt((n + 1.0) * (n + 3.0) / (6.0 * (n - 2.0)));
        const double b = 3.0 * (n * n + 27.0 * n - 70.0) * (n + 1.0) * (n + 3.0) /
                         ((n - 2.0) * (n + 5.0) * (n + 7.0) * (n + 9.0));
        const double w2 = std::sqrt(2.0 * (b - 1.0)) - 1.0;
        const double delta = 1.0 / std::sqrt(0.5 * std::log(w2));
        const double alpha = std::sqrt(2.0 / (w2 - 1.0));
        out.zSkewness = delta * std::asinh(y / alpha);
    }
    {
        const double mean = 3.0 * (n - 1.0) / (n + 1.0);
        const double variance =
            24.0 * n * (n - 2.0) * (n - 3.0) / ((n + 1.0) * (n + 1.0) * (n + 3.0) * (n + 5.0));
        const double y = (kurtosis - mean) / std::sqrt(variance);
        const double root = 6.0 * (n * n - 5.0 * n + 2.0) / ((n + 7.0) * (n + 9.0)) *
                            std::sqrt(6.0 * (n + 3.0) * (n + 5.0) / (n * (n - 2.0) * (n - 3.0)));
        const double a = 6.0 + 8.0 / root * (2.0 / root + std::sqrt(1.0 + 4.0 / (root * root)));
        const double denominator = 1.0 + y * std::sqrt(2.0 / (a - 4.0));
        const double term =
            std::copysign(std::cbrt((1.0 - 2.0 / a) / std::abs(denominator)), denominator);
        out.zKurtosis = ((1.0 - 2.0 / (9.0 * a)) - term) / std::sqrt(2.0 / (9.0 * a));
    }
    out.k2 = out.zSkewness * out.zSkewness + out.zKurtosis * out.zKurtosis;
    out.p = chiSquareTail(out.k2, 2.0);
    return out;
}

namespace {

const NormalityTest kJarqueBera{"jarque-bera", "Jarque–Bera", "JB", {}, {}, {}};
const NormalityTest kDAgostino{"dagostino", "D’Agostino", "K²", {}, {}, {}};

/// Why a test cannot be asked; empty: it can.
std::string whyNot(bool varies, std::size_t n, std::size_t least) {
    return !varies     ? "the values do not vary"
           : n < least ? "it needs " + std::to_string(least) + " values or more"
                       : "";
}

}  // namespace

std::vector<NormalityTest> normalityTestsByMoments(std::size_t n, double skewness,
                                                   double excessKurtosis) {
    std::vector<NormalityTest> out = {kJarqueBera, kDAgostino};
    out[0].why = whyNot(true, n, 3);
    out[1].why = whyNot(true, n, 20);
    if (out[0].why.empty()) {
        out[0].statistic = static_cast<double>(n) / 6.0 *
                           (skewness * skewness + excessKurtosis * excessKurtosis / 4.0);
        out[0].p = chiSquareTail(*out[0].statistic, 2.0);
    }
    if (out[1].why.empty()) {
        const DAgostino d = dagostino(static_cast<double>(n), skewness, excessKurtosis + 3.0);
        out[1].statistic = d.k2;
        out[1].p = d.p;
    }
    return out;
}

std::vector<NormalityTest> normalityTests(std::span<const double> cells,
                                          const std::vector<bool>& use) {
    std::vector<double> values;
    for (std::size_t i = 0; i < cells.size(); ++i) {
        if (!std::isnan(cells[i]) && (use.empty() || use[i])) {
            values.push_back(cells[i]);
        }
    }
    std::vector<NormalityTest> out = {{"shapiro-wilk", "Shapiro–Wilk", "W", {}, {}, {}},
                                      {"anderson-darling", "Anderson–Darling", "A²", {}, {}, {}},
                                      {"lilliefors", "Lilliefors", "D", {}, {}, {}},
                                      kJarqueBera,
                                      kDAgostino};
    const std::size_t n = values.size();
    const auto [low, high] = std::minmax_element(values.begin(), values.end());
    const bool varies = n > 1 && *low != *high;
    const std::array<std::size_t, 5> least = {3, 8, 5, 3, 20};
    for (std::size_t k = 0; k < out.size(); ++k) {
        out[k].why = whyNot(varies, n, least[k]);
    }
    if (n > 5000) {
        out[0].why = "its approximation ends at 5,000 values";
    }
    const Eigen::Map<const Eigen::VectorXd> x(values.data(), static_cast<Eigen::Index>(n));
    const auto put = [&](std::size_t k, double statistic, double p) {
        out[k].statistic = statistic;
        out[k].p = p;
    };
    if (out[0].why.empty()) {
        const ShapiroWilk sw = shapiroWilk(x);
        put(0, sw.w, sw.p);
    }
    if (out[2].why.empty()) {
        const Deviates deviates(values);
        const Lilliefors l = lilliefors(deviates);
        put(2, l.d, l.p);
        if (out[1].why.empty()) {  // It needs more values than the other.
            const AndersonDarling ad = andersonDarling(deviates);
            put(1, ad.adjusted, ad.p);
        }
    }
    if (varies) {
        const Moments m = moments(x);
        const auto byMoments = normalityTestsByMoments(n, m.skewness, m.kurtosis - 3.0);
        std::copy(byMoments.begin(), byMoments.end(), out.begin() + 3);
    }
    return out;
}

std::string normalityReading(const std::vector<NormalityTest>& tests, double alpha, std::size_t n,
                             double skewness, double excessKurtosis) {
    std::size_t asked = 0;
    std::size_t against = 0;
    for (const NormalityTest& test : tests) {
        asked += test.p ? 1U : 0U;
        against += test.p && *test.p < alpha ? 1U : 0U;
    }
    if (asked == 0) {
        return "Too few values, or all alike: nothing can be said about their shape.";
    }
    // Size decides beside p: in many rows a small departure is found for certain.
    const bool slight = std::abs(skewness) < 0.2 && std::abs(excessKurtosis) < 0.4;
    std::string text;
    if (against == 0) {
        text = "**No sign of departure from normal** in " + countText(n) + " values" +
               (n < 30 ? ": but so few would hardly show one." : ".");
    } else if (slight) {
        text = "**Close to normal.** " +
               std::string(against == asked ? "The tests find" : "Some tests find") +
               " a departure, but a small one: in " + countText(n) +
               " values even that is certain to be found.";
    } else if (against < asked) {
        text = "**The tests disagree**: " + countText(against) + " of " + countText(asked) +
               " find a departure from normal. Look at the quantile plot.";
    } else {
        text = "**Not normal**: " +
               std::string(std::abs(skewness) >= 0.5 ? (skewness > 0.0 ? "a long tail to the right"
                                                                       : "a long tail to the left")
                           : excessKurtosis > 0.4    ? "more far-out values than a normal law has"
                           : excessKurtosis < -0.4   ? "fewer far-out values than a normal law has"
                                                     : "the tests find a departure") +
               " (skewness " + fixedNumber(skewness, 1) + ", excess kurtosis " +
               fixedNumber(excessKurtosis, 1) + ").";
    }
    return text +
           " A small p speaks against normal, a large one does not prove it. A model asks "
           "this of its residuals, not of the outcome or the terms.";
}

}  // namespace rapporto
