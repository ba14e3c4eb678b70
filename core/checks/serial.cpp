// Are errors unrelated? Durbin–Watson and Breusch–Godfrey, along the order of a series.
#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/numerics/distributions.h"
#include "core/numerics/quadratic_form.h"

#include <boost/math/tools/toms748_solve.hpp>
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>
#include <numeric>
#include <optional>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

Exhibit timeExhibit(const CheckInput& in, const std::vector<Index>& order) {
    Exhibit e;
    e.subtitle = "residual against the one before it · n = " + countText(order.size() - 1);
    e.xTitle = "residual before";
    e.yTitle = "residual";
    for (std::size_t i = 1; i < order.size(); ++i) {
        e.x.push_back(in.fit.residuals(order[i - 1]));
        e.y.push_back(in.fit.residuals(order[i]));
        e.rows.push_back(in.design.rows[static_cast<std::size_t>(order[i])]);
    }
    e.zeroLine = true;
    return e;
}

constexpr double kExactWork = 2e6;  // n·k² beyond which determinants take over a second.

/// The kept columns times root weights, in order of time: those whose residuals scaledResiduals()
/// are.
MatrixXd columnsInTime(const CheckInput& in, const std::vector<Index>& order) {
    MatrixXd X = withColumns(in, MatrixXd(in.design.X.rows(), 0));
    if (in.design.weights.size() > 0) {
        X = in.design.weights.cwiseSqrt().asDiagonal() * X;
    }
    return X(order, Eigen::all);
}

/// AX for the matrix A of first differences' squares: e'Ae = Σ (e_t − e_{t−1})².
MatrixXd differencedTwice(const MatrixXd& X) {
    const Index n = X.rows();
    MatrixXd out = 2.0 * X;
    out.row(0) = X.row(0);
    out.row(n - 1) = X.row(n - 1);
    out.topRows(n - 1) -= X.bottomRows(n - 1);
    out.bottomRows(n - 1) -= X.topRows(n - 1);
    return out;
}

struct DurbinWatsonP {
    double p;
    bool exact;
};

/// P(d ≤ observed) when errors are independent and normal.
DurbinWatsonP durbinWatsonP(const MatrixXd& X, double d) {
    const Index n = X.rows();
    const Index k = X.cols();
    // Exact mean and variance of d: Durbin & Watson (1950), Biometrika 37.
    const Eigen::HouseholderQR<MatrixXd> qr(X);
    const MatrixXd Q = qr.householderQ() * MatrixXd::Identity(n, k);
    const MatrixXd AQ = differencedTwice(Q);
    const double m = static_cast<double>(n - k);
    const MatrixXd QAQ = Q.transpose() * AQ;
    const double P = 2.0 * static_cast<double>(n - 1) - QAQ.trace();
    const double Q2 =
        2.0 * (3.0 * static_cast<double>(n) - 4.0) - 2.0 * AQ.squaredNorm() + QAQ.squaredNorm();
    const double mean = P / m;
    const double variance = 2.0 * (Q2 - P * mean) / (m * (m + 2.0));
    const double z = (mean - d) / std::sqrt(variance);
    // Nine spreads out, p is under 1e-9 whatever the law of a long series.
    const bool far = n > 500 && std::abs(z) > 9.0;
    const double work = static_cast<double>(n) * static_cast<double>(k * k);
    if (work <= kExactWork && !far) {
        // So far down the inversion knows nothing but its own error.
        constexpr double kFloor = 1e-9;
        const double p = durbinWatsonProbability(X, d);
        const double tail = p < kFloor ? durbinWatsonTail(X, d) : std::nan("");
        return {std::isfinite(tail) && tail > 0.0 && tail < 2.0 * kFloor ? tail : p, true};
    }
    if (z > 9.0 && work <= kExactWork) {
        const double tail = durbinWatsonTail(X, d);
        return {std::isfinite(tail) && tail > 0.0 ? tail : normalTail(z), true};
    }
    return {normalTail(z), far && work <= kExactWork};
}

