#include "core/checks/groups_picture.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <numeric>

namespace rapporto {

Exhibit groupsExhibit(const Design& design, const LevelsFit& fit, std::size_t level,
                      std::size_t column, double alpha) {
    constexpr std::size_t kMostNames = 40;
    const LevelsFit::Level& of = fit.levels[level];
    const auto c = static_cast<Eigen::Index>(column);
    std::vector<std::size_t> order(of.labels.size());
    std::iota(order.begin(), order.end(), 0U);
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
        return of.effects(static_cast<Eigen::Index>(a), c) <
               of.effects(static_cast<Eigen::Index>(b), c);
    });
    std::vector<std::vector<std::uint32_t>> rows(order.size());
    for (std::size_t i = 0; i < design.rows.size(); ++i) {
        rows[static_cast<std::size_t>(design.levels[level].of[i])].push_back(
            static_cast<std::uint32_t>(design.rows[i]));
    }
    const double reach = criticalValue(alpha, std::nullopt);
    Exhibit out;
    const std::string what = column == 0 ? "the level of " + shownNames(design.outcome)
                                         : "the effect of " + of.variances[column].term;
    out.title = column == 0 ? "Groups of " + of.by + " about the mean of all"
                            : "How " + what + " departs in each group of " + of.by;
    out.subtitle = plural(order.size(), "group", "groups") +
                   ", drawn to the mean as far as they have few rows; bars hold " +
                   percentLevel(alpha);
    out.xTitle = of.by + ", from the lowest to the highest";
    // Of a yes–no outcome or a count effects are those on the index, whatever the outcome’s unit.
    const std::string unit = fit.family != nullptr ? (fit.ofYesNo() ? "log odds" : "logarithm")
                             : column == 0         ? design.outcomeUnit
                                                   : "";
    out.yTitle = unit.empty() ? what : what + ", " + unit;
    out.zeroLine = true;
    for (std::size_t k = 0; k < order.size(); ++k) {
        const auto g = static_cast<Eigen::Index>(order[k]);
        const double effect = of.effects(g, c);
        const double error = of.errors(g, c);
        const double x = static_cast<double>(k) + 1.0;
        Exhibit::Bar bar;
        bar.x0 = x - 0.35;
        bar.x1 = x + 0.35;
        bar.y0 = effect - reach * error;
        bar.y1 = effect + reach * error;
        const int decimals = decimalsFor(error > 0.0 ? error : 1.0);
        bar.says = of.labels[order[k]] + ": " + fixedNumber(effect, decimals) + " (" +
                   fixedNumber(bar.y0, decimals) + " to " + fixedNumber(bar.y1, decimals) + "), " +
                   plural(of.sizes[order[k]], "row", "rows");
        bar.rows = std::move(rows[order[k]]);
        out.bars.push_back(std::move(bar));
        out.lines.push_back({"", {x - 0.35, x + 0.35}, {effect, effect}});
        if (order.size() <= kMostNames) {
            out.xNames.push_back(of.labels[order[k]]);
        }
    }
    return out;
}

}  // namespace rapporto
