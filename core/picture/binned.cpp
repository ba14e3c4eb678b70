// A quantity within bins of another: what a scatter of very many rows comes down to.
#include "core/base/format.h"
#include "core/numerics/distributions.h"
#include "core/picture/counted.h"
#include "core/picture/kinds.h"

#include <algorithm>
#include <cmath>

namespace rapporto {

std::vector<double> equalBinEdges(std::vector<double> quantiles, double low) {
    std::sort(quantiles.begin(), quantiles.end());
    quantiles.erase(std::unique(quantiles.begin(), quantiles.end()), quantiles.end());
    std::erase_if(quantiles, [low](double edge) { return edge <= low; });
    return quantiles;
}

DrawnPicture binnedPicture(const PictureInput& input, const CountedMeans& counted) {
    DrawnPicture out;
    const Variable& y = *input.frame.variable(input.spec.of[0]);
    const Variable& x = *input.frame.variable(input.spec.of[1]);
    if (counted.bins.empty()) {
        out.nothing = "No row has both.";
        return out;
    }
    Exhibit e;
    e.title = "Mean of " + y.shown() + " along " + x.shown();
    e.xTitle = titleOnDesk(x);
    e.yTitle = titleOnDesk(y);
    double low = counted.bins.front().x;
    double high = low;
    for (const CountedMeans::Bin& bin : counted.bins) {
        e.intervals.push_back(meanInterval(bin.y, bin.x, input.alpha));
        low = std::min(low, bin.x);
        high = std::max(high, bin.x);
    }
    const double df = counted.n - 2.0;
    if (counted.xx > 0.0 && df > 0.0 && high > low) {
        const double slope = counted.xy / counted.xx;
        const double rest = std::max(counted.yy - slope * counted.xy, 0.0);
        const double se = std::sqrt(rest / df / counted.xx);
        const auto at = [&](double place) {
            return counted.meanY + slope * (place - counted.meanX);
        };
        e.lines.push_back({"line", {low, high}, {at(low), at(high)}, true});
        out.slope = slope;
        const double reach = criticalValue(input.alpha, df) * se;
        const int digits = decimalsFor(se);
        out.numbers = {{"slope", fixedNumber(slope, digits) + " (se " + fixedNumber(se, digits) +
                                     "; " + percentLevel(input.alpha) + " " +
                                     fixedNumber(slope - reach, digits) + " to " +
                                     fixedNumber(slope + reach, digits) + ")"}};
        if (counted.yy > 0.0) {
            const double r = counted.xy / std::sqrt(counted.xx * counted.yy);
            out.numbers.push_back({"r", fixedNumber(r, 3, true)});
        }
    }
    const std::size_t bins = counted.bins.size();
    e.subtitle = "n = " + countText(static_cast<std::size_t>(counted.n)) + " · " +
                 plural(bins, "bin", "bins of about as many rows each") + ": mean, " +
                 percentLevel(input.alpha) + " · line through all rows";
    out.words.push_back("Each mark is the mean of " + y.shown() + " among rows alike in " +
                        x.shown() +
                        ". Marks that bend away from the line say what the line leaves out.");
    out.exhibits.push_back(std::move(e));
    return out;
}

DrawnPicture drawBinned(const PictureInput& input) {
    const std::vector<double> x = numbersOnDesk(input.frame, input.spec.of[1]);
    const std::vector<double> y = numbersOnDesk(input.frame, input.spec.of[0]);
    std::vector<std::pair<double, double>> rows;
    for (std::size_t i = 0; i < x.size(); ++i) {
        if (!std::isnan(x[i]) && !std::isnan(y[i])) {
            rows.emplace_back(x[i], y[i]);
        }
    }
    std::sort(rows.begin(), rows.end());
    CountedMeans counted;
    if (rows.empty()) {
        return binnedPicture(input, counted);
    }
    std::vector<double> sorted;
    for (const auto& [xi, yi] : rows) {
        sorted.push_back(xi);
        counted.meanX += xi;
        counted.meanY += yi;
    }
    counted.n = static_cast<double>(rows.size());
    counted.meanX /= counted.n;
    counted.meanY /= counted.n;
    for (const auto& [xi, yi] : rows) {
        counted.xx += (xi - counted.meanX) * (xi - counted.meanX);
        counted.xy += (xi - counted.meanX) * (yi - counted.meanY);
        counted.yy += (yi - counted.meanY) * (yi - counted.meanY);
    }
    std::vector<double> quantiles;
    for (std::size_t k = 1; k < kEqualBins; ++k) {
        quantiles.push_back(
            sortedQuantile(sorted, static_cast<double>(k) / static_cast<double>(kEqualBins)));
    }
    const auto edges = equalBinEdges(std::move(quantiles), sorted.front());
    auto from = rows.begin();
    for (std::size_t k = 0; k <= edges.size(); ++k) {
        const auto to =
            k == edges.size() ? rows.end() : std::find_if(from, rows.end(), [&](const auto& row) {
                return row.first >= edges[k];
            });
        CountedMeans::Bin bin;
        std::vector<double> inside;
        for (; from != to; ++from) {
            bin.x += from->first;
            inside.push_back(from->second);
        }
        if (!inside.empty()) {
            bin.x /= static_cast<double>(inside.size());
            bin.y = summarise(inside);
            counted.bins.push_back(std::move(bin));
        }
    }
    DrawnPicture out = binnedPicture(input, counted);
    if (input.survey.isWeighted()) {
        out.words.emplace_back("~Every row counts alike here, whatever its weight in the survey.");
    }
    return out;
}

}  // namespace rapporto