/// The laws of d between which that of any k columns with a constant lies, and their quantiles.
struct DurbinWatsonBounds {
    double low = 0.0;   ///< dL: below it every design rejects.
    double high = 0.0;  ///< dU: above it none does.
};

/// Durbin & Watson (1951), Biometrika 38: eigenvalues 2 − 2cos(πj/n), the n − k smallest and the
/// n − k largest of j = 1 … n − 1.
std::optional<DurbinWatsonBounds> durbinWatsonBounds(Index n, Index k, double alpha) {
    if (n > 2000 || n - k < 4) {
        return std::nullopt;
    }
    VectorXd all(n - 1);
    for (Index j = 1; j < n; ++j) {
        all(j - 1) = 2.0 - 2.0 * std::cos(std::numbers::pi * static_cast<double>(j) /
                                          static_cast<double>(n));
    }
    const auto quantile = [&](const VectorXd& lambda) {
        const auto excess = [&](double d) {
            return probabilityBelowZero(lambda.array() - d) - alpha;
        };
        std::uintmax_t steps = 60;
        const double low = lambda.minCoeff();
        const double high = lambda.mean();
        if (excess(low + 1e-9) > 0.0 || excess(high) < 0.0) {
            return std::nan("");
        }
        const auto found = boost::math::tools::toms748_solve(
            excess, low + 1e-9, high, boost::math::tools::eps_tolerance<double>(45), steps);
        return 0.5 * (found.first + found.second);
    };
    const DurbinWatsonBounds out{quantile(all.head(n - k)), quantile(all.tail(n - k))};
    return std::isfinite(out.low) && std::isfinite(out.high) ? std::optional(out) : std::nullopt;
}

}  // namespace

// Durbin & Watson (1950, 1951), Biometrika 37 and 38.
CheckResult checkDurbinWatson(const CheckInput& in) {
    if (const std::string reason = orderProblem(in); !reason.empty()) {
        return notApplicable(reason);
    }
    const auto order = rowsInTime(in);
    const VectorXd e = scaledResiduals(in)(order);
    if (e.size() < 4 || e.squaredNorm() <= 0.0) {
        return notApplicable("There are too few residuals.");
    }
    const Index n = e.size();
    CheckResult result;
    const double d = (e.tail(n - 1) - e.head(n - 1)).squaredNorm() / e.squaredNorm();
    const MatrixXd X = columnsInTime(in, order);
    const DurbinWatsonP found = durbinWatsonP(X, d);
    const double r = e.tail(n - 1).dot(e.head(n - 1)) / e.squaredNorm();
    result.statistic = d;
    result.statisticName = "Durbin–Watson d";
    result.distribution = found.exact ? "exact" : "normal";
    result.p = found.p;
    result.details = {{"first autocorrelation", r}, {"exact", found.exact ? 1.0 : 0.0}};
    result.verdict = judge(found.p, in.alpha, std::abs(r), 0.1, 0.3);
    result.headline = "d " + fixedNumber(d, 2) + ", " + pClause(found.p);
    result.reading =
        found.p >= in.alpha
            ? "There is no sign that an error carries over to the next moment (d " +
                  fixedNumber(d, 2) + ", " + pClause(found.p) + ", one-sided)." +
                  (d > 2.5 ? " Errors alternate instead: d is well above 2." : "")
            : "An error carries over to the next moment: neighbours correlate at " +
                  fixedNumber(r, 2) + " (d " + fixedNumber(d, 2) + ", " + pClause(found.p) +
                  ", one-sided). Classical and robust standard errors are then too small. With a "
                  "lagged outcome among the terms this test is lenient: trust Breusch–Godfrey.";
    // The bounds hold for columns with a constant as they are; weights take it away.
    const auto bounds = in.design.hasConstant && in.design.weights.size() == 0
                            ? durbinWatsonBounds(n, X.cols(), in.alpha)
                            : std::nullopt;
    if (bounds) {
        result.details.emplace_back("dL", bounds->low);
        result.details.emplace_back("dU", bounds->high);
        const std::string zone =
            fixedNumber(bounds->low, 2) + " to " + fixedNumber(bounds->high, 2);
        result.reading += d > bounds->low && d < bounds->high
                              ? " By the tabulated bounds alone (" + zone +
                                    ") it would be inconclusive; p here is " +
                                    (found.exact ? "exact for these very terms and decides."
                                                 : "that of a long series.")
                              : " The tabulated bounds (" + zone + ") say the same.";
    } else if (!found.exact) {
        result.reading += " p is by the normal law of a long series.";
    }
    result.exhibit = timeExhibit(in, order);
    result.exhibit.title = result.verdict == Verdict::Fine
                               ? "Neighbours in time are unrelated"
                               : "Neighbours in time resemble each other";
    if (result.verdict != Verdict::Fine) {
        offerForEcho(in, result);
    }
    return result;
}

