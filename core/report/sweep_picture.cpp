#include "core/report/sweep_picture.h"

#include "core/base/format.h"
#include "core/picture/axis.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

constexpr const char* kInk = "#232733";
constexpr const char* kSoft = "#6B6F7B";
constexpr const char* kHairline = "#D9D2C3";
constexpr const char* kClear = "#35527D";

constexpr double kCurve = 150.0;  // Points, of the curve’s height.
constexpr double kRow = 13.0;
constexpr double kLetters = 8.5;
constexpr double kMoves = 62.0;  // What a choice does, at the right.

/// Digits for a sweep’s effects: by the error in its middle.
int decimalsOf(const Sweep& sweep) {
    return decimalsFor(sweep.results[sweep.results.size() / 2].se);
}

/// Where things stand on the page.
struct Room {
    double left = 0.0;
    double right = 0.0;
    double low = 0.0;  ///< Of the effect.
    double high = 0.0;
    double step = 0.0;  ///< From one specification to the next.

    [[nodiscard]] double across(std::size_t result) const {
        return left + (static_cast<double>(result) + 0.5) * step;
    }

    [[nodiscard]] double up(double effect) const {
        return 4.0 + kCurve * (1.0 - (effect - low) / (high - low));
    }
};

Room roomFor(const Sweep& sweep, double width) {
    Room room;
    double longest = 40.0;
    for (const Sweep::Choice& choice : sweep.choices) {
        longest = std::max(longest, wordsWidth(choice.name, kLetters));
    }
    room.left = std::min(longest + 10.0, 0.34 * width);
    room.right = width - kMoves;
    for (const SweepResult& r : sweep.results) {
        room.low = std::min(room.low, r.low);
        room.high = std::max(room.high, r.high);
    }
    const double margin = room.high > room.low ? 0.05 * (room.high - room.low) : 1.0;
    room.low -= margin;
    room.high += margin;
    room.step = (room.right - room.left) / static_cast<double>(sweep.results.size());
    return room;
}

void drawCurve(Drawing& out, const Sweep& sweep, double alpha, const Room& room) {
    for (const Tick& tick : ticksOn(AxisScale::Number, room.low, room.high, 5)) {
        const bool zero = tick.at == 0.0;
        out.line({room.left, room.up(tick.at)}, {room.right, room.up(tick.at)},
                 {.stroke = zero ? kSoft : kHairline, .width = zero ? 1.0 : 0.6});
        out.words({room.left - 5.0, room.up(tick.at) + 3.0}, tick.text, kLetters, kSoft,
                  Drawing::Anchor::End);
    }
    const double thick = std::clamp(0.5 * room.step, 0.25, 1.6);
    for (std::size_t i = 0; i < sweep.results.size(); ++i) {
        const SweepResult& r = sweep.results[i];
        const std::string colour = r.p < alpha ? "#AEBBCE" : "#D3D3D6";
        out.line({room.across(i), room.up(r.low)}, {room.across(i), room.up(r.high)},
                 {.stroke = colour, .width = thick});
    }
    for (std::size_t i = 0; i < sweep.results.size(); ++i) {
        const SweepResult& r = sweep.results[i];
        // Filled or open, so that no meaning hangs on the colour alone.
        const bool clear = r.p < alpha;
        out.circle({room.across(i), room.up(r.estimate)}, clear ? 1.3 : 1.1,
                   clear ? Drawing::Pen{.fill = kClear}
                         : Drawing::Pen{.stroke = kSoft, .width = 0.6, .fill = "#FFFFFF"});
    }
}

void drawChoices(Drawing& out, const Sweep& sweep, const Room& room) {
    double top = kCurve + 20.0;
    out.words({0.0, top - 4.0}, "choice", kLetters, kSoft);
    out.words({out.width, top - 4.0}, "moves it by", kLetters, kSoft, Drawing::Anchor::End);
    const int decimals = decimalsOf(sweep);
    const double thick = std::clamp(0.7 * room.step, 0.35, 2.2);
    for (const Sweep::Choice& choice : sweep.choices) {
        out.line({0.0, top}, {out.width, top}, {.stroke = kHairline, .width = 0.6});
        out.words({0.0, top + 9.5}, fittedWords(choice.name, kLetters, room.left - 8.0), kLetters,
                  kInk);
        for (std::size_t i = 0; i < sweep.results.size(); ++i) {
            if (sweep.made(sweep.results[i], choice)) {
                out.line({room.across(i), top + 3.0}, {room.across(i), top + kRow - 3.0},
                         {.stroke = kClear, .width = thick});
            }
        }
        out.words({out.width, top + 9.5}, fixedNumber(choice.moves, decimals, true), kLetters, kInk,
                  Drawing::Anchor::End);
        top += kRow;
    }
}

}  // namespace

Drawing sweepDrawing(const Sweep& sweep, double alpha, double width) {
    Drawing out;
    if (sweep.results.empty()) {
        return out;
    }
    out.width = width;
    out.height = kCurve + 24.0 + kRow * static_cast<double>(sweep.choices.size());
    const Room room = roomFor(sweep, width);
    drawCurve(out, sweep, alpha, room);
    drawChoices(out, sweep, room);
    return out;
}

std::vector<std::string> sweepReading(const Sweep& sweep) {
    std::vector<std::string> out;
    if (sweep.results.empty()) {
        return {"No specification has an answer."};
    }
    const int d = decimalsOf(sweep);
    out.push_back(
        "Over " + countText(sweep.results.size()) + " specifications the effect runs from " +
        fixedNumber(sweep.results.front().estimate, d) + " to " +
        fixedNumber(sweep.results.back().estimate, d) + ", with a median of **" +
        fixedNumber(sweep.median, d) + "**. In **" + fixedNumber(100.0 * sweep.shareClear, 0) +
        " %** its interval leaves zero out, and in " + fixedNumber(100.0 * sweep.sharePositive, 0) +
        " % it is positive.");
    const auto most = std::max_element(
        sweep.choices.begin(), sweep.choices.end(),
        [](const auto& a, const auto& b) { return std::abs(a.moves) < std::abs(b.moves); });
    if (most != sweep.choices.end()) {
        out.push_back("What moves it most is **" + most->name +
                      "**: " + fixedNumber(most->moves, d) +
                      " on average against the specifications without it.");
    }
    if (sweep.failed > 0) {
        out.push_back("~" + plural(sweep.failed, "specification has", "specifications have") +
                      " no answer and are not drawn.");
    }
    out.emplace_back(
        "~Specifications are not independent samples: the share with a clear effect is no p-value, "
        "and a choice that is wrong counts as much here as one that is right.");
    return out;
}

std::string sweptOver(const Sweep& sweep) {
    std::vector<std::string> terms;
    for (const std::size_t t : sweep.spec.vary) {
        terms.push_back(sweep.spec.question.terms[t].shown());
    }
    std::vector<std::string> errors;
    for (const ErrorSpec& one : sweep.spec.errors) {
        errors.push_back(one.shown());
    }
    std::vector<std::string> rows;
    for (const SweepSample& one : sweep.spec.samples) {
        rows.push_back(one.name);
    }
    std::string out = terms.empty() ? "" : "with and without " + joinedNames(terms) + "; ";
    out += "errors " + joinedNames(errors) + "; " + joinedNames(rows) + ".";
    return capitalised(out);
}

}  // namespace rapporto
