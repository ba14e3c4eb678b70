#include "core/report/defence_picture.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/defend/defence.h"
#include "core/model/forecast.h"
#include "core/model/rows_left.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace rapporto {

const ByLot* lotsToDraw(const Answer& answer) {
    return answer.defence && answer.defence->byLot && *answer.defence->byLot
               ? &**answer.defence->byLot
               : nullptr;
}

Exhibit forecastExhibit(const Answer& answer) {
    Exhibit out;
    if (!answer.forecast || !*answer.forecast) {
        return out;
    }
    const Forecast& found = **answer.forecast;
    const Design& design = *answer.design;
    const bool logged = !design.outcomeLogOf.empty();
    const std::string name = shownNames(logged ? design.outcomeLogOf : design.outcome);
    out.title = name + ", as it was and as it is foretold";
    out.subtitle = "inner band: what is expected; outer band: the outcome itself; " +
                   percentLevel(answer.alpha);
    out.xScale = found.dates ? AxisScale::Date : AxisScale::Number;
    out.yTitle = name + (design.outcomeUnit.empty() || logged ? "" : ", " + design.outcomeUnit);
    const Eigen::VectorXd seen = outcomeOfRows(design, *answer.fit);
    std::vector<std::size_t> order(design.time.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::sort(order.begin(), order.end(),
              [&](std::size_t a, std::size_t b) { return design.time[a] < design.time[b]; });
    // So much of the past that what is to come can still be seen.
    const std::size_t shown =
        std::min(order.size(), std::max<std::size_t>(60, 6 * found.points.size()));
    Exhibit::Line past;
    for (std::size_t k = order.size() - shown; k < order.size(); ++k) {
        const double y = seen(static_cast<Eigen::Index>(order[k]));
        past.x.push_back(design.time[order[k]]);
        past.y.push_back(logged ? std::exp(y) : y);
        past.rows.push_back(static_cast<std::uint32_t>(design.rows[order[k]]));
    }
    Exhibit::Line ahead;
    ahead.series = 0;
    ahead.x.push_back(past.x.back());
    ahead.y.push_back(past.y.back());
    Exhibit::Band mean;
    Exhibit::Band row;
    row.series = mean.series = 0;
    for (const ForecastPoint& point : found.points) {
        ahead.x.push_back(point.time);
        mean.x.push_back(point.time);
        row.x.push_back(point.time);
        ahead.y.push_back(point.original ? point.original->mean : point.mean.value);
        mean.low.push_back(point.original ? point.original->low : point.mean.low);
        mean.high.push_back(point.original ? point.original->high : point.mean.high);
        row.low.push_back(point.original ? point.original->rowLow : point.rowLow);
        row.high.push_back(point.original ? point.original->rowHigh : point.rowHigh);
    }
    out.bands.push_back(std::move(row));
    out.bands.push_back(std::move(mean));
    out.lines.push_back(std::move(past));
    out.lines.push_back(std::move(ahead));
    return out;
}

}  // namespace rapporto