// Breusch (1978), Australian Economic Papers 17; Godfrey (1978), Econometrica 46.
CheckResult checkBreuschGodfrey(const CheckInput& in) {
    if (const std::string reason = orderProblem(in); !reason.empty()) {
        return notApplicable(reason);
    }
    const auto order = rowsInTime(in);
    const VectorXd e = scaledResiduals(in)(order);
    const Index n = e.size();
    const int lags = in.options.lags.value_or(in.design.seasonLags);
    const MatrixXd X = columnsInTime(in, order);
    if (lags < 1 || n - X.cols() - lags < 2 || e.squaredNorm() <= 0.0) {
        return notApplicable("There are too few rows for " +
                             plural(static_cast<std::size_t>(std::max(lags, 0)), "lag", "lags") +
                             ".");
    }
    MatrixXd all(n, X.cols() + lags);
    all.leftCols(X.cols()) = X;
    for (int l = 1; l <= lags; ++l) {
        all.col(X.cols() + l - 1).setZero();  // Residuals before the sample count as zero.
        all.col(X.cols() + l - 1).tail(n - l) = e.head(n - l);
    }
    const VectorXd none;
    const auto solution = solveLinear(
        {all, e, none, in.design.hasConstant && in.design.weights.size() == 0}, false, in.job);
    if (!solution) {
        return notApplicable("The work was stopped.");
    }
    const double rss = e.squaredNorm();
    const double share = (rss - solution->residualSquares) / rss;
    CheckResult result;
    result.statistic = static_cast<double>(n) * share;
    result.statisticName = "Breusch–Godfrey n·R²";
    result.df = {static_cast<double>(lags)};
    result.distribution = "chi2";
    result.p = chiSquareTail(*result.statistic, lags);
    const double df2 = static_cast<double>(n - X.cols() - lags);
    const double f = (rss - solution->residualSquares) / lags / (solution->residualSquares / df2);
    result.details = {{"lags", static_cast<double>(lags)},
                      {"F", f},
                      {"F df2", df2},
                      {"F p", fTail(f, lags, df2)}};
    result.verdict = judge(*result.p, in.alpha, share, 0.01, 0.08);
    result.headline = pClause(*result.p);
    result.reading =
        *result.p >= in.alpha
            ? "Earlier residuals, up to " +
                  plural(static_cast<std::size_t>(lags), "step", "steps") +
                  " back, say nothing about the present one (" + pClause(*result.p) + ")."
            : "Earlier residuals, up to " +
                  plural(static_cast<std::size_t>(lags), "step", "steps") + " back, explain " +
                  fixedNumber(100.0 * share, 1) + " % of the present one (" + pClause(*result.p) +
                  "): the model leaves movement in time unexplained, and classical standard errors "
                  "are too small.";
    result.exhibit = timeExhibit(in, order);
    result.exhibit.title = result.verdict == Verdict::Fine
                               ? "The past says nothing about the residual"
                               : "The past shows in the residual";
    if (result.verdict != Verdict::Fine) {
        offerForEcho(in, result);
    }
    return result;
}

}  // namespace rapporto
