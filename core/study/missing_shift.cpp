#include "core/study/missing_shift.h"

#include "core/base/format.h"
#include "core/base/parallel.h"
#include "core/defend/defence.h"
#include "core/impute/pooling.h"

#include <algorithm>
#include <cmath>
#include <mutex>

namespace rapporto {
namespace {

constexpr int kSteps = 4;  // To each side.

/// Standard deviation of the answers that were given.
double spreadOfSeen(const Frame& frame, const Column& column) {
    double n = 0.0;
    double mean = 0.0;
    double squares = 0.0;
    for (std::size_t i = 0; i < frame.rows(); ++i) {
        if (frame.states()[i] == RowState::In && !column.isMissing(i)) {
            n += 1.0;
            const double apart = column.numbers()[i] - mean;
            mean += apart / n;
            squares += apart * (column.numbers()[i] - mean);
        }
    }
    return n > 1.0 ? std::sqrt(squares / (n - 1.0)) : 0.0;
}

/// The sets with one variable’s filled numbers moved.
ImputedSets moved(const ImputedSets& sets, const std::string& variable, double by) {
    ImputedSets out = sets;
    for (ImputedVariable& one : out.variables) {
        if (one.name == variable) {
            one.values.array() += by;
        }
    }
    return out;
}

bool excludesZero(const MissingShift::Point& p) { return p.low > 0.0 || p.high < 0.0; }

Result<MissingShift::Point> pointAt(const Study& study, const Frame& frame,
                                    const Question& question, const ImputedSets& sets,
                                    const std::string& term, const Job& job) {
    std::vector<std::shared_ptr<const Fit>> fits(sets.count());
    std::optional<Refusal> refusal;
    std::mutex mutex;
    std::shared_ptr<const Design> design;
    inParallel(sets.count(), [&](std::size_t s) {
        RowCounts counts;
        auto found = estimateQuestion(study, frameOfSet(study, frame, sets, s), question, counts,
                                      job.quiet());
        const std::scoped_lock lock(mutex);
        if (!found) {
            refusal = found.error();
            return;
        }
        fits[s] = std::make_shared<const Fit>(std::move(found->fit));
        if (s == 0) {
            design = std::make_shared<const Design>(std::move(found->design));
        }
    });
    if (job.stopped()) {
        return stoppedWork();
    }
    if (refusal) {
        return tl::make_unexpected(*refusal);
    }
    const auto fit = pooledFit(*design, fits, study.alpha);
    if (!fit) {
        return tl::make_unexpected(fit.error());
    }
    const auto c = std::find_if(fit->coefficients.begin(), fit->coefficients.end(),
                                [&](const Coefficient& one) { return one.term == term; });
    if (c == fit->coefficients.end()) {
        return refuse(ErrorCode::UnknownName, "the question has no effect of ‘" + term + "’",
                      "missing answers", "Choose one of its terms.");
    }
    return MissingShift::Point{0.0, c->estimate, c->low, c->high};
}

}  // namespace

Result<MissingShift> missingShift(const Study& study, const Frame& frame, const Question& question,
                                  const ImputedSets& sets, const std::string& variable,
                                  const std::string& term, const Job& job) {
    const ImputedVariable* filled = sets.find(variable);
    if (filled == nullptr) {
        return refuse(ErrorCode::UnknownName, "nothing was filled in for ‘" + variable + "’",
                      "missing answers", "Choose a variable that is filled in.");
    }
    if (!filled->follows.empty()) {
        return refuse(ErrorCode::WrongType,
                      "‘" + variable + "’ has levels, which cannot be shifted", "missing answers",
                      "Choose a quantity or a count.");
    }
    Question asked = question;
    asked.missing = "rows";
    dropDefence(asked);
    asked.allChecks = false;
    asked.checks.clear();
    MissingShift out;
    out.variable = variable;
    out.label = filled->label;
    out.effect = term;
    out.unit = frame.variable(variable)->unit;
    out.spread = spreadOfSeen(frame, *frame.column(variable));
    for (int step = -kSteps; step <= kSteps; ++step) {
        const double by = out.spread * step / kSteps;
        auto point = pointAt(study, frame, asked, moved(sets, variable, by), term, job);
        if (!point) {
            return tl::make_unexpected(point.error());
        }
        point->shift = by;
        out.points.push_back(*point);
        job.report(static_cast<double>(step + kSteps + 1) / (2 * kSteps + 1));
    }
    const auto& middle = out.points[kSteps];
    for (int apart = 1; apart <= kSteps && !out.turns; ++apart) {
        for (const int side : {-1, 1}) {
            const auto at = static_cast<std::size_t>(kSteps + side * apart);
            const auto before = static_cast<std::size_t>(kSteps + side * (apart - 1));
            if (out.turns || excludesZero(out.points[at]) == excludesZero(middle)) {
                continue;
            }
            // Between the two the end that crosses zero is all but straight.
            const auto& a = out.points[before];
            const auto& b = out.points[at];
            const bool low = excludesZero(middle) ? middle.low > 0.0 : b.low > 0.0;
            const double from = low ? a.low : a.high;
            const double to = low ? b.low : b.high;
            out.turns = a.shift + (b.shift - a.shift) * from / (from - to);
        }
    }
    return out;
}

Exhibit shiftPicture(const MissingShift& shift, double alpha) {
    Exhibit out;
    out.title = "If those who did not answer differ: " + shift.effect;
    out.subtitle =
        "every filled-in " + shift.label + " moved alike; the band holds " + percentLevel(alpha);
    out.xTitle = "what is filled in for " + shift.label + ", moved by" +
                 (shift.unit.empty() ? "" : " (" + shift.unit + ")");
    out.yTitle = "effect of " + shift.effect;
    out.zeroLine = true;
    Exhibit::Band band;
    Exhibit::Line line;
    for (const MissingShift::Point& p : shift.points) {
        band.x.push_back(p.shift);
        band.low.push_back(p.low);
        band.high.push_back(p.high);
        line.x.push_back(p.shift);
        line.y.push_back(p.estimate);
    }
    double low = out.zeroLine ? 0.0 : band.low.front();
    double high = low;
    for (std::size_t k = 0; k < band.x.size(); ++k) {
        low = std::min(low, band.low[k]);
        high = std::max(high, band.high[k]);
    }
    out.bands.push_back(std::move(band));
    out.lines.push_back(std::move(line));
    out.lines.push_back({"as filled in", {0.0, 0.0}, {low, high}, true, true});
    if (shift.turns) {
        out.lines.push_back({"turns", {*shift.turns, *shift.turns}, {low, high}, true, true});
    }
    return out;
}

std::string shiftReading(const MissingShift& shift) {
    const auto& middle = shift.points[shift.points.size() / 2];
    const bool apart = excludesZero(middle);
    const std::string unit = shift.unit.empty() ? "" : " " + shift.unit;
    const std::string from = fixedNumber(shift.points.front().estimate, 3) + " to " +
                             fixedNumber(shift.points.back().estimate, 3);
    const auto [least, most] =
        std::minmax_element(shift.points.begin(), shift.points.end(),
                            [](const auto& a, const auto& b) { return a.estimate < b.estimate; });
    if (most->estimate - least->estimate < 1e-10 * (middle.high - middle.low)) {
        return "The effect of " + shift.effect + " does not hang on what is filled in for " +
               shift.label + ": choose a variable that the question uses.";
    }
    if (!shift.turns) {
        return "The effect of " + shift.effect +
               (apart ? " stays apart from zero" : " stays open") +
               " however those who did not answer differ, up to one standard deviation (" +
               shortNumber(shift.spread, 3) + unit + ") to either side: " + from + ".";
    }
    return "The effect of " + shift.effect +
           (apart ? " is no longer apart from zero" : " would be apart from zero") +
           " where those who did not answer have **" + shortNumber(std::abs(*shift.turns), 3) +
           unit + (*shift.turns < 0.0 ? " less" : " more") + "** of " + shift.label +
           " than was filled in for them (" +
           fixedNumber(std::abs(*shift.turns) / shift.spread, 2) + " standard deviations).";
}

}  // namespace rapporto
