#include "core/report/left_out_picture.h"

#include "core/base/format.h"
#include "core/picture/axis.h"

#include <algorithm>
#include <cmath>
#include <numbers>

namespace rapporto {
namespace {

constexpr double kNearlyAll = 0.97;  // Of a share: beyond it everything goes.
constexpr int kSteps = 120;

/// The share of the outcome at which the estimate becomes `level`, for a share of the term; over
/// one where nothing does.
double outcomeShareAt(const LeftOut& found, double withTerm, double level) {
    const double taken = std::abs(found.estimate) - level * std::copysign(1.0, found.estimate);
    return taken * taken / (found.unit * found.unit) * (1.0 - withTerm) / withTerm;
}

/// The same where the near end of the interval reaches zero; over one where it does not. With
/// y = sin²θ the end is A − B·sinθ − C·cosθ, whose first zero from θ = 0 is sought.
double outcomeShareOfEnd(const LeftOut& found, double withTerm, double reach) {
    const double a = std::abs(found.estimate) * std::sqrt(1.0 - withTerm);
    const double b = found.unit * std::sqrt(withTerm);
    const double c = reach;
    const double r = std::hypot(b, c);
    if (c >= a || a > r) {
        return c >= a ? 0.0 : 2.0;
    }
    const double phase = std::atan2(c, b);
    double angle = std::asin(a / r) - phase;
    angle = angle < 0.0 ? std::numbers::pi - std::asin(a / r) - phase : angle;
    return angle <= 0.5 * std::numbers::pi ? std::pow(std::sin(angle), 2) : 2.0;
}

/// A line over the shares of the term, as far as it lies within the axes.
template <class Share>
Exhibit::Line along(const Strength& most, Share&& share) {
    Exhibit::Line line;
    for (int step = 1; step <= kSteps; ++step) {
        const double x = most.withTerm * static_cast<double>(step) / kSteps;
        const double y = share(x);
        if (y >= 0.0 && y <= most.withOutcome) {
            line.x.push_back(x);
            line.y.push_back(y);
        }
    }
    return line;
}

}  // namespace

const LeftOut* leftOutToDraw(const Answer& answer) {
    return answer.leftOut && *answer.leftOut && (*answer.leftOut)->unit > 0.0 ? &**answer.leftOut
                                                                              : nullptr;
}

Strength leftOutReach(const LeftOut& found) {
    Strength most{found.robustness.value_or(0.1), found.robustness.value_or(0.1)};
    for (const LeftOutBound& bound : found.bounds) {
        if (bound.estimate) {
            most.withTerm = std::max(most.withTerm, bound.withTerm);
            most.withOutcome = std::max(most.withOutcome, bound.withOutcome);
        }
    }
    const auto beyond = [](double share) { return std::clamp(1.15 * share, 0.02, kNearlyAll); };
    return {beyond(most.withTerm), beyond(most.withOutcome)};
}

Exhibit leftOutExhibit(const LeftOut& found, double alpha, const std::optional<Strength>& chosen) {
    Exhibit e;
    e.title = "What a cause left out would make of " + found.of;
    e.subtitle = "lines of equal estimate; at the lower left corner it is " +
                 fixedNumber(found.estimate, decimalsFor(found.se), true);
    e.xTitle = "share explained of what is left of " + found.of;
    e.yTitle = "share explained of what is left of the outcome";
    const Strength most = leftOutReach(found);
    // As far on the other side of zero as it is on this one: nobody asks beyond.
    const double size = std::abs(found.estimate);
    for (const Tick& tick : ticksOn(AxisScale::Number, -size, size, 9)) {
        if (tick.at == 0.0 || std::abs(tick.at) > size ||
            tick.at * found.estimate > 0.98 * size * size) {
            continue;
        }
        Exhibit::Line line =
            along(most, [&](double x) { return outcomeShareAt(found, x, tick.at); });
        line.name = tick.text;
        line.faint = true;
        if (line.x.size() > 1) {
            // Low at the right all lie together: those are named where they begin.
            if (line.y.back() < 0.12 * most.withOutcome) {
                std::reverse(line.x.begin(), line.x.end());
                std::reverse(line.y.begin(), line.y.end());
            }
            e.lines.push_back(std::move(line));
        }
    }
    const LeftBy weakest = leftBy(found, 0.0, 0.0, alpha);
    const double reach = weakest.high - weakest.estimate;
    Exhibit::Line end = along(most, [&](double x) { return outcomeShareOfEnd(found, x, reach); });
    if (found.robustnessAlpha.value_or(0.0) > 0.0 && end.x.size() > 1) {
        end.name = "its interval reaches zero";
        end.dashed = true;
        e.lines.push_back(std::move(end));
    }
    Exhibit::Line none = along(most, [&](double x) { return outcomeShareAt(found, x, 0.0); });
    if (none.x.size() > 1) {
        none.name = "no effect";
        e.lines.push_back(std::move(none));
    }
    int series = 0;
    for (std::size_t k = 0; k < found.bounds.size();) {
        Exhibit::Line line;
        line.name = found.bounds[k].benchmark;
        line.series = series++;
        const std::string& name = found.bounds[k].benchmark;
        for (; k < found.bounds.size() && found.bounds[k].benchmark == name; ++k) {
            if (found.bounds[k].estimate) {
                line.x.push_back(found.bounds[k].withTerm);
                line.y.push_back(found.bounds[k].withOutcome);
                e.x.push_back(found.bounds[k].withTerm);
                e.y.push_back(found.bounds[k].withOutcome);
            }
        }
        if (!line.x.empty()) {
            e.lines.push_back(std::move(line));
        }
    }
    if (chosen) {
        e.lines.push_back({.name = "",
                           .x = {chosen->withTerm, chosen->withTerm},
                           .y = {0.0, chosen->withOutcome},
                           .dashed = true});
        e.lines.push_back({.name = "",
                           .x = {0.0, chosen->withTerm},
                           .y = {chosen->withOutcome, chosen->withOutcome},
                           .dashed = true});
    }
    // The corners hold the axes where they are while something is dragged.
    e.lines.push_back({.name = "", .x = {0.0, most.withTerm}, .y = {0.0, 0.0}, .faint = true});
    e.lines.push_back({.name = "", .x = {0.0, 0.0}, .y = {0.0, most.withOutcome}, .faint = true});
    return e;
}

Exhibit stabilityExhibit(const Answer& answer) {
    Exhibit e;
    const LeftOut* found = leftOutToDraw(answer);
    if (found == nullptr || !found->stability || !found->stability->delta) {
        return e;
    }
    // Where what is left out adds nothing to the share: the other end of the line.
    LeftOutRequest own = *answer.question.leftOut;
    own.benchmarks.clear();
    own.r2MaxFactor = 1.0;
    const auto at = leftOut(*answer.design, *answer.fit, own, {}, answer.alpha);
    const Stability& asked = *found->stability;
    if (!at || !at->stability || !at->stability->delta || *at->stability->delta == 0.0 ||
        *asked.delta == 0.0 || !(asked.r2Max > at->stability->r2Max)) {
        return e;
    }
    const double from = at->stability->r2Max;
    const double first = 1.0 / *at->stability->delta;
    const double slope = (1.0 / *asked.delta - first) / (asked.r2Max - from);
    constexpr int kPlaces = 120;
    // Up to what was asked and some more; beyond forty nobody asks how much.
    const double most = std::clamp(1.3 * std::abs(*asked.delta), 3.0, 40.0);
    e.title = "How much stronger what is left out would have to be than what is in";
    e.subtitle = "to leave no effect of " + found->of + "; the point is where it was asked";
    e.xTitle = "share of the outcome that both explain together";
    e.yTitle = "times as strong";
    Exhibit::Line line;
    for (int k = 0; k <= kPlaces; ++k) {
        const double share = from + (1.0 - from) * k / kPlaces;
        const double times = 1.0 / (first + slope * (share - from));
        if (std::isfinite(times) && std::abs(times) <= most) {
            line.x.push_back(share);
            line.y.push_back(times);
        } else if (!line.x.empty()) {
            e.lines.push_back(std::move(line));
            line = {};
        }
    }
    if (!line.x.empty()) {
        e.lines.push_back(std::move(line));
    }
    e.lines.push_back(
        {.name = "as strong", .x = {from, 1.0}, .y = {1.0, 1.0}, .dashed = true, .faint = true});
    if (std::abs(*asked.delta) <= most) {
        e.x = {asked.r2Max};
        e.y = {*asked.delta};
    }
    e.zeroLine = true;
    return e;
}

std::string strengthReading(const LeftOut& found, const Strength& strength, double alpha) {
    const LeftBy left = leftBy(found, strength.withTerm, strength.withOutcome, alpha);
    const int decimals = decimalsFor(found.se);
    const auto share = [](double of) { return shortNumber(100.0 * of, 3) + " %"; };
    const auto number = [&](double value) { return fixedNumber(value, decimals, true); };
    const bool turned = left.estimate * found.estimate < 0.0;
    const bool open = left.low <= 0.0 && left.high >= 0.0;
    return "A cause left out that explains " + share(strength.withTerm) + " of what is left of " +
           found.of + " and " + share(strength.withOutcome) +
           " of what is left of the outcome, and draws the effect towards zero, would leave **" +
           number(left.estimate) + "** (" + number(left.low) + " to " + number(left.high) + ")" +
           (turned ? ": the sign turns."
            : open ? ": its interval holds zero."
                   : ".");
}

}  // namespace rapporto
