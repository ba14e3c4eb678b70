#include "core/base/format.h"
#include "core/describe/summary.h"
#include "core/describe/survey_mean.h"
#include "core/report/left_wording.h"
#include "core/report/wording.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

/// Of a variable of which moments are given alone.
std::string momentsReading(const SummaryMatrix& moments, const std::string& name) {
    const auto at = static_cast<Eigen::Index>(
        std::find(moments.names.begin(), moments.names.end(), name) - moments.names.begin());
    return (moments.hasMeans ? "Its mean is **" + shortNumber(moments.mean(at), 5) + "**"
                             : std::string("Its mean is not given")) +
           (moments.hasScale ? ", its standard deviation **" + shortNumber(moments.sd(at), 4) + "**"
                             : std::string(", nor its standard deviation")) +
           ", over " + countText(static_cast<std::size_t>(moments.n)) +
           " rows that are not at hand: its shape cannot be told.";
}

std::string levelsReading(const Column& column, const Variable& variable) {
    const auto levels = levelsOf(column, variable);
    if (variable.measure == Measure::Text && levels.size() * 2 > column.size()) {
        return "A text that differs from row to row (**" + countText(levels.size()) +
               "** of them), such as “" + levels.front().label +
               "”: it names the rows in pictures.";
    }
    std::string text = countText(levels.size()) + " levels in " +
                       countText(column.size() - column.countMissing()) + " rows: ";
    for (std::size_t l = 0; l < std::min<std::size_t>(levels.size(), 6); ++l) {
        text += (l > 0 ? ", " : "") + levels[l].label + " (" + countText(levels[l].count) + ")";
    }
    return text + (levels.size() > 6 ? " …" : ".");
}

/// Of numbers: where the middle half lies and which way the tail goes; of a yes–no its share.
std::vector<std::string> numbersReading(const Summary& s, const Variable& variable) {
    std::vector<std::string> out;
    const std::string unit = variable.unit.empty() ? "" : " " + variable.unit;
    if (variable.measure == Measure::YesNo) {
        out.push_back("Yes in **" + fixedNumber(100.0 * s.mean, 1) + " %** of " + countText(s.n) +
                      " rows.");
    } else {
        out.push_back("Half of the rows in the sample lie between " + shortNumber(s.lowerQuartile) +
                      " and " + shortNumber(s.upperQuartile) + unit + "; the middle one is at **" +
                      shortNumber(s.median) + "**.");
        if (std::abs(s.skewness) > 0.8) {
            out.push_back(
                std::string("A long tail ") +
                (s.skewness > 0.0 ? "to the right pulls the mean up to "
                                  : "to the left pulls the mean down to ") +
                shortNumber(s.mean) + " (skewness " + fixedNumber(s.skewness, 1) + ")." +
                (s.low > 0.0 && s.skewness > 1.0 ? " A logarithm may straighten it." : ""));
        } else {
            out.push_back("The mean is " + shortNumber(s.mean) + ", the standard deviation " +
                          shortNumber(s.sd, 3) + "; the two sides are about even.");
        }
    }
    return out;
}

}  // namespace

std::vector<std::string> variableReading(const Frame& frame, const std::string& name) {
    std::vector<std::string> out;
    const Column* column = frame.column(name);
    const Variable* variable = frame.variable(name);
    if (column == nullptr) {
        const auto broken = frame.broken().find(name);
        out.push_back(broken == frame.broken().end() ? "There is no such variable."
                                                     : "~" + capitalised(broken->second.text()));
        return out;
    }
    if (frame.left() != nullptr) {
        out.push_back(leftVariableWords(*frame.left(), *variable) + ". Its cells " +
                      frame.left()->words().stay + ".");
        return out;
    }
    if (const SummaryMatrix* moments = frame.moments()) {
        return {momentsReading(*moments, name)};
    }
    if (column->countMissing() == column->size()) {
        out.emplace_back("It is missing in **every row**.");
        return out;
    }
    if (isGrouping(variable->measure) || column->isText()) {
        return {levelsReading(*column, *variable)};
    }
    if (variable->measure == Measure::Date) {
        const Summary d = summarise(column->numbers());
        out.push_back("Dates from **" + dateText(d.low) + "** to **" + dateText(d.high) + "**.");
        return out;
    }
    const Summary s = summarise(column->numbers(), rowsInSample(frame));
    if (s.n == 0) {
        out.emplace_back("It is missing in **every row of the sample**.");
        return out;
    }
    out = numbersReading(s, *variable);
    for (const Loss& loss : frame.lossesIn(name)) {
        out.push_back("~" + plural(loss.rows, "row has", "rows have") + " no value: " + loss.cause +
                      ".");
    }
    return out;
}

}  // namespace rapporto
