#include "core/picture/mark_table.h"

#include "core/base/format.h"
#include "core/picture/axis.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

constexpr std::size_t kLines = 4;  ///< Parts before the first line.

std::string kindName(Mark::Kind kind) {
    switch (kind) {
        case Mark::Kind::Point:
            return "point";
        case Mark::Kind::Bar:
            return "bar";
        case Mark::Kind::Box:
            return "box";
        case Mark::Kind::Interval:
            return "interval";
        case Mark::Kind::Place:
            return "line";
        case Mark::Kind::Band:
            return "band";
    }
    return {};
}

std::string seriesName(const Exhibit& e, int series) {
    const auto at = static_cast<std::size_t>(std::max(series, 0));
    return series >= 0 && at < e.seriesNames.size() ? e.seriesNames[at] : std::string();
}

}  // namespace

MarkTable::MarkTable(std::shared_ptr<const Exhibit> exhibit, RowNamer namer)
    : exhibit_(std::move(exhibit)), namer_(std::move(namer)) {
    const Exhibit& e = *exhibit_;
    std::size_t end = 0;
    const auto add = [&](std::size_t marks) {
        end += marks;
        ends_.push_back(end);
    };
    // Bars that lie down have lengths in place of points.
    add(e.barNames.empty() ? std::min(e.x.size(), e.y.size()) : e.x.size());
    add(e.bars.size());
    add(e.boxes.size());
    add(e.intervals.size());
    for (const Exhibit::Line& line : e.lines) {
        add(std::min(line.x.size(), line.y.size()));
    }
    for (const Exhibit::Band& band : e.bands) {
        add(std::min({band.x.size(), band.low.size(), band.high.size()}));
    }
    ends2_ = !e.bars.empty() || !e.boxes.empty() || !e.intervals.empty() || !e.bands.empty();
    heads_ = {"mark", "name", e.xTitle.empty() ? "across" : e.xTitle};
    if (e.barNames.empty()) {
        heads_.push_back(e.yTitle.empty() ? "up" : e.yTitle);
    }
    if (ends2_) {
        heads_.insert(heads_.end(), {"from", "to"});
    }
}

Mark MarkTable::mark(std::size_t row) const {
    const Exhibit& e = *exhibit_;
    const auto part =
        static_cast<std::size_t>(std::upper_bound(ends_.begin(), ends_.end(), row) - ends_.begin());
    const std::size_t i = row - (part > 0 ? ends_[part - 1] : 0);
    if (part == 0) {
        return {Mark::Kind::Point, i, 0, e.x[i], e.barNames.empty() ? e.y[i] : 0.0};
    }
    if (part == 1) {
        const Exhibit::Bar& bar = e.bars[i];
        return {Mark::Kind::Bar, i, 0, 0.5 * (bar.x0 + bar.x1), 0.5 * (bar.y0 + bar.y1)};
    }
    if (part == 2) {
        return {Mark::Kind::Box, i, 0, e.boxes[i].at, e.boxes[i].median};
    }
    if (part == 3) {
        return {Mark::Kind::Interval, i, 0, e.intervals[i].at, e.intervals[i].estimate};
    }
    const std::size_t line = part - kLines;
    if (line < e.lines.size()) {
        return {Mark::Kind::Place, line, i, e.lines[line].x[i], e.lines[line].y[i]};
    }
    const Exhibit::Band& band = e.bands[line - e.lines.size()];
    return {Mark::Kind::Band, line - e.lines.size(), i, band.x[i],
            0.5 * (band.low[i] + band.high[i])};
}

std::vector<std::size_t> MarkTable::sourceRows(std::size_t row) const {
    const Exhibit& e = *exhibit_;
    const Mark m = mark(row);
    if (m.kind == Mark::Kind::Point) {
        return m.of < e.rows.size() ? std::vector<std::size_t>{e.rows[m.of]}
                                    : std::vector<std::size_t>();
    }
    if (m.kind == Mark::Kind::Bar) {
        return {e.bars[m.of].rows.begin(), e.bars[m.of].rows.end()};
    }
    if (m.kind == Mark::Kind::Place && m.place < e.lines[m.of].rows.size()) {
        return {e.lines[m.of].rows[m.place]};
    }
    return {};
}

