#include "core/describe/comparison.h"

#include "core/base/format.h"
#include "core/describe/correlation.h"
#include "core/numerics/distributions.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace rapporto {
namespace {

/// What analysis of variance looks at in a group.
struct GroupMoments {
    double n = 0.0;
    double mean = 0.0;
    double squares = 0.0;  ///< Σ (x − mean)².
};

GroupMoments momentsOf(const std::vector<double>& x) {
    GroupMoments out;
    out.n = static_cast<double>(x.size());
    out.mean = std::accumulate(x.begin(), x.end(), 0.0) / out.n;
    for (const double value : x) {
        out.squares += (value - out.mean) * (value - out.mean);
    }
    return out;
}

GroupMoments momentsOf(const Summary& s) {
    const auto n = static_cast<double>(s.n);
    return {n, s.mean, s.sd * s.sd * (n - 1.0)};
}

/// One-way analysis of variance: F, degrees of freedom, p; and the share between groups.
struct OneWay {
    GroupTest test;
    double share = 0.0;
};

OneWay oneWay(const char* name, const std::vector<GroupMoments>& groups) {
    double all = 0.0;
    double count = 0.0;
    for (const GroupMoments& group : groups) {
        all += group.n * group.mean;
        count += group.n;
    }
    const double grand = all / count;
    double between = 0.0;
    double within = 0.0;
    for (const GroupMoments& group : groups) {
        between += group.n * (group.mean - grand) * (group.mean - grand);
        within += group.squares;
    }
    const double df1 = static_cast<double>(groups.size()) - 1.0;
    const double df2 = count - static_cast<double>(groups.size());
    OneWay out{{name, {}, df1, df2, {}}, 0.0};
    out.share = between + within > 0.0 ? between / (between + within) : 0.0;
    if (within > 0.0 && df2 >= 1.0) {
        out.test.statistic = (between / df1) / (within / df2);
        out.test.p = fTail(*out.test.statistic, df1, df2);
    }
    return out;
}

/// Levene's F about medians.
GroupTest brownForsythe(const std::vector<std::vector<double>>& groups) {
    std::vector<GroupMoments> distances;
    for (std::vector<double> group : groups) {
        std::sort(group.begin(), group.end());
        const double middle = sortedQuantile(group, 0.5);
        for (double& value : group) {
            value = std::abs(value - middle);
        }
        distances.push_back(momentsOf(group));
    }
    return oneWay("Levene, about medians", distances).test;
}

/// Welch's F of means with spreads of their own (1951); for two groups its root is Welch's t.
GroupTest welch(const std::vector<GroupMoments>& groups) {
    const auto k = static_cast<double>(groups.size());
    std::vector<double> weights;
    for (const GroupMoments& group : groups) {
        weights.push_back(group.n / (group.squares / (group.n - 1.0)));
    }
    const double total = std::accumulate(weights.begin(), weights.end(), 0.0);
    if (!std::isfinite(total)) {
        return {"Welch", {}, {}, {}, {}};  // A group without any spread.
    }
    double grand = 0.0;
    for (std::size_t g = 0; g < groups.size(); ++g) {
        grand += weights[g] * groups[g].mean / total;
    }
    double between = 0.0;
    double lambda = 0.0;
    for (std::size_t g = 0; g < groups.size(); ++g) {
        between += weights[g] * (groups[g].mean - grand) * (groups[g].mean - grand);
        const double rest = 1.0 - weights[g] / total;
        lambda += rest * rest / (groups[g].n - 1.0);
    }
    const double df2 = (k * k - 1.0) / (3.0 * lambda);
    if (groups.size() == 2) {
        const double t = std::copysign(std::sqrt(between), groups[1].mean - groups[0].mean);
        return {"Welch’s t", t, df2, {}, twoSidedP(t, df2)};
    }
    const double f = between / (k - 1.0) / (1.0 + 2.0 * (k - 2.0) / (k * k - 1.0) * lambda);
    return {"Welch’s F", f, k - 1.0, df2, fTail(f, k - 1.0, df2)};
}

GroupTest rankTest(const std::vector<std::vector<double>>& groups) {
    std::vector<double> all;
    for (const auto& group : groups) {
        all.insert(all.end(), group.begin(), group.end());
    }
    const std::vector<double> ranks = midRanks(all);
    const auto n = static_cast<double>(all.size());
    std::vector<double> sorted = all;
    std::sort(sorted.begin(), sorted.end());
    double ties = 0.0;
    for (std::size_t i = 0; i < sorted.size();) {
        std::size_t j = i;
        while (j < sorted.size() && sorted[j] == sorted[i]) {
            ++j;
        }
        const auto t = static_cast<double>(j - i);
        ties += t * t * t - t;
        i = j;
    }
    const double correction = 1.0 - ties / (n * n * n - n);
    std::vector<double> sums;
    std::size_t at = 0;
    for (const auto& group : groups) {
        sums.push_back(
            std::accumulate(ranks.begin() + static_cast<std::ptrdiff_t>(at),
                            ranks.begin() + static_cast<std::ptrdiff_t>(at + group.size()), 0.0));
        at += group.size();
    }
    if (!(correction > 0.0)) {
        return {groups.size() == 2 ? "rank sum" : "Kruskal–Wallis", {}, {}, {}, {}};
    }
    if (groups.size() == 2) {
        const auto a = static_cast<double>(groups[0].size());
        const auto b = static_cast<double>(groups[1].size());
        const double u = sums[1] - b * (b + 1.0) / 2.0;
        const double z = (u - a * b / 2.0) / std::sqrt(a * b * (n + 1.0) / 12.0 * correction);
        return {"rank sum", z, {}, {}, twoSidedP(z, std::nullopt)};
    }
    double h = 0.0;
    for (std::size_t g = 0; g < groups.size(); ++g) {
        h += sums[g] * sums[g] / static_cast<double>(groups[g].size());
    }
    h = (12.0 / (n * (n + 1.0)) * h - 3.0 * (n + 1.0)) / correction;
    const double df = static_cast<double>(groups.size()) - 1.0;
    return {"Kruskal–Wallis", h, df, {}, chiSquareTail(h, df)};
}

}  // namespace

