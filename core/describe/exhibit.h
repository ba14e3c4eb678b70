#pragma once

#include "core/base/compiled_once.h"

#include <cstddef>
#include <cstdint>
#include <optional>
#include <string>
#include <vector>

namespace rapporto {

/// What the numbers along an axis are. Log: the coordinates are base-10 logarithms of the values.
/// Date: days since 1970-01-01.
enum class AxisScale : std::uint8_t { Number, Log, Date };

/// A named place on an axis.
struct Tick {
    double at = 0.0;
    std::string text;
};

/// A figure as data; a view draws it, nobody computes it again. Marks of one series share a colour
/// and a shape; series −1 is what stands for all.
struct Exhibit {
    RAPPORTO_COMPILED_ONCE(Exhibit);

    struct Line {
        std::string name = {};  ///< Drawn beside its end; may be empty.
        std::vector<double> x = {};
        std::vector<double> y = {};
        bool dashed = false;
        bool faint = false;  ///< Of something else: a unit among many, the line before a change.
        int series = -1;
        std::vector<std::uint32_t> rows = {};  ///< Of each place; empty: the line is no row's.
    };

    /// The ground between two curves.
    struct Band {
        std::string name = {};
        std::vector<double> x = {};
        std::vector<double> low = {};
        std::vector<double> high = {};
        int series = -1;
    };

    /// A rectangle in the coordinates of the axes: a bin, a share, a tile.
    struct Bar {
        double x0 = 0.0;
        double x1 = 0.0;
        double y0 = 0.0;
        double y1 = 0.0;
        std::string label = {};                ///< Stands on it where there is room.
        std::vector<std::uint32_t> rows = {};  ///< What it stands for.
        std::optional<double> shade = {};  ///< −1 to 1: below to above; absent: the plain bar.
        std::string says = {};             ///< On hovering.
        std::vector<std::string> of = {};  ///< Variables whose picture it opens.
    };

    /// Quartiles with the median; whiskers end at values.
    struct Box {
        double at = 0.0;
        double low = 0.0;
        double lowerQuartile = 0.0;
        double median = 0.0;
        double upperQuartile = 0.0;
        double high = 0.0;
    };

    /// An estimate with its interval, upright at `at`.
    struct Interval {
        double at = 0.0;
        double low = 0.0;
        double estimate = 0.0;
        double high = 0.0;
        int series = -1;
    };

    std::string title;  ///< What it shows here, in words.
    std::string subtitle;
    std::string xTitle;
    std::string yTitle;
    AxisScale xScale = AxisScale::Number;
    AxisScale yScale = AxisScale::Number;
    std::vector<double> x;
    std::vector<double> y;
    std::vector<float> dx;  ///< Shift of each point, so that equal ones do not hide; may be empty.
    std::vector<float> dy;
    std::vector<std::size_t> rows;     ///< Source row of each point, from 0.
    std::vector<std::uint8_t> series;  ///< Of each point; empty: one series.
    std::vector<std::string> seriesNames;
    bool pointsHidden = false;        ///< They can be found and chosen; the lines show them.
    std::vector<std::size_t> marked;  ///< Source rows worth a ring.
    std::vector<Line> lines;
    std::vector<Band> bands;
    std::vector<Bar> bars;
    std::vector<Box> boxes;
    std::vector<Interval> intervals;
    bool zeroLine = false;
    bool fromZero = false;            ///< The upright axis begins at zero: bars.
    bool tiles = false;               ///< The bars fill the plane: no axis lines.
    bool compact = false;             ///< One of many: only the outermost axes and no title.
    std::vector<std::string> xNames;  ///< Of groups at x = 1, 2, …; empty: numbers.
    std::vector<Tick> xTicks;         ///< In place of round numbers.
    std::vector<Tick> yTicks;
    std::vector<std::string> barNames;  ///< With these, `x` holds the lengths of bars lying down.
};

}  // namespace rapporto
