// Are errors unrelated? Autocorrelations, runs, their squares in time, and clusters.
#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/checks/told.h"
#include "core/describe/autocorrelation.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

}  // namespace

// Ljung & Box (1978), Biometrika 65, 297–303.
CheckResult checkLjungBox(const CheckInput& in) {
    if (const std::string reason = orderProblem(in); !reason.empty()) {
        return notApplicable(reason);
    }
    const VectorXd e = scaledResiduals(in)(rowsInTime(in));
    const Index n = e.size();
    const int lags = in.options.lags.value_or(static_cast<int>(std::min<Index>(10, n / 5)));
    if (lags < 1 || n <= lags + 1 || e.squaredNorm() <= 0.0) {
        return notApplicable("There are too few residuals.");
    }
    CheckResult result;
    std::vector<double> r;
    double q = 0.0;
    const double rows = static_cast<double>(n);
    for (int k = 1; k <= lags; ++k) {
        r.push_back(e.tail(n - k).dot(e.head(n - k)) / e.squaredNorm());
        q += r.back() * r.back() / (rows - k);
        result.details.emplace_back("r " + std::to_string(k), r.back());
    }
    result.statistic = rows * (rows + 2.0) * q;
    result.statisticName = "Ljung–Box Q";
    result.df = {static_cast<double>(lags)};
    result.distribution = "chi2";
    result.p = chiSquareTail(*result.statistic, lags);
    const auto most = std::max_element(
        r.begin(), r.end(), [](double a, double b) { return std::abs(a) < std::abs(b); });
    result.verdict = judge(*result.p, in.alpha, std::abs(*most), 0.1, 0.3);
    result.headline = pClause(*result.p);
    const std::string span = plural(static_cast<std::size_t>(lags), "lag", "lags");
    result.reading = *result.p >= in.alpha
                         ? "Over " + span +
                               " the residuals show no sign of echoing earlier ones (" +
                               pClause(*result.p) + ")."
                         : "Residuals echo earlier ones (" + pClause(*result.p) + " over " + span +
                               "); the strongest echo is " + fixedNumber(*most, 2, true) +
                               " at lag " + std::to_string(most - r.begin() + 1) +
                               ". Classical and robust standard errors do not allow for it.";
    result.exhibit = correlogram(r, 1, normalQuantile(1.0 - in.alpha / 2.0) / std::sqrt(rows));
    result.exhibit.subtitle =
        "autocorrelation of the residuals · n = " + countText(static_cast<std::size_t>(n));
    result.exhibit.yTitle = "r";
    result.exhibit.title =
        result.verdict == Verdict::Fine ? "No echo in time" : "Residuals echo in time";
    if (result.verdict != Verdict::Fine) {
        offerForEcho(in, result);
    }
    return result;
}

// Wald & Wolfowitz (1940), Annals of Mathematical Statistics 11; signs of residuals about zero.
CheckResult checkRuns(const CheckInput& in) {
    if (const std::string reason = orderProblem(in); !reason.empty()) {
        return notApplicable(reason);
    }
    const VectorXd e = scaledResiduals(in)(rowsInTime(in));
    double above = 0.0;
    double below = 0.0;
    double runs = 0.0;
    double before = 0.0;
    for (const double x : e) {
        if (x == 0.0) {
            continue;
        }
        (x > 0.0 ? above : below) += 1.0;
        runs += x * before > 0.0 ? 0.0 : 1.0;
        before = x;
    }
    const double n = above + below;
    if (above < 2.0 || below < 2.0) {
        return notApplicable("Under two residuals lie on one side of zero.");
    }
    const double both = 2.0 * above * below;
    const double mean = both / n + 1.0;
    const double variance = both * (both - n) / (n * n * (n - 1.0));
    CheckResult result;
    result.statistic = (runs - mean) / std::sqrt(variance);
    result.statisticName = "runs z";
    result.distribution = "normal";
    result.p = twoSidedP(*result.statistic, std::nullopt);
    result.details = {{"runs", runs}, {"expected", mean}, {"above", above}, {"below", below}};
    result.verdict = judge(*result.p, in.alpha, std::abs(runs / mean - 1.0), 0.05, 0.25);
    result.headline = shortNumber(runs) + " runs, " + pClause(*result.p);
    result.reading = *result.p >= in.alpha
                         ? "The signs of the residuals change about as often as by chance (" +
                               shortNumber(runs) + " runs, " + shortNumber(mean, 3) +
                               " expected, " + pClause(*result.p) + ")."
                         : std::string("The signs of the residuals change ") +
                               (runs < mean ? "too seldom: errors come in stretches"
                                            : "too often: errors alternate") +
                               " (" + shortNumber(runs) + " runs, " + shortNumber(mean, 3) +
                               " expected, " + pClause(*result.p) + ").";
    Exhibit& x = result.exhibit;
    x.title =
        result.verdict == Verdict::Fine ? "Signs change as by chance" : "Signs come in stretches";
    x.subtitle = "residual in the order of time · n = " + countText(static_cast<std::size_t>(n));
    x.xTitle = "place in time";
    x.yTitle = "residual";
    x.zeroLine = true;
    const auto order = rowsInTime(in);
    for (std::size_t i = 0; i < order.size(); ++i) {
        x.x.push_back(static_cast<double>(i) + 1.0);
        x.y.push_back(e(static_cast<Index>(i)));
        x.rows.push_back(in.design.rows[static_cast<std::size_t>(order[i])]);
    }
    x.lines.push_back({"", x.x, x.y, false, true});
    if (result.verdict != Verdict::Fine) {
        offerForEcho(in, result);
    }
    return result;
}

