// Is the spread even between parts of the rows? Goldfeld–Quandt along a variable, groups.
#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/describe/comparison.h"
#include "core/numerics/distributions.h"
#include "core/picture/desk_rows.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::VectorXd;

/// What rows are ordered by: the variable asked for, else the first term that is a quantity.
struct Order {
    std::string name;
    VectorXd values;
};

std::optional<Order> orderFor(const CheckInput& in) {
    if (!in.options.by.empty()) {
        const Column* column = in.frame.column(in.options.by);
        if (column == nullptr || column->isText()) {
            return std::nullopt;
        }
        Order out{in.options.by, VectorXd(static_cast<Index>(in.design.rows.size()))};
        for (std::size_t i = 0; i < in.design.rows.size(); ++i) {
            out.values(static_cast<Index>(i)) = column->numbers()[in.design.rows[i]];
        }
        return out;
    }
    for (const DesignTerm& term : in.design.terms) {
        if (!term.groups && !term.yesNo && !term.isProduct && term.columns.size() == 1) {
            return Order{term.name, in.design.X.col(term.columns.front())};
        }
    }
    return std::nullopt;
}

std::string trustWords(const CheckInput& in) {
    return in.question.errors.allowUnevenSpread()
               ? ""
               : " Classical standard errors and p are not to be trusted then.";
}

}  // namespace

// Goldfeld & Quandt (1965), Journal of the American Statistical Association 60, 539–547.
CheckResult checkGoldfeldQuandt(const CheckInput& in) {
    const auto by = orderFor(in);
    if (!by) {
        return notApplicable(in.options.by.empty()
                                 ? "No term is a quantity that rows could be ordered by."
                                 : "‘" + in.options.by + "’ is no variable of numbers.");
    }
    std::vector<Index> order;
    for (Index i = 0; i < by->values.size(); ++i) {
        if (!std::isnan(by->values(i))) {
            order.push_back(i);
        }
    }
    std::stable_sort(order.begin(), order.end(),
                     [&](Index a, Index b) { return by->values(a) < by->values(b); });
    const double drop = in.options.drop.value_or(0.2);
    const auto n = order.size();
    const auto middle = static_cast<std::size_t>(std::floor(drop * static_cast<double>(n)));
    const std::size_t each = (n - middle) / 2;
    // Rows of one value stand on one side: which of them would be taken must not hang on their
    // order.
    const auto same = [&](std::size_t a, std::size_t b) {
        return by->values(order[a]) == by->values(order[b]);
    };
    std::size_t bottom = each;
    while (bottom > 0 && bottom < n && same(bottom, bottom - 1)) {
        ++bottom;
    }
    std::size_t top = n - each;
    while (top > 0 && top < n && same(top, top - 1)) {
        --top;
    }
    if (each == 0 || bottom > top) {
        return notApplicable("Too many rows share one value of " + by->name +
                             ": it has no two ends.");
    }
    const auto low =
        fitPart(in, {order.begin(), order.begin() + static_cast<std::ptrdiff_t>(bottom)});
    const auto high = fitPart(in, {order.begin() + static_cast<std::ptrdiff_t>(top), order.end()});
    if (!low || !high || low->rss <= 0.0 || high->rss <= 0.0) {
        return notApplicable("There are too few rows for a fit at either end of " + by->name + ".");
    }
    const double df1 = high->n - high->columns;
    const double df2 = low->n - low->columns;
    const double f = (high->rss / df1) / (low->rss / df2);
    const double above = fTail(f, df1, df2);
    const double below = fTail(1.0 / f, df2, df1);
    const double size = std::sqrt(std::max(f, 1.0 / f));
    CheckResult result;
    result.statistic = f;
    result.statisticName = "Goldfeld–Quandt F";
    result.df = {df1, df2};
    result.distribution = "F";
    result.p = std::min(1.0, 2.0 * std::min(above, below));
    result.details = {{"rows in each part", static_cast<double>(each)},
                      {"p, growing", above},
                      {"p, shrinking", below},
                      {"spread, high to low", std::sqrt(f)}};
    result.verdict = judge(*result.p, in.alpha, size, 1.15, 1.5);
    result.headline = by->name + ", " + pClause(*result.p);
    result.reading =
        *result.p >= in.alpha
            ? "The spread of the errors is about the same at both ends of " + by->name + " (" +
                  pClause(*result.p) + ", two-sided)."
            : "The spread of the errors is " + fixedNumber(size, 2) + " times as wide where " +
                  by->name + " is " + (f > 1.0 ? "high" : "low") + " (" + pClause(*result.p) +
                  ", two-sided)." + (result.verdict == Verdict::Fine ? " That is small." : "");
    result.reading += result.verdict == Verdict::Fine ? "" : trustWords(in);
    result.exhibit = residualExhibit(in);
    result.exhibit.title = result.verdict == Verdict::Fine
                               ? "Both ends of " + by->name + " scatter alike"
                               : "One end of " + by->name + " scatters more";
    result.exhibit.subtitle =
        "residual of " + in.design.outcome + " along " + by->name + " · n = " + countText(n);
    result.exhibit.xTitle = by->name;
    result.exhibit.x.assign(by->values.data(), by->values.data() + by->values.size());
    if (result.verdict != Verdict::Fine) {
        offerRobust(in, result);
        offerLogOutcome(in, result);
    }
    return result;
}

