#include "core/checks/event_picture.h"

#include "core/base/format.h"
#include "core/describe/row_names.h"

#include <algorithm>
#include <array>
#include <cmath>

namespace rapporto {

std::string momentName(const Frame& frame, std::size_t row) {
    const std::string& time = frame.layout().time;
    return cellText(*frame.column(time), *frame.variable(time), row);
}

Exhibit eventExhibit(const EventFit& event, double alpha, const std::string& outcome,
                     const std::string& unit) {
    Exhibit e;
    e.title = event.before && event.before->p < alpha
                  ? "Something moved before the change"
                  : "Before and after " + event.variable + " is switched on";
    e.subtitle =
        "effect on " + outcome + " by the distance from the change, the moment before it " +
        "zero · bars: intervals one by one" + (event.together > 0.0 ? ", ground: all at once" : "");
    e.xTitle = "moments from the change";
    e.yTitle = unit.empty() ? "effect" : "effect in " + unit;
    e.zeroLine = true;
    Exhibit::Band band;
    double least = 0.0;
    double most = 0.0;
    for (const EventFit::Place& place : event.places) {
        const auto at = static_cast<double>(place.at);
        std::string text = place.at < 0   ? "−" + std::to_string(-place.at)
                           : place.at > 0 ? "+" + std::to_string(place.at)
                                          : "0";
        text = (!place.open ? "" : place.at < 0 ? "≤ " : "≥ ") + text;
        e.xTicks.push_back({at, text});
        if (!place.reference) {
            e.intervals.push_back(
                {at, place.low, place.estimate, place.high, place.at < 0 ? -1 : 1});
        }
        const double reach = event.together * place.se;
        band.x.push_back(at);
        band.low.push_back(place.estimate - reach);
        band.high.push_back(place.estimate + reach);
        least = std::min({least, place.low, place.estimate - reach});
        most = std::max({most, place.high, place.estimate + reach});
    }
    if (event.together > 0.0) {
        e.bands.push_back(std::move(band));
    }
    Exhibit::Line change;
    change.name = "the change";
    change.x = {-0.5, -0.5};
    change.y = {least, most};
    change.dashed = true;
    e.lines.push_back(std::move(change));
    if (event.after) {
        Exhibit::Line mean;
        mean.name = "mean after";
        mean.x = {0.0, static_cast<double>(event.places.back().at)};
        mean.y = {*event.after, *event.after};
        mean.series = 1;
        if (event.places.back().at > 0) {
            e.lines.push_back(std::move(mean));
        }
    }
    return e;
}

Exhibit comparisonExhibit(const ComparisonSplit& split, const std::string& outcome,
                          const std::function<std::string(std::int64_t)>& nameOf) {
    static const std::array<const char*, 4> kKinds = {
        "against never changed", "against not yet changed", "against changed before",
        "against changed all along"};
    Exhibit e;
    e.title = "Who is held against whom";
    e.subtitle = "each comparison of two cohorts by its share of the plain effect · largest: ";
    e.xTitle = "share of the plain effect";
    e.yTitle = "effect on " + outcome;
    e.zeroLine = true;
    for (const char* kind : kKinds) {
        e.seriesNames.emplace_back(kind);
    }
    double most = 0.0;
    for (const Comparison& one : split.comparisons) {
        e.x.push_back(one.weight);
        e.y.push_back(one.estimate);
        e.series.push_back(static_cast<std::uint8_t>(one.kind));
        most = std::max(most, one.weight);
    }
    const Comparison& first = split.comparisons.front();
    const auto cohort = [&](std::int64_t moment) {
        return moment == kNever    ? std::string("those who never do")
               : moment == kAlways ? std::string("those changed all along")
                                   : "those of " + nameOf(moment);
    };
    e.subtitle += "those who change in " + nameOf(first.changed) + " against " +
                  cohort(first.against) + ", " + fixedNumber(100.0 * first.weight, 0) + " %";
    Exhibit::Line all;
    all.name = "plain effect";
    all.x = {0.0, most};
    all.y = {split.effect, split.effect};
    all.dashed = true;
    e.lines.push_back(std::move(all));
    return e;
}

}  // namespace rapporto