// Engle (1982), Econometrica 50, 987–1007.
CheckResult checkArch(const CheckInput& in) {
    if (const std::string reason = orderProblem(in); !reason.empty()) {
        return notApplicable(reason);
    }
    const VectorXd squares = scaledResiduals(in)(rowsInTime(in)).cwiseAbs2();
    const int lags = in.options.lags.value_or(1);
    const Index n = squares.size() - lags;
    if (lags < 1 || n - lags < 3 || squares.maxCoeff() <= 0.0) {
        return notApplicable("There are too few residuals.");
    }
    MatrixXd Z(n, lags);
    for (int k = 1; k <= lags; ++k) {
        Z.col(k - 1) = squares.segment(lags - k, n);
    }
    const auto aux = auxiliary(Z, squares.tail(n), in.job);
    if (!aux) {
        return notApplicable("The work was stopped.");
    }
    if (!aux->varies || aux->columns < 1.0) {
        return notApplicable("All residuals are of one size: there is nothing to tell.");
    }
    CheckResult result;
    result.statistic = static_cast<double>(n) * aux->rSquared;
    result.statisticName = "ARCH n·R²";
    result.df = {static_cast<double>(lags)};
    result.distribution = "chi2";
    result.p = chiSquareTail(*result.statistic, lags);
    result.details = {{"lags", static_cast<double>(lags)}, {"auxiliary R²", aux->rSquared}};
    result.verdict = judge(*result.p, in.alpha, aux->rSquared, 0.01, 0.08);
    result.headline = pClause(*result.p);
    result.reading =
        *result.p >= in.alpha
            ? "Large errors are not followed by large ones (" + pClause(*result.p) + ")."
            : "Large errors are followed by large ones, of either sign (" + pClause(*result.p) +
                  "; the past explains " + fixedNumber(100.0 * aux->rSquared, 1) +
                  " % of their squares): calm and restless times alternate.";
    Exhibit& x = result.exhibit;
    x.title = result.verdict == Verdict::Fine ? "No restless times" : "Restless times";
    x.subtitle = "squared residual against the one before it · n = " +
                 countText(static_cast<std::size_t>(n));
    x.xTitle = "squared residual before";
    x.yTitle = "squared residual";
    const auto order = rowsInTime(in);
    for (Index i = 1; i < squares.size(); ++i) {
        x.x.push_back(squares(i - 1));
        x.y.push_back(squares(i));
        x.rows.push_back(
            in.design.rows[static_cast<std::size_t>(order[static_cast<std::size_t>(i)])]);
    }
    if (result.verdict != Verdict::Fine) {
        offerRobust(in, result);
    }
    return result;
}

std::string clustersBy(const CheckInput& in) {
    return !in.options.by.empty()                    ? in.options.by
           : !in.question.errors.by.empty()          ? in.question.errors.by.front()
           : in.design.layout == Layout::Kind::Panel ? in.frame.layout().unit
                                                     : std::string();
}