Result<GroupComparison> compareSummaries(const std::vector<std::string>& labels,
                                         const std::vector<Summary>& summaries, double alpha) {
    GroupComparison out;
    std::vector<const Summary*> kept;
    std::vector<GroupMoments> moments;
    for (std::size_t g = 0; g < summaries.size(); ++g) {
        const Summary& one = summaries[g];
        if (one.n == 0) {
            continue;
        }
        const auto n = static_cast<double>(one.n);
        const double reach =
            one.n > 1 ? criticalValue(alpha, n - 1.0) * one.sd / std::sqrt(n) : std::nan("");
        out.groups.push_back({labels[g], one, one.mean - reach, one.mean + reach});
        if (one.n > 1) {
            kept.push_back(&one);
            moments.push_back(momentsOf(one));
        }
    }
    if (kept.size() < 2) {
        return refuse(ErrorCode::TooFewRows, "fewer than two groups have two values", "",
                      "Choose a grouping with more rows in each level.");
    }
    out.means = welch(moments);
    const OneWay pooled = oneWay("one-way F", moments);
    out.pooled = pooled.test;
    out.etaSquared = pooled.share;
    out.spread.name = "Levene, about medians";
    out.ranks.name = kept.size() == 2 ? "rank sum" : "Kruskal–Wallis";
    if (kept.size() == 2) {
        const Summary& a = *kept[0];
        const Summary& b = *kept[1];
        out.meanDifference = b.mean - a.mean;
        const double se = std::sqrt(a.sd * a.sd / static_cast<double>(a.n) +
                                    b.sd * b.sd / static_cast<double>(b.n));
        const double reach =
            out.means.df1 ? criticalValue(alpha, *out.means.df1) * se : std::nan("");
        out.differenceLow = out.meanDifference - reach;
        out.differenceHigh = out.meanDifference + reach;
    }
    return out;
}

