#include "core/base/format.h"
#include "core/describe/survey_mean.h"
#include "core/numerics/distributions.h"
#include "core/picture/desk_rows.h"
#include "core/picture/kinds.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

struct Share {
    double p = 0.0;
    std::optional<ShareInterval> interval;  ///< None: as many strata as clusters.
};

/// Share of each level among the rows that have one.
Result<std::vector<Share>> sharesOf(const PictureInput& input, const DeskVariable& v,
                                    bool weighted) {
    const double levels = static_cast<double>(v.levels.size());
    std::vector<Share> out;
    std::optional<SurveyRows> design;
    if (weighted) {
        auto rows = surveyRows(input.frame, input.survey);
        if (!rows) {
            return tl::make_unexpected(rows.error());
        }
        design = *std::move(rows);
    }
    std::vector<double> is(v.cells.size());
    for (double level = 1.0; level <= levels; level += 1.0) {
        double n = 0.0;
        double count = 0.0;
        for (std::size_t i = 0; i < is.size(); ++i) {
            is[i] = std::isnan(v.cells[i]) ? v.cells[i] : v.cells[i] == level ? 1.0 : 0.0;
            n += std::isnan(is[i]) ? 0.0 : 1.0;
            count += is[i] == 1.0 ? 1.0 : 0.0;
        }
        if (!design) {
            out.push_back({count / n,
                           wilsonInterval(count / n, n, criticalValue(input.alpha, std::nullopt))});
            continue;
        }
        const auto mean = meanUnder(*design, is);
        if (!mean) {
            return refuse(ErrorCode::TooFewRows, "no row of this variable has a weight");
        }
        const double spread = mean->mean * (1.0 - mean->mean);
        const double rows = mean->se > 0.0 ? spread / (mean->se * mean->se) : mean->effective;
        out.push_back({mean->mean, std::nullopt});
        if (mean->df >= 1.0) {
            out.back().interval =
                wilsonInterval(mean->mean, rows, criticalValue(input.alpha, mean->df));
        }
    }
    return out;
}

}  // namespace

DrawnPicture drawShares(const PictureInput& input) {
    constexpr std::size_t kMost = 40;
    DrawnPicture out;
    const DeskVariable v = deskVariable(input.frame, input.spec.of[0]);
    const auto n = static_cast<std::size_t>(
        std::count_if(v.cells.begin(), v.cells.end(), [](double c) { return !std::isnan(c); }));
    if (n == 0) {
        out.nothing = "No row in the sample has a value of " + v.name + ".";
        return out;
    }
    if (v.levels.size() > kMost) {
        out.nothing = v.name + " has " + countText(v.levels.size()) +
                      " levels: too many for shares. Merge levels, or look at the numbers.";
        return out;
    }
    const bool weighted = !deskWeights(input).empty();
    const auto shares = sharesOf(input, v, weighted);
    if (!shares) {
        out.nothing = shares.error().text();
        return out;
    }
    Exhibit e;
    e.title = "Shares of " + input.frame.variable(v.name)->shown();
    e.subtitle = "n = " + countText(n) + " · " + shortNumber(100.0 * (1.0 - input.alpha), 3) +
                 " %" +
                 (weighted && !input.survey.cluster.empty() ? " by the design" : " intervals") +
                 weightsNote(input);
    e.xTitle = v.title;
    e.yTitle = weighted ? "% of the weight" : "% of rows";
    e.fromZero = true;
    for (std::size_t k = 0; k < v.levels.size(); ++k) {
        const Share& share = (*shares)[k];
        const double at = static_cast<double>(k) + 1.0;
        e.xNames.push_back(v.levels[k]);
        Exhibit::Bar bar;
        bar.x0 = at - 0.34;
        bar.x1 = at + 0.34;
        bar.y1 = 100.0 * share.p;
        for (std::size_t i = 0; i < v.cells.size(); ++i) {
            if (v.cells[i] == at) {
                bar.rows.push_back(static_cast<std::uint32_t>(i));
            }
        }
        std::string words = fixedNumber(bar.y1, 1) + " %";
        if (share.interval) {
            const double low = 100.0 * share.interval->low;
            const double high = 100.0 * share.interval->high;
            words += " (" + fixedNumber(low, 1) + " to " + fixedNumber(high, 1) + ")";
            e.intervals.push_back({at, low, bar.y1, high});
        }
        bar.says = v.levels[k] + ": " + words + ", " + plural(bar.rows.size(), "row", "rows");
        out.numbers.push_back({v.levels[k], words});
        e.bars.push_back(std::move(bar));
    }
    out.exhibits.push_back(std::move(e));
    return out;
}

}  // namespace rapporto