// Brown & Forsythe (1974), Journal of the American Statistical Association 69, 364–367.
CheckResult checkGroupwise(const CheckInput& in) {
    const std::string by = in.options.by.empty() ? firstGrouping(in) : in.options.by;
    if (by.empty()) {
        return notApplicable("No term is a grouping; name one to compare its groups.");
    }
    const auto groups = groupsFor(in, by);
    if (!groups) {
        return notApplicable(groups.error());
    }
    const VectorXd e = scaledResiduals(in);
    std::vector<std::vector<double>> values(groups->labels.size());
    for (std::size_t i = 0; i < groups->of.size(); ++i) {
        if (groups->of[i] >= 0) {
            values[static_cast<std::size_t>(groups->of[i])].push_back(e(static_cast<Index>(i)));
        }
    }
    const auto compared = compareGroups(groups->labels, values, in.alpha);
    if (!compared || !compared->spread.p) {
        return notApplicable("Under two groups of " + by + " have rows enough.");
    }
    CheckResult result;
    result.statistic = *compared->spread.statistic;
    result.statisticName = "Levene F about medians";
    result.df = {*compared->spread.df1, *compared->spread.df2};
    result.distribution = "F";
    result.p = *compared->spread.p;
    const GroupComparison::Group* widest = nullptr;
    const GroupComparison::Group* narrowest = nullptr;
    for (const auto& group : compared->groups) {
        result.details.emplace_back("sd " + group.label, group.summary.sd);
        if (group.summary.n >= 5) {
            widest = widest == nullptr || group.summary.sd > widest->summary.sd ? &group : widest;
            narrowest = narrowest == nullptr || group.summary.sd < narrowest->summary.sd
                            ? &group
                            : narrowest;
        }
    }
    const double size = widest != nullptr && narrowest->summary.sd > 0.0
                            ? widest->summary.sd / narrowest->summary.sd
                            : 1.0;
    result.verdict = judge(*result.p, in.alpha, size, 1.15, 1.5);
    result.headline = by + ", " + pClause(*result.p);
    result.reading =
        *result.p >= in.alpha
            ? "The groups of " + by + " show no sign of spreads of their own (" +
                  pClause(*result.p) + ")."
            : "The spread of the errors differs between the groups of " + by + " (" +
                  pClause(*result.p) + ")" +
                  (widest == nullptr ? std::string(".")
                                     : ": in " + widest->label + " it is " + fixedNumber(size, 2) +
                                           " times that in " + narrowest->label + ".");
    result.reading += result.verdict == Verdict::Fine ? "" : trustWords(in);
    Exhibit& x = result.exhibit;
    x.title =
        result.verdict == Verdict::Fine ? "The groups scatter alike" : "Some groups scatter more";
    x.subtitle = "residual of " + in.design.outcome + " by " + by +
                 " · n = " + countText(in.design.rows.size());
    x.xTitle = by;
    x.yTitle = "residual";
    x.zeroLine = true;
    x.xNames = groups->labels;
    for (std::size_t i = 0; i < groups->of.size(); ++i) {
        if (groups->of[i] >= 0) {
            x.x.push_back(groups->of[i] + 1.0);
            x.y.push_back(e(static_cast<Index>(i)));
            x.dx.push_back(0.5F * evenShift(i));
            x.rows.push_back(in.design.rows[i]);
        }
    }
    if (result.verdict != Verdict::Fine) {
        offerRobust(in, result);
        offerCluster(in, result);
    }
    return result;
}

}  // namespace rapporto
