// Are errors unrelated? Durbin–Watson and Breusch–Godfrey, along the order of a series.
#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/numerics/distributions.h"
#include "core/numerics/quadratic_form.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr Index kExactRows = 1000;  // Beyond it the eigenvalues take seconds.

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
    const Eigen::HouseholderQR<MatrixXd> qr(X);
    const MatrixXd Q = qr.householderQ() * MatrixXd::Identity(n, k);
    const MatrixXd AQ = differencedTwice(Q);
    if (n <= kExactRows) {
        MatrixXd A = differencedTwice(MatrixXd::Identity(n, n));
        // M A M for M = I − QQ'.
        const MatrixXd QAQ = Q.transpose() * AQ;
        A -= AQ * Q.transpose() + Q * AQ.transpose() - Q * QAQ * Q.transpose();
        const Eigen::SelfAdjointEigenSolver<MatrixXd> solver(A, Eigen::EigenvaluesOnly);
        const VectorXd nonzero = solver.eigenvalues().tail(n - k);
        return {probabilityBelowZero(nonzero.array() - d), true};
    }
    // Exact mean and variance of d, normal law: Durbin & Watson (1950), Biometrika 37.
    const double m = static_cast<double>(n - k);
    const MatrixXd QAQ = Q.transpose() * AQ;
    const double P = 2.0 * static_cast<double>(n - 1) - QAQ.trace();
    const double Q2 =
        2.0 * (3.0 * static_cast<double>(n) - 4.0) - 2.0 * AQ.squaredNorm() + QAQ.squaredNorm();
    const double mean = P / m;
    const double variance = 2.0 * (Q2 - P * mean) / (m * (m + 2.0));
    return {normalTail((mean - d) / std::sqrt(variance)), false};
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
    const MatrixXd X = withColumns(in, MatrixXd(n, 0))(order, Eigen::all);
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
    result.exhibit = timeExhibit(in, order);
    result.exhibit.title = result.verdict == Verdict::Fine
                               ? "Neighbours in time are unrelated"
                               : "Neighbours in time resemble each other";
    if (result.verdict != Verdict::Fine) {
        offerAutocorrelation(in, result);
        offerLaggedOutcome(in, result);
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
    const MatrixXd X = withColumns(in, MatrixXd(n, 0))(order, Eigen::all);
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
    const auto solution = solveLinear({all, e, none, in.design.hasConstant}, false, in.job);
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
        offerAutocorrelation(in, result);
        offerLaggedOutcome(in, result);
    }
    return result;
}

}  // namespace rapporto