Result<GroupComparison> compareGroups(const std::vector<std::string>& labels,
                                      const std::vector<std::vector<double>>& values,
                                      double alpha) {
    std::vector<Summary> summaries;
    std::vector<std::vector<double>> kept;
    for (const auto& group : values) {
        summaries.push_back(summarise(group));
        if (group.size() > 1) {
            kept.push_back(group);
        }
    }
    auto out = compareSummaries(labels, summaries, alpha);
    if (out) {
        out->spread = brownForsythe(kept);
        out->ranks = rankTest(kept);
    }
    return out;
}

Result<CrossTable> crossTable(const std::vector<std::string>& rows,
                              const std::vector<std::string>& columns,
                              const Eigen::MatrixXd& counts) {
    CrossTable out;
    std::vector<Eigen::Index> keptRows;
    std::vector<Eigen::Index> keptColumns;
    for (Eigen::Index i = 0; i < counts.rows(); ++i) {
        if (counts.row(i).sum() > 0.0) {
            keptRows.push_back(i);
            out.rows.push_back(rows[static_cast<std::size_t>(i)]);
        }
    }
    for (Eigen::Index j = 0; j < counts.cols(); ++j) {
        if (counts.col(j).sum() > 0.0) {
            keptColumns.push_back(j);
            out.columns.push_back(columns[static_cast<std::size_t>(j)]);
        }
    }
    if (keptRows.size() < 2 || keptColumns.size() < 2) {
        return refuse(ErrorCode::TooFewRows, "one of the two has a single level in these rows", "",
                      "Choose groupings with two levels or more.");
    }
    out.counts = counts(keptRows, keptColumns);
    const double n = out.counts.sum();
    const Eigen::VectorXd byRow = out.counts.rowwise().sum();
    const Eigen::RowVectorXd byColumn = out.counts.colwise().sum();
    out.expected = byRow * byColumn / n;
    const Eigen::MatrixXd difference = out.counts - out.expected;
    const Eigen::MatrixXd spread = out.expected.cwiseProduct((1.0 - byRow.array() / n).matrix() *
                                                             (1.0 - byColumn.array() / n).matrix());
    out.residuals = difference.cwiseQuotient(spread.cwiseSqrt());
    out.chi2 = (difference.array().square() / out.expected.array()).sum();
    out.df = static_cast<double>((keptRows.size() - 1) * (keptColumns.size() - 1));
    out.p = chiSquareTail(out.chi2, out.df);
    out.cramersV = std::sqrt(
        out.chi2 / (n * static_cast<double>(std::min(keptRows.size(), keptColumns.size()) - 1)));
    out.thinShare = (out.expected.array() < 5.0).cast<double>().mean();
    return out;
}

