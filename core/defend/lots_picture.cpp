#include "core/defend/lots_picture.h"

#include "core/base/format.h"
#include "core/describe/summary.h"

#include <algorithm>

namespace rapporto {

Exhibit lotsExhibit(const ByLot& found) {
    Exhibit out;
    out.title = found.of + " by lot";
    out.subtitle = (found.exact ? "all " : "") + countText(found.lots.size()) + " lots among " +
                   found.drawn + ", with no effect on anybody; the line is the one that fell";
    out.xTitle = found.joint ? "F of " + found.of : "effect of " + found.of + " that a lot gives";
    out.yTitle = "lots";
    out.fromZero = true;
    const Histogram bins = histogram(found.lots);
    double most = 0.0;
    const double own = found.joint ? found.statistic : found.estimate;
    for (std::size_t k = 0; k < bins.counts.size(); ++k) {
        Exhibit::Bar bar;
        bar.x0 = bins.from + bins.width * static_cast<double>(k);
        bar.x1 = bar.x0 + bins.width;
        bar.y1 = static_cast<double>(bins.counts[k]);
        bar.says = plural(bins.counts[k], "lot", "lots") + " from " + shortNumber(bar.x0) + " to " +
                   shortNumber(bar.x1);
        most = std::max(most, bar.y1);
        out.bars.push_back(std::move(bar));
    }
    out.lines.push_back({"", {own, own}, {0.0, most}});
    if (!found.joint) {
        out.lines.push_back({"", {-own, -own}, {0.0, most}, true, true});
    }
    return out;
}

}  // namespace rapporto
