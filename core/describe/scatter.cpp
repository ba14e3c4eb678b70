#include "core/describe/scatter.h"

#include "core/base/format.h"
#include "core/describe/smooth.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

/// Numbers of a variable in every row; groups as the rank of their level.
std::vector<double> numbersOf(const Frame& frame, const std::string& name) {
    const Column& column = *frame.column(name);
    const Variable& variable = *frame.variable(name);
    if (!column.isText() && !isGrouping(variable.measure)) {
        return {column.numbers().begin(), column.numbers().end()};
    }
    std::map<double, double> rank;
    for (const FoundLevel& level : levelsOf(column, variable)) {
        rank.emplace(level.code, static_cast<double>(rank.size() + 1));
    }
    std::vector<double> out(column.size(), std::nan(""));
    for (std::size_t i = 0; i < out.size(); ++i) {
        if (!column.isMissing(i)) {
            out[i] = rank[column.isText() ? column.codes()[i] : column.numbers()[i]];
        }
    }
    return out;
}

struct Line {
    double slope = 0.0;
    double constant = 0.0;
};

Line lineThrough(const std::vector<double>& x, const std::vector<double>& y,
                 const std::vector<std::size_t>& rows, const std::set<std::size_t>& without) {
    double n = 0.0;
    double mx = 0.0;
    double my = 0.0;
    const auto each = [&](auto f) {
        for (std::size_t i = 0; i < x.size(); ++i) {
            if (without.empty() || !without.contains(rows[i])) {
                f(x[i], y[i]);
            }
        }
    };
    each([&](double a, double b) {
        n += 1.0;
        mx += a;
        my += b;
    });
    mx /= std::max(n, 1.0);
    my /= std::max(n, 1.0);
    double sxx = 0.0;
    double sxy = 0.0;
    each([&](double a, double b) {
        sxx += (a - mx) * (a - mx);
        sxy += (a - mx) * (b - my);
    });
    Line line;
    line.slope = sxx > 0.0 ? sxy / sxx : 0.0;
    line.constant = my - line.slope * mx;
    return line;
}

}  // namespace

Distribution distributionOf(const Frame& frame, const std::string& name,
                            const std::set<std::size_t>& selected) {
    Distribution out;
    const Column& column = *frame.column(name);
    const Variable& variable = *frame.variable(name);
    const bool groups = column.isText() || isGrouping(variable.measure);
    std::vector<double> cells = numbersOf(frame, name);
    for (std::size_t i = 0; i < cells.size(); ++i) {
        if (frame.states()[i] != RowState::In) {
            cells[i] = std::nan("");
        }
    }
    if (groups) {
        for (const FoundLevel& level : levelsOf(column, variable)) {
            out.levelNames.push_back(level.label);
        }
        out.bins.from = 0.5;
        out.bins.counts.assign(out.levelNames.size(), 0);
        for (const double c : cells) {
            if (!std::isnan(c)) {
                ++out.bins.counts[static_cast<std::size_t>(c) - 1];
            }
        }
    } else {
        out.bins = histogram(cells);
        out.summary = summarise(cells);
    }
    out.selected = out.bins;
    std::fill(out.selected.counts.begin(), out.selected.counts.end(), 0);
    for (const std::size_t row : selected) {
        if (row < cells.size() && !std::isnan(cells[row]) && !out.selected.counts.empty()) {
            const auto bin = static_cast<std::size_t>(
                std::max((cells[row] - out.bins.from) / out.bins.width, 0.0));
            ++out.selected.counts[std::min(bin, out.selected.counts.size() - 1)];
        }
    }
    for (const std::size_t c : out.bins.counts) {
        out.n += c;
    }
    return out;
}

Scatter scatterOf(const Frame& frame, const std::string& xName, const std::string& yName,
                  const std::set<std::size_t>& selected) {
    Scatter out;
    const auto xs = numbersOf(frame, xName);
    const auto ys = numbersOf(frame, yName);
    Exhibit& e = out.exhibit;
    for (std::size_t i = 0; i < xs.size(); ++i) {
        if (frame.states()[i] == RowState::In && !std::isnan(xs[i]) && !std::isnan(ys[i])) {
            e.x.push_back(xs[i]);
            e.y.push_back(ys[i]);
            e.rows.push_back(i);
        }
    }
    const Variable& x = *frame.variable(xName);
    const Variable& y = *frame.variable(yName);
    e.title = yName + " against " + xName;
    e.subtitle = "n = " + countText(e.x.size()) + " · line and local smooth (span .5)";
    e.xTitle = x.shown() + (x.unit.empty() ? "" : ", " + x.unit);
    e.yTitle = y.shown() + (y.unit.empty() ? "" : ", " + y.unit);
    if (e.x.empty()) {
        return out;
    }
    const Line line = lineThrough(e.x, e.y, e.rows, {});
    out.slope = line.slope;
    out.slopeWithout = lineThrough(e.x, e.y, e.rows, selected).slope;
    const auto [low, high] = std::minmax_element(e.x.begin(), e.x.end());
    e.lines.push_back(localLine(e.x, e.y, 0.5, "smooth"));
    e.lines.push_back({"line",
                       {*low, *high},
                       {line.constant + line.slope * *low, line.constant + line.slope * *high},
                       true});
    return out;
}

}  // namespace rapporto
