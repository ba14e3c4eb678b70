// Do a few rows decide? Leverage, outliers, Cook's distance.
#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::VectorXd;

/// Studentised residual against leverage with contours of Cook's distance.
Exhibit leverageExhibit(const CheckInput& in, const std::vector<std::size_t>& marked) {
    Exhibit e;
    const VectorXd t = studentisedResiduals(in);
    e.xTitle = "leverage";
    e.yTitle = "studentised residual";
    e.subtitle = "how unusual in the outcome against how unusual in the terms · n = " +
                 countText(in.design.rows.size());
    e.x.assign(in.fit.leverage.data(), in.fit.leverage.data() + in.fit.leverage.size());
    e.y.assign(t.data(), t.data() + t.size());
    e.rows = in.design.rows;
    e.marked = marked;
    e.zeroLine = true;
    const double k = static_cast<double>(in.fit.solution.kept.size());
    const double df = in.fit.dfResidual;
    const double least = in.fit.leverage.minCoeff();
    const double most = std::min(in.fit.leverage.maxCoeff() * 1.05, 0.999);
    const double top = t.cwiseAbs().maxCoeff() * 1.1;
    for (const double level : {4.0 / in.fit.n, 1.0}) {
        for (const double side : {1.0, -1.0}) {
            Exhibit::Line line;
            line.dashed = true;
            line.name = side > 0.0 ? (level == 1.0 ? "Cook 1" : "Cook 4/n") : "";
            for (int s = 0; s <= 60; ++s) {
                const double h = std::max(least, most * 0.02) + (most - least) * s / 60.0;
                // Internally studentised r² = Dk(1−h)/h, then to the external form.
                const double r2 = level * k * (1.0 - h) / std::max(h, 1e-9);
                if (r2 >= df || h >= 1.0) {
                    continue;
                }
                const double value = std::sqrt(r2 * (df - 1.0) / (df - r2));
                if (value <= top) {
                    line.x.push_back(h);
                    line.y.push_back(side * value);
                }
            }
            if (line.x.size() > 1) {
                e.lines.push_back(std::move(line));
            }
        }
    }
    return e;
}

}  // namespace

// Hoaglin & Welsch (1978), The American Statistician 32, 17–22.
CheckResult checkLeverage(const CheckInput& in) {
    const double k = static_cast<double>(in.fit.solution.kept.size());
    const double share = k / in.fit.n;
    const auto twice = rowsAbove(in, in.fit.leverage, 2.0 * share);
    const auto thrice = rowsAbove(in, in.fit.leverage, 3.0 * share);
    const double most = in.fit.leverage.maxCoeff();
    CheckResult result;
    result.statistic = most;
    result.statisticName = "largest leverage";
    result.details = {{"rows above 2k/n", static_cast<double>(twice.size())},
                      {"rows above 3k/n", static_cast<double>(thrice.size())},
                      {"mean leverage", share}};
    // With hardly more rows than coefficients every row has a long lever: only one well above the
    // mean stands out.
    result.verdict = most > std::max(0.5, 2.0 * share)   ? Verdict::Fails
                     : most > std::max(0.2, 3.0 * share) ? Verdict::Weigh
                                                         : Verdict::Fine;
    result.headline =
        thrice.empty() ? "none stands out" : plural(thrice.size(), "row", "rows") + " over 3k/n";
    result.reading = plural(thrice.size(), "row has", "rows have") +
                     " more than three times the average leverage" +
                     (thrice.empty() ? "" : " (" + namesOf(in, thrice) + ")") +
                     "; the largest is " + fixedNumber(most, 3) +
                     (most > 0.5 ? ": that row’s fitted value is decided mostly by itself."
                                 : ". Leverage is a chance to decide, not a fault: see Cook’s "
                                   "distance for whether it is used.");
    result.exhibit = leverageExhibit(in, thrice);
    result.exhibit.title = result.verdict == Verdict::Fine ? "No row holds too long a lever"
                                                           : "Some rows hold a long lever";
    if (result.verdict != Verdict::Fine && !twice.empty()) {
        offerWithout(in, {twice.front()}, result);
    }
    return result;
}

