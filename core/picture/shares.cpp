#include "core/base/format.h"
#include "core/describe/survey_mean.h"
#include "core/numerics/distributions.h"
#include "core/picture/counted.h"
#include "core/picture/desk_rows.h"
#include "core/picture/kinds.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Share = CountedShares::Share;

/// Shares under a survey’s design.
Result<std::vector<Share>> sharesByDesign(const PictureInput& input, const DeskVariable& v,
                                          const std::vector<std::size_t>& counts) {
    const auto design = surveyRows(input.frame, input.survey);
    if (!design) {
        return tl::make_unexpected(design.error());
    }
    std::vector<Share> out;
    std::vector<double> is(v.cells.size());
    for (const std::size_t count : counts) {
        const double level = static_cast<double>(out.size()) + 1.0;
        for (std::size_t i = 0; i < is.size(); ++i) {
            is[i] = std::isnan(v.cells[i]) ? v.cells[i] : v.cells[i] == level ? 1.0 : 0.0;
        }
        const auto mean = meanUnder(*design, is);
        if (!mean) {
            return refuse(ErrorCode::TooFewRows, "no row of this variable has a weight");
        }
        const double spread = mean->mean * (1.0 - mean->mean);
        const double rows = mean->se > 0.0 ? spread / (mean->se * mean->se) : mean->effective;
        out.push_back({mean->mean, std::nullopt, count});
        if (mean->df >= 1.0) {  // Else there are as many strata as clusters.
            out.back().interval =
                wilsonInterval(mean->mean, rows, criticalValue(input.alpha, mean->df));
        }
    }
    return out;
}

}  // namespace

std::vector<Share> sharesOfCounts(const std::vector<std::size_t>& counts, double alpha) {
    double n = 0.0;
    for (const std::size_t count : counts) {
        n += static_cast<double>(count);
    }
    std::vector<Share> out;
    for (const std::size_t count : counts) {
        const double p = static_cast<double>(count) / n;
        out.push_back({p, wilsonInterval(p, n, criticalValue(alpha, std::nullopt)), count});
    }
    return out;
}

DrawnPicture sharesPicture(const CountedShares& counted) {
    DrawnPicture out;
    if (counted.n == 0) {
        out.nothing = "No row in the sample has a value of " + counted.name + ".";
        return out;
    }
    if (counted.levels.size() > kMostBars) {
        out.nothing = counted.name + " has " + countText(counted.levels.size()) +
                      " levels: too many for shares. Merge levels, or look at the numbers.";
        return out;
    }
    Exhibit e;
    e.title = "Shares of " + counted.shown;
    e.subtitle = "n = " + countText(counted.n) + " · " + counted.intervals;
    e.xTitle = counted.title;
    e.yTitle = "% of " + counted.of;
    e.fromZero = true;
    for (std::size_t k = 0; k < counted.levels.size(); ++k) {
        const Share& share = counted.shares[k];
        const double at = static_cast<double>(k) + 1.0;
        e.xNames.push_back(counted.levels[k]);
        Exhibit::Bar bar;
        bar.x0 = at - 0.34;
        bar.x1 = at + 0.34;
        bar.y1 = 100.0 * share.p;
        std::string words = fixedNumber(bar.y1, 1) + " %";
        if (share.interval) {
            const double low = 100.0 * share.interval->low;
            const double high = 100.0 * share.interval->high;
            words += " (" + fixedNumber(low, 1) + " to " + fixedNumber(high, 1) + ")";
            e.intervals.push_back({at, low, bar.y1, high});
        }
        bar.says = counted.levels[k] + ": " + words + ", " + plural(share.rows, "row", "rows");
        out.numbers.push_back({counted.levels[k], words});
        e.bars.push_back(std::move(bar));
    }
    out.exhibits.push_back(std::move(e));
    return out;
}

DrawnPicture drawShares(const PictureInput& input) {
    const DeskVariable v = deskVariable(input.frame, input.spec.of[0]);
    CountedShares counted;
    counted.name = v.name;
    counted.shown = input.frame.variable(v.name)->shown();
    counted.title = v.title;
    counted.levels = v.levels;
    std::vector<std::size_t> counts(v.levels.size(), 0);
    std::vector<std::vector<std::uint32_t>> rows(v.levels.size());
    for (std::size_t i = 0; i < v.cells.size(); ++i) {
        if (!std::isnan(v.cells[i])) {
            const auto k = static_cast<std::size_t>(v.cells[i]) - 1;
            ++counts[k];
            ++counted.n;
            rows[k].push_back(static_cast<std::uint32_t>(i));
        }
    }
    const bool weighted = !deskWeights(input).empty();
    auto shares = weighted && counted.n > 0 && counts.size() <= kMostBars
                      ? sharesByDesign(input, v, counts)
                      : Result<std::vector<Share>>(sharesOfCounts(counts, input.alpha));
    if (!shares) {
        DrawnPicture out;
        out.nothing = shares.error().text();
        return out;
    }
    counted.shares = *std::move(shares);
    counted.intervals =
        percentLevel(input.alpha) +
        (weighted && !input.survey.cluster.empty() ? " by the design" : " intervals") +
        weightsNote(input);
    counted.of = weighted ? "the weight" : "rows";
    DrawnPicture out = sharesPicture(counted);
    for (std::size_t k = 0; k < rows.size() && !out.exhibits.empty(); ++k) {
        out.exhibits.front().bars[k].rows = std::move(rows[k]);
    }
    return out;
}

}  // namespace rapporto