CheckResult intraclassOf(const CheckInput& in, const ClusterSums& all) {
    const std::string& by = all.by;
    const double clusters = static_cast<double>(all.sums.size());
    double n = 0.0;
    double total = 0.0;
    double squares = 0.0;
    for (std::size_t g = 0; g < all.sums.size(); ++g) {
        n += all.counts[g];
        total += all.sums[g];
        squares += all.counts[g] * all.counts[g];
    }
    if (n <= clusters) {
        return notApplicable("Every cluster of " + by + " is a single row.");
    }
    double between = 0.0;
    for (std::size_t g = 0; g < all.sums.size(); ++g) {
        between += all.counts[g] * std::pow(all.sums[g] / all.counts[g] - total / n, 2);
    }
    const double msb = between / (clusters - 1.0);
    const double msw = all.within / (n - clusters);
    const double size = (n - squares / n) / (clusters - 1.0);
    const double share = (msb - msw) / (msb + (size - 1.0) * msw);
    CheckResult result;
    const double f = msw > 0.0 ? msb / msw : HUGE_VAL;
    result.statistic = f;
    result.statisticName = "between-clusters F";
    result.df = {clusters - 1.0, n - clusters};
    result.distribution = "F";
    result.p = fTail(f, clusters - 1.0, n - clusters);
    result.details = {{"intraclass share", share},
                      {"clusters", clusters},
                      {"rows a cluster", size},
                      {"design effect", 1.0 + (size - 1.0) * share}};
    result.verdict = judge(*result.p, in.alpha, share, 0.01, 0.05);
    result.headline = "share " + fixedNumber(share, 2, true) + ", " + pClause(*result.p);
    result.reading =
        *result.p >= in.alpha
            ? "Rows of one " + by + " are no more alike than others in what the model leaves (" +
                  pClause(*result.p) + ")."
            : "Rows of one " + by + " resemble each other in what the model leaves: " +
                  fixedNumber(100.0 * share, 1) + " % of it lies between clusters (" +
                  pClause(*result.p) +
                  "). Errors that do not know of the clusters are too small, the more so for terms "
                  "that are the same within a cluster.";
    result.exhibit.zeroLine = true;
    result.exhibit.title =
        result.verdict == Verdict::Fine ? "Clusters leave no mark" : "Clusters leave their mark";
    result.exhibit.subtitle =
        "mean residual of each cluster of " + by + " · " + countText(all.sums.size()) + " clusters";
    result.exhibit.xTitle = "clusters by their mean";
    result.exhibit.yTitle = "mean residual";
    std::vector<double> means;
    for (std::size_t g = 0; g < all.sums.size(); ++g) {
        means.push_back(all.sums[g] / all.counts[g]);
    }
    std::sort(means.begin(), means.end());
    for (std::size_t g = 0; g < means.size(); ++g) {
        const double at = static_cast<double>(g) + 1.0;
        result.exhibit.bars.push_back(
            {at - 0.4, at + 0.4, std::min(means[g], 0.0), std::max(means[g], 0.0)});
    }
    const auto& named = in.question.errors.by;
    const bool theirs = in.question.errors.allowClusters() &&
                        std::find(named.begin(), named.end(), by) != named.end();
    if (result.verdict != Verdict::Fine && !theirs) {
        Question variant = variantBase(in, "clustered by " + by);
        variant.errors = {};
        variant.errors.kind = "clustered";
        variant.errors.by = {by};
        result.remedies.push_back(
            {"Cluster by " + by, "standard errors that allow for the resemblance", variant});
    }
    return result;
}

CheckResult checkIntraclass(const CheckInput& in) {
    const std::string by = clustersBy(in);
    if (by.empty()) {
        return notApplicable(
            "No clusters are named: not by the errors, not by the layout, not for this check.");
    }
    const auto groups = groupsFor(in, by);
    if (!groups) {
        return notApplicable(groups.error());
    }
    const VectorXd e = scaledResiduals(in);
    ClusterSums all{by, std::vector<double>(groups->labels.size(), 0.0),
                    std::vector<double>(groups->labels.size(), 0.0)};
    for (std::size_t i = 0; i < groups->of.size(); ++i) {
        if (groups->of[i] >= 0) {
            const auto g = static_cast<std::size_t>(groups->of[i]);
            all.sums[g] += e(static_cast<Index>(i));
            all.counts[g] += 1.0;
        }
    }
    for (std::size_t i = 0; i < groups->of.size(); ++i) {
        if (groups->of[i] >= 0) {
            const auto g = static_cast<std::size_t>(groups->of[i]);
            all.within += std::pow(e(static_cast<Index>(i)) - all.sums[g] / all.counts[g], 2);
        }
    }
    return intraclassOf(in, all);
}

}  // namespace rapporto