// Bonferroni over externally studentised residuals: Beckman & Cook (1983), Technometrics 25.
CheckResult checkOutliers(const CheckInput& in) {
    const double df = in.fit.dfResidual - 1.0;
    if (df < 1.0) {
        return notApplicable("There are too few rows to leave one out.");
    }
    const VectorXd t = studentisedResiduals(in);
    Index at = 0;
    const double most = t.cwiseAbs().maxCoeff(&at);
    const double n = static_cast<double>(t.size());
    const double p = std::min(1.0, n * twoSidedP(most, df));
    const double bound = criticalValue(in.alpha / n, df);
    const auto rows = rowsAbove(in, t.cwiseAbs(), bound);
    CheckResult result;
    result.statistic = t(at);
    result.statisticName = "largest studentised residual";
    result.df = {df};
    result.distribution = "t";
    result.p = p;
    result.details = {{"rows beyond the bound", static_cast<double>(rows.size())},
                      {"bound", bound}};
    result.verdict = rows.empty()                            ? Verdict::Fine
                     : most > 2.0 * bound || rows.size() > 5 ? Verdict::Fails
                                                             : Verdict::Weigh;
    result.headline = rows.empty()
                          ? "none after " +
                                countText(t.size() > 0 ? static_cast<std::size_t>(t.size()) : 0) +
                                " looks"
                          : plural(rows.size(), "row stands out", "rows stand out");
    const std::string name = rowName(in.frame, in.design.rows[static_cast<std::size_t>(at)]);
    result.reading = rows.empty()
                         ? "The most unusual row, " + name + " (studentised residual " +
                               fixedNumber(t(at), 2) + "), is no surprise among " +
                               countText(static_cast<std::size_t>(n)) + " rows."
                         : plural(rows.size(), "row lies", "rows lie") +
                               " farther from the fit than chance would put any of " +
                               countText(static_cast<std::size_t>(n)) + ": " + namesOf(in, rows) +
                               ". Look at them before you decide: a slip of the pen, another kind "
                               "of case, or news.";
    result.exhibit = halfNormal(in.design, in.fit, in.alpha);
    result.exhibit.marked = rows;
    result.exhibit.lines = {{.name = "bound",
                             .x = {result.exhibit.x.front(), result.exhibit.x.back()},
                             .y = {bound, bound},
                             .dashed = true}};
    result.exhibit.title = rows.empty()
                               ? "No row is out of line"
                               : plural(rows.size(), "row is", "rows are") + " out of line";
    offerWithout(in, rows, result);
    return result;
}

CheckResult checkCooksDistance(const CheckInput& in) {
    const VectorXd d = cooksDistances(in);
    Index at = 0;
    const double most = d.maxCoeff(&at);
    const auto marked = rowsAbove(in, d, 4.0 / in.fit.n);
    const auto strong = rowsAbove(in, d, 1.0);
    CheckResult result;
    result.statistic = most;
    result.statisticName = "largest Cook’s distance";
    result.details = {{"rows above 4/n", static_cast<double>(marked.size())},
                      {"rows above 1", static_cast<double>(strong.size())}};
    // Some rows always exceed 4/n; a tenth of the way to 1 is where an estimate visibly moves.
    const auto worth = rowsAbove(in, d, std::max(0.1, 4.0 / in.fit.n));
    result.verdict = !strong.empty()  ? Verdict::Fails
                     : !worth.empty() ? Verdict::Weigh
                                      : Verdict::Fine;
    result.headline = !strong.empty()  ? plural(strong.size(), "row decides", "rows decide")
                      : !worth.empty() ? plural(worth.size(), "row stands out", "rows stand out")
                                       : "largest " + fixedNumber(most, 3, true);
    const std::string name = rowName(in.frame, in.design.rows[static_cast<std::size_t>(at)]);
    result.reading =
        "Leaving out the most influential row, " + name +
        ", moves the estimates by a Cook’s distance of " + shortNumber(most, 3) +
        (strong.empty()
             ? worth.empty() ? ": no single row decides the answer."
                             : ": worth a look, though no single row overturns the answer."
             : ": that row alone moves the estimates far. Report the answer with and without it.") +
        " " + plural(marked.size(), "row exceeds", "rows exceed") + " 4/n, the mark for a look.";
    result.exhibit = leverageExhibit(in, worth.empty() ? std::vector<std::size_t>{} : worth);
    result.exhibit.title = strong.empty()
                               ? worth.empty() ? "No row decides alone" : "A few rows pull"
                               : "A row decides";
    offerWithout(in, worth, result);
    return result;
}

}  // namespace rapporto
