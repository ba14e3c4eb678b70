#include "core/base/format.h"
#include "core/describe/autocorrelation.h"
#include "core/numerics/distributions.h"
#include "core/picture/desk_rows.h"
#include "core/picture/kinds.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

/// Lags worth a look: three years of the series’ frequency, a quarter of the moments at most.
std::size_t lagsFor(const TimeOrder& order) {
    std::size_t longest = 0;
    for (std::size_t u = 0; u + 1 < order.units.starts.size(); ++u) {
        longest = std::max(longest, order.units.group(u).size());
    }
    const auto wanted =
        std::max<std::size_t>(12, 3 * static_cast<std::size_t>(momentsAYear(order.frequency)));
    return std::clamp<std::size_t>(longest / 4, std::min<std::size_t>(longest - 1, 4),
                                   std::min<std::size_t>(wanted, 60));
}

/// What a lag of one is called: “month”; “step” where it has no name of its own.
std::string momentName(const TimeOrder& order) {
    const bool named = order.step == 1.0 && order.frequency != Frequency::Number;
    return named ? order.stepText() : "step";
}

std::string boundText(double alpha, double bound) {
    return " · shaded: where " + shortNumber(100.0 * (1.0 - alpha), 3) +
           " % would lie without any (±" + fixedNumber(bound, 2, true) + ")";
}

}  // namespace

DrawnPicture drawAutocorrelation(const PictureInput& input) {
    DrawnPicture out;
    const auto& order = input.frame.timeOrder();
    if (!order) {
        out.nothing = order.error().text();
        return out;
    }
    const DeskVariable v = deskVariable(input.frame, input.spec.of[0]);
    const std::size_t lags = lagsFor(*order);
    const Autocorrelations a = autocorrelations(*order, v.cells, lags);
    if (a.r.empty() || a.n < 5) {
        out.nothing = v.name + " has too few different values in time.";
        return out;
    }
    const double bound =
        normalQuantile(1.0 - input.alpha / 2.0) / std::sqrt(static_cast<double>(a.n));
    const std::string unit =
        input.frame.layout().kind == Layout::Kind::Panel ? " · about each unit’s own mean" : "";
    Exhibit all = correlogram(a.r, 1, bound);
    all.title = "Autocorrelation of " + input.frame.variable(v.name)->shown();
    all.subtitle = "n = " + countText(a.n) + unit + boundText(input.alpha, bound);
    all.xTitle = "lag, " + momentName(*order) + "s";
    all.yTitle = "r";
    Exhibit partial = correlogram(a.partial, 1, bound);
    partial.title = "Partial: what is left when the shorter lags are held";
    partial.subtitle = "a lone early stem speaks for so many lagged terms";
    partial.xTitle = all.xTitle;
    partial.yTitle = "partial r";
    out.exhibits = {std::move(all), std::move(partial)};
    const bool related = a.p < input.alpha;
    out.words.push_back(
        std::string(related ? "Values do not look unrelated to those before them"
                            : "There is no clear sign that values are related to those before "
                              "them") +
        " (Ljung–Box over " + shortNumber(a.df) + " lags: Q = " + shortNumber(a.q, 4) + ", " +
        pClause(a.p) + "). The first autocorrelation is **" + fixedNumber(a.r[0], 2, true) + "**." +
        (a.r[0] > 0.95 ? " So slow a decay is what a trend or a random walk looks like: look at "
                         "the changes, too."
                       : "") +
        " A model asks this of its residuals, not of the outcome.");
    if (input.frame.layout().kind == Layout::Kind::Panel) {
        out.words.emplace_back(
            "~Taken about each unit’s own mean, correlations in short units come out too low, and "
            "the p is rough.");
    }
    return out;
}

DrawnPicture drawCrossCorrelation(const PictureInput& input) {
    DrawnPicture out;
    const auto& order = input.frame.timeOrder();
    if (!order) {
        out.nothing = order.error().text();
        return out;
    }
    const DeskVariable y = deskVariable(input.frame, input.spec.of[0]);
    const DeskVariable x = deskVariable(input.frame, input.spec.of[1]);
    const std::size_t lags = std::min<std::size_t>(lagsFor(*order), 24);
    std::size_t n = 0;
    for (std::size_t i = 0; i < x.cells.size(); ++i) {
        n += std::isnan(x.cells[i]) || std::isnan(y.cells[i]) ||
                     order->moment[i] == TimeOrder::kNoMoment
                 ? 0
                 : 1;
    }
    if (n < 5) {
        out.nothing = "Under five rows with a place in time have both.";
        return out;
    }
    const auto r = crossCorrelations(*order, x.cells, y.cells, lags);
    const double bound =
        normalQuantile(1.0 - input.alpha / 2.0) / std::sqrt(static_cast<double>(n));
    Exhibit e = correlogram(r, -static_cast<int>(lags), bound);
    e.title = input.frame.variable(y.name)->shown() + " with " +
              input.frame.variable(x.name)->shown() + " earlier or later";
    e.subtitle = "n = " + countText(n) + boundText(input.alpha, bound);
    e.xTitle = "how many " + momentName(*order) + "s earlier " + x.name + " is";
    e.yTitle = "r";
    const auto strongest = static_cast<std::size_t>(
        std::max_element(r.begin(), r.end(),
                         [](double a, double b) { return std::abs(a) < std::abs(b); }) -
        r.begin());
    const int lag = static_cast<int>(strongest) - static_cast<int>(lags);
    out.words.push_back("The strongest is **" + fixedNumber(r[strongest], 2, true) + "**, " +
                        (lag == 0 ? "at the same moment"
                                  : "with " + x.name + " " +
                                        plural(static_cast<std::size_t>(std::abs(lag)),
                                               momentName(*order), momentName(*order) + "s") +
                                        (lag > 0 ? " earlier" : " later")) +
                        ".");
    out.words.emplace_back(
        "~The shaded bound holds for unrelated values; two trending series pass it without "
        "having to do with each other.");
    out.exhibits.push_back(std::move(e));
    return out;
}

}  // namespace rapporto
