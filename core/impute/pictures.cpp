#include "core/impute/pictures.h"

#include "core/base/format.h"
#include "core/describe/density.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;

constexpr Index kMostLines = 12;  // Of sets beside what was seen.

/// Rows of the sample that have an answer.
std::vector<std::size_t> seenRows(const Frame& frame, const Column& column) {
    std::vector<std::size_t> rows;
    for (std::size_t i = 0; i < frame.rows(); ++i) {
        if (frame.states()[i] == RowState::In && !column.isMissing(i)) {
            rows.push_back(i);
        }
    }
    return rows;
}

std::vector<double> seenNumbers(const Frame& frame, const Column& column) {
    std::vector<double> out;
    for (const std::size_t row : seenRows(frame, column)) {
        out.push_back(column.numbers()[row]);
    }
    return out;
}

std::string unitOf(const Frame& frame, const std::string& name) {
    const Variable* variable = frame.variable(name);
    return variable == nullptr || variable->unit.empty() ? "" : ", " + variable->unit;
}

Exhibit levelsPicture(const ImputedVariable& variable, const Frame& frame, Exhibit out) {
    const Column& column = *frame.column(variable.name);
    const auto rows = seenRows(frame, column);
    const auto levels = levelsOf(column, *frame.variable(variable.name), rows);
    out.yTitle = "share";
    out.fromZero = true;
    for (std::size_t l = 0; l < levels.size(); ++l) {
        const double x = static_cast<double>(l) + 1.0;
        out.xNames.push_back(levels[l].label);
        Exhibit::Bar bar;
        bar.x0 = x - 0.38;
        bar.x1 = x + 0.38;
        bar.y1 = static_cast<double>(levels[l].count) / static_cast<double>(rows.size());
        bar.says = levels[l].label + ": " + fixedNumber(100.0 * bar.y1, 1) + " % of those seen";
        out.bars.push_back(std::move(bar));
        for (Index s = 0; s < std::min(variable.values.cols(), kMostLines); ++s) {
            const double share =
                (variable.values.col(s).array() == levels[l].code).cast<double>().mean();
            out.lines.push_back({"", {x - 0.3, x + 0.3}, {share, share}, false, true, 0});
        }
    }
    return out;
}

}  // namespace

Exhibit pathsPicture(const ImputedVariable& variable) {
    Exhibit out;
    out.title = "Paths of what is filled in: " + variable.label;
    out.subtitle = plural(static_cast<std::size_t>(variable.means.cols()), "set", "sets") +
                   "; paths that cannot be told apart have settled";
    out.xTitle = "round";
    out.yTitle = variable.follows.empty() ? "mean of what is filled in"
                                          : "share of “" + variable.follows + "” filled in";
    for (Index s = 0; s < variable.means.cols(); ++s) {
        Exhibit::Line line;
        line.faint = true;
        for (Index r = 0; r < variable.means.rows(); ++r) {
            line.x.push_back(static_cast<double>(r) + 1.0);
            line.y.push_back(variable.means(r, s));
        }
        out.lines.push_back(std::move(line));
    }
    Exhibit::Line mean;
    mean.name = "all sets";
    for (Index r = 0; r < variable.means.rows(); ++r) {
        mean.x.push_back(static_cast<double>(r) + 1.0);
        mean.y.push_back(variable.means.row(r).mean());
    }
    out.lines.push_back(std::move(mean));
    return out;
}

Exhibit filledPicture(const ImputedVariable& variable, const Frame& frame) {
    Exhibit out;
    const Column* column = frame.column(variable.name);
    out.title = "Filled in beside seen: " + variable.label;
    out.subtitle = plural(variable.rows.size(), "row", "rows") + " filled in, " +
                   plural(static_cast<std::size_t>(variable.values.cols()), "set", "sets");
    if (column == nullptr) {
        return out;
    }
    out.xTitle = variable.label + unitOf(frame, variable.name);
    if (!variable.follows.empty()) {
        return levelsPicture(variable, frame, std::move(out));
    }
    out.yTitle = "density";
    out.fromZero = true;
    const std::vector<double> seen = seenNumbers(frame, *column);
    const double width = sheatherJones(seen);
    for (Index s = 0; s < std::min(variable.values.cols(), kMostLines); ++s) {
        const Eigen::VectorXd filled = variable.values.col(s);
        const Density density =
            densityOf({filled.data(), static_cast<std::size_t>(filled.size())}, width);
        out.lines.push_back({s == 0 ? "filled in" : "", density.x, density.y, false, true, 0});
    }
    const Density density = densityOf(seen, width);
    out.lines.push_back({"seen", density.x, density.y});
    return out;
}

std::string partingReading(const ImputedVariable& variable, const Frame& frame) {
    const Column* column = frame.column(variable.name);
    if (column == nullptr || variable.rows.empty()) {
        return {};
    }
    constexpr double kFar = 0.5;  // Standard deviations, or …
    constexpr double kOff = 0.1;  // … in shares.
    if (!variable.follows.empty()) {
        const auto rows = seenRows(frame, *column);
        for (const FoundLevel& level : levelsOf(*column, *frame.variable(variable.name), rows)) {
            const double seen = static_cast<double>(level.count) / static_cast<double>(rows.size());
            const double filled = (variable.values.array() == level.code).cast<double>().mean();
            if (std::abs(filled - seen) > kOff) {
                return variable.label + ": " + level.label + " is " +
                       fixedNumber(100.0 * filled, 0) + " % of what is filled in and " +
                       fixedNumber(100.0 * seen, 0) + " % of what was seen.";
            }
        }
        return {};
    }
    const std::vector<double> seen = seenNumbers(frame, *column);
    const Eigen::Map<const Eigen::VectorXd> cells(seen.data(), static_cast<Index>(seen.size()));
    const double mean = cells.mean();
    const double spread = std::sqrt((cells.array() - mean).square().sum() /
                                    std::max(1.0, static_cast<double>(cells.size()) - 1.0));
    const double apart = (variable.values.mean() - mean) / spread;
    return std::abs(apart) > kFar ? variable.label + ": what is filled in lies on average " +
                                        fixedNumber(std::abs(apart), 1) + " standard deviations " +
                                        (apart > 0.0 ? "above" : "below") + " what was seen."
                                  : std::string();
}

}  // namespace rapporto
