#include "core/picture/axis.h"

#include "core/base/format.h"
#include "core/data/column.h"

#include <fmt/format.h>

#include <array>
#include <chrono>
#include <cmath>

namespace rapporto {
namespace {

constexpr std::array kMonths = {"Jan", "Feb", "Mar", "Apr", "May", "Jun",
                                "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"};

std::string numberText(double v, double step) {
    if (v != 0.0 && (std::abs(v) >= 1e6 || step < 1e-5)) {
        return shortNumber(v, 3);
    }
    // Four digits stand together on an axis: most of them are years.
    const int decimals = step >= 1.0 ? 0 : static_cast<int>(std::ceil(-std::log10(step) - 1e-9));
    return step >= 1.0 && std::abs(v) < 10000.0
               ? (v < 0.0 ? "−" : "") + fmt::format("{:.0f}", std::abs(v))
               : fixedNumber(v, decimals);
}

/// The first round number of years that is not under `years`, nearly.
int wholeYears(double years) {
    for (int power = 1;; power *= 10) {
        for (const int lead : {1, 2, 5}) {
            if (lead * power >= 0.95 * years) {
                return lead * power;
            }
        }
    }
}

std::vector<Tick> dateTicks(double low, double high, int wanted) {
    using namespace std::chrono;
    std::vector<Tick> out;
    const double days = (high - low) / wanted;
    if (days < 20.0) {
        // Whole days, named in full.
        const double step = days <= 1.0 ? 1.0 : days <= 2.0 ? 2.0 : days <= 7.5 ? 7.0 : 14.0;
        for (double at = std::ceil(low / step) * step; at <= high; at += step) {
            const year_month_day date{sys_days{std::chrono::days{static_cast<int>(at)}}};
            out.push_back({at, fmt::format("{} {}", static_cast<unsigned>(date.day()),
                                           kMonths[static_cast<unsigned>(date.month()) - 1])});
        }
        return out;
    }
    const double months = days / 30.44;
    const int step = months <= 1.6   ? 1
                     : months <= 4.0 ? 3
                     : months <= 9.0 ? 6
                                     : 12 * wholeYears(months / 12.0);
    const year_month_day first{sys_days{std::chrono::days{static_cast<int>(std::floor(low))}}};
    int month = static_cast<int>(first.year()) * 12 +
                static_cast<int>(static_cast<unsigned>(first.month())) - 1;
    month -= ((month % step) + step) % step;
    for (;; month += step) {
        const year_month_day date{
            year{month / 12}, std::chrono::month{static_cast<unsigned>(month % 12) + 1}, day{1}};
        const auto at = static_cast<double>(sys_days{date}.time_since_epoch().count());
        if (at > high) {
            return out;
        }
        if (at >= low) {
            out.push_back(
                {at, step % 12 == 0
                         ? fmt::format("{}", month / 12)
                         : fmt::format("{} {}", kMonths[static_cast<std::size_t>(month % 12)],
                                       month / 12)});
        }
    }
}

std::vector<Tick> logTicks(double low, double high, int wanted) {
    std::vector<Tick> out;
    const double decades = high - low;
    const auto every = static_cast<int>(std::max(1.0, std::ceil(decades / wanted)));
    static constexpr std::array kWithin = {1.0, 2.0, 5.0};
    const std::size_t within = every > 1 || decades * 3.0 > 2.0 * wanted ? 1 : 3;
    for (int power = static_cast<int>(std::floor(low)); power <= high; ++power) {
        for (std::size_t k = 0; k < within; ++k) {
            const double at = power + std::log10(kWithin[k]);
            if (at >= low && at <= high && power % every == 0) {
                out.push_back({at, shortNumber(kWithin[k] * std::pow(10.0, power), 1)});
            }
        }
    }
    // Under a single round place says nothing of the scale: name the numbers between.
    if (out.size() < 2) {
        out.clear();
        for (const double v : roundPlaces(std::pow(10.0, low), std::pow(10.0, high), wanted)) {
            if (v > 0.0) {
                out.push_back({std::log10(v), shortNumber(v, 3)});
            }
        }
    }
    return out;
}

}  // namespace

std::vector<double> roundPlaces(double low, double high, int wanted) {
    std::vector<double> places;
    if (!(high > low) || wanted < 1) {
        return places;
    }
    const double raw = (high - low) / wanted;
    const double power = std::pow(10.0, std::floor(std::log10(raw)));
    const double lead = raw / power;
    const double step = (lead < 1.5 ? 1.0 : lead < 3.5 ? 2.0 : lead < 7.5 ? 5.0 : 10.0) * power;
    const double from = std::ceil(low / step - 1e-9);
    for (double k = from; k * step <= high + step * 1e-9; k += 1.0) {
        places.push_back(k == 0.0 ? 0.0 : k * step);
    }
    return places;
}

std::vector<Tick> ticksOn(AxisScale scale, double low, double high, int wanted) {
    wanted = std::max(wanted, 1);
    if (!(high > low)) {
        return {};
    }
    if (scale == AxisScale::Date) {
        return dateTicks(low, high, wanted);
    }
    if (scale == AxisScale::Log) {
        return logTicks(low, high, wanted);
    }
    std::vector<Tick> out;
    auto places = roundPlaces(low, high, wanted);
    // A single number tells no scale.
    for (int more = wanted + 1; places.size() < 2 && more < wanted + 6; ++more) {
        places = roundPlaces(low, high, more);
    }
    for (const double v : places) {
        out.push_back({v, numberText(v, places.size() > 1 ? places[1] - places[0] : 1.0)});
    }
    return out;
}

std::string valueOn(AxisScale scale, double coordinate) {
    if (scale == AxisScale::Date) {
        return dateText(coordinate);
    }
    return shortNumber(scale == AxisScale::Log ? std::pow(10.0, coordinate) : coordinate, 5);
}

}  // namespace rapporto