std::string groupReading(const GroupComparison& c, const std::string& outcome, double alpha) {
    std::string text;
    const auto lowest = std::min_element(c.groups.begin(), c.groups.end(), [](auto& a, auto& b) {
        return a.summary.mean < b.summary.mean;
    });
    const auto highest = std::max_element(c.groups.begin(), c.groups.end(), [](auto& a, auto& b) {
        return a.summary.mean < b.summary.mean;
    });
    if (c.groups.size() == 2) {
        text = "The mean of " + outcome + " is **" + shortNumber(std::abs(c.meanDifference), 3) +
               "** " + (c.meanDifference >= 0.0 ? "higher" : "lower") + " in " + c.groups[1].label +
               " than in " + c.groups[0].label;
        text += std::isfinite(c.differenceLow)
                    ? fmt::format(" ({} %: {} to {}).", shortNumber(100.0 * (1.0 - alpha), 3),
                                  shortNumber(c.differenceLow, 3), shortNumber(c.differenceHigh, 3))
                    : std::string(".");
    } else {
        text = "Means of " + outcome + " go from **" + shortNumber(lowest->summary.mean, 4) +
               "** (" + lowest->label + ") to **" + shortNumber(highest->summary.mean, 4) + "** (" +
               highest->label + "); " + fixedNumber(100.0 * c.etaSquared, 1) +
               " % of the variance lies between the groups.";
    }
    if (c.means.p) {
        text += *c.means.p < alpha
                    ? " If the groups had one mean, means this far apart would be rare (" +
                          pClause(*c.means.p) + ", spreads of their own allowed)."
                    : " Means this far apart would not be rare if the groups had one mean (" +
                          pClause(*c.means.p) + "): a difference is not shown, nor its absence.";
    }
    if (c.spread.p && *c.spread.p < alpha) {
        text += " Their spreads differ (Levene " + pClause(*c.spread.p) +
                "): the one-way F that assumes one spread is not to be used here.";
    }
    if (c.ranks.p && c.means.p && (*c.ranks.p < alpha) != (*c.means.p < alpha)) {
        text += " Ranks say otherwise (" + std::string(c.ranks.name) + " " + pClause(*c.ranks.p) +
                "): look at the shapes before choosing a mean to speak for them.";
    }
    return text + " Groups that differ in one thing may differ in others, too.";
}

std::string crossReading(const CrossTable& t, const std::string& rows, const std::string& columns,
                         double alpha) {
    std::string text =
        "**" + rows + "** and **" + columns + "** " +
        (t.p < alpha ? "do not look unrelated (χ²(" : "show no clear relation (χ²(") +
        shortNumber(t.df) + ") = " + shortNumber(t.chi2, 3) + ", " + pClause(t.p) +
        "); Cramér’s V is **" + fixedNumber(t.cramersV, 2, true) + "** of at most 1.";
    Eigen::Index i = 0;
    Eigen::Index j = 0;
    const double most = t.residuals.cwiseAbs().maxCoeff(&i, &j);
    if (t.p < alpha && most > 2.0) {
        text += " Most out of line: " + t.rows[static_cast<std::size_t>(i)] + " with " +
                t.columns[static_cast<std::size_t>(j)] + ", " + shortNumber(t.counts(i, j)) +
                " rows where " + shortNumber(t.expected(i, j), 3) + " were to be expected.";
    }
    if (t.thinShare > 0.2) {
        text += " " + fixedNumber(100.0 * t.thinShare, 0) +
                " % of the cells expect fewer than 5 rows: the p is rough; merge levels.";
    }
    return text;
}

Result<GroupComparison> compareBy(const Frame& frame, const std::string& outcome,
                                  const std::string& groups, double alpha) {
    const Column* y = frame.column(outcome);
    const Column* g = frame.column(groups);
    if (y == nullptr || g == nullptr) {
        return refuse(ErrorCode::UnknownName,
                      "there is no variable ‘" + (y == nullptr ? outcome : groups) + "’");
    }
    if (y->isText()) {
        return refuse(ErrorCode::WrongType, "‘" + outcome + "’ holds texts: it has no mean", "",
                      "Cross the two groupings instead.");
    }
    const std::vector<bool> use = rowsInSample(frame);
    const auto levels = levelsOf(*g, *frame.variable(groups));
    std::vector<std::string> labels;
    std::vector<std::vector<double>> values(levels.size());
    std::map<double, std::size_t> place;
    for (std::size_t k = 0; k < levels.size(); ++k) {
        labels.push_back(levels[k].label);
        place[levels[k].code] = k;
    }
    for (std::size_t i = 0; i < frame.rows(); ++i) {
        if (use[i] && !y->isMissing(i) && !g->isMissing(i)) {
            const double code = g->isText() ? g->codes()[i] : g->numbers()[i];
            values[place.at(code)].push_back(y->numbers()[i]);
        }
    }
    return compareGroups(labels, values, alpha);
}

}  // namespace rapporto