std::string MarkTable::nameOf(const Mark& m) const {
    const Exhibit& e = *exhibit_;
    switch (m.kind) {
        case Mark::Kind::Point: {
            if (!e.barNames.empty()) {
                return m.of < e.barNames.size() ? e.barNames[m.of] : std::string();
            }
            std::string name;
            if (m.of < e.rows.size()) {
                name = namer_ ? namer_(e.rows[m.of]) : "row " + countText(e.rows[m.of] + 1);
            }
            const std::string series =
                m.of < e.series.size() ? seriesName(e, e.series[m.of]) : std::string();
            return name + (name.empty() || series.empty() ? "" : ", ") + series;
        }
        case Mark::Kind::Bar:
            // What is said on hovering tells more than what stands on it.
            return !e.bars[m.of].says.empty() ? e.bars[m.of].says : e.bars[m.of].label;
        case Mark::Kind::Place:
            return !e.lines[m.of].name.empty() ? e.lines[m.of].name
                                               : seriesName(e, e.lines[m.of].series);
        case Mark::Kind::Band:
            return e.bands[m.of].name;
        case Mark::Kind::Interval:
            return seriesName(e, e.intervals[m.of].series);
        case Mark::Kind::Box:
            return {};
    }
    return {};
}

std::string MarkTable::onX(double x) const {
    const Exhibit& e = *exhibit_;
    const double place = x - 1.0;
    if (!e.xNames.empty() && place > -0.5 && place < static_cast<double>(e.xNames.size()) - 0.5) {
        return e.xNames[static_cast<std::size_t>(std::lround(place))];
    }
    const auto tick = std::find_if(e.xTicks.begin(), e.xTicks.end(),
                                   [&](const Tick& one) { return one.at == x; });
    return tick != e.xTicks.end() ? tick->text : valueOn(e.xScale, x);
}

std::string MarkTable::onY(double y) const {
    const auto& ticks = exhibit_->yTicks;
    const auto tick =
        std::find_if(ticks.begin(), ticks.end(), [&](const Tick& one) { return one.at == y; });
    return tick != ticks.end() ? tick->text : valueOn(exhibit_->yScale, y);
}

std::string MarkTable::cell(std::size_t row, std::size_t column) const {
    const Exhibit& e = *exhibit_;
    const Mark m = mark(row);
    if (column == 0) {
        return e.barNames.empty() ? kindName(m.kind) : "bar";
    }
    if (column == 1) {
        return nameOf(m);
    }
    if (column == 2) {
        const bool bin = m.kind == Mark::Kind::Bar && e.xNames.empty() && !e.tiles;
        return bin ? onX(e.bars[m.of].x0) + " to " + onX(e.bars[m.of].x1) : onX(m.x);
    }
    const std::size_t upright = e.barNames.empty() ? 3 : columns();
    if (column == upright) {
        if (m.kind == Mark::Kind::Bar) {
            return e.tiles ? onY(m.y) : onY(e.bars[m.of].y1);
        }
        return m.kind == Mark::Kind::Band ? std::string() : onY(m.y);
    }
    const bool from = column + 2 == columns();
    double low = 0.0;
    double high = 0.0;
    switch (m.kind) {
        case Mark::Kind::Bar:
            low = e.bars[m.of].y0;
            high = e.bars[m.of].y1;
            break;
        case Mark::Kind::Box:
            low = e.boxes[m.of].lowerQuartile;
            high = e.boxes[m.of].upperQuartile;
            break;
        case Mark::Kind::Interval:
            low = e.intervals[m.of].low;
            high = e.intervals[m.of].high;
            break;
        case Mark::Kind::Band:
            low = e.bands[m.of].low[m.place];
            high = e.bands[m.of].high[m.place];
            break;
        case Mark::Kind::Point:
        case Mark::Kind::Place:
            return {};
    }
    return onY(from ? low : high);
}

std::string MarkTable::text(std::size_t most) const {
    std::string out;
    const auto add = [&](const std::string& cell, bool last) {
        std::string plain = cell;
        std::replace_if(
            plain.begin(), plain.end(), [](char c) { return c == '\t' || c == '\n'; }, ' ');
        out += plain + (last ? "\n" : "\t");
    };
    for (std::size_t c = 0; c < columns(); ++c) {
        add(heads_[c], c + 1 == columns());
    }
    for (std::size_t r = 0; r < std::min(rows(), most); ++r) {
        for (std::size_t c = 0; c < columns(); ++c) {
            add(cell(r, c), c + 1 == columns());
        }
    }
    if (rows() > most) {
        out += "… and " + countText(rows() - most) + " marks more\n";
    }
    return out;
}

std::string MarkTable::sentence(std::size_t row) const {
    std::string out = cell(row, 0);
    const std::string name = cell(row, 1);
    out += name.empty() ? "" : ", " + name;
    std::string rest;
    for (std::size_t c = 2; c < columns(); ++c) {
        const std::string value = cell(row, c);
        if (!value.empty()) {
            rest += (rest.empty() ? ": " : ", ") + heads_[c] + " " + value;
        }
    }
    return out + rest;
}

}  // namespace rapporto
