#include "core/picture/figure.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace rapporto {
namespace {

class Widest {
  public:
    void take(double value) {
        if (std::isfinite(value)) {
            low_ = std::min(low_, value);
            high_ = std::max(high_, value);
        }
    }

    /// Both ends; about one place where there is only one, and somewhere where there is none.
    [[nodiscard]] std::pair<double, double> ends() const {
        if (high_ > low_) {
            return {low_, high_};
        }
        const double low = std::isfinite(low_) ? low_ - 1.0 : 0.0;
        return {low, low + 2.0};
    }

  private:
    double low_ = std::numeric_limits<double>::infinity();
    double high_ = -std::numeric_limits<double>::infinity();
};

void takeMarks(const Exhibit& e, Widest& across, Widest& upright) {
    // Hidden points behind means do not press them together.
    const bool behind = e.pointsHidden && !e.intervals.empty();
    for (std::size_t i = 0; i < e.x.size() && i < e.y.size() && !behind; ++i) {
        across.take(e.x[i]);
        upright.take(e.y[i]);
    }
    for (const auto& bar : e.bars) {
        across.take(bar.x0);
        across.take(bar.x1);
        upright.take(bar.y0);
        upright.take(bar.y1);
    }
    for (const auto& box : e.boxes) {
        upright.take(box.low);
        upright.take(box.high);
    }
    for (const auto& one : e.intervals) {
        across.take(one.at);
        upright.take(one.low);
        upright.take(one.high);
    }
}

}  // namespace

Reach reachOf(const Exhibit& e) {
    Widest across;
    Widest upright;
    takeMarks(e, across, upright);
    for (const auto& line : e.lines) {
        for (const double v : line.x) {
            across.take(v);
        }
        for (const double v : line.y) {
            upright.take(v);
        }
    }
    // Bands are as wide as they like; they do not press what was measured together.
    if (e.x.empty() || !e.bars.empty()) {
        for (const auto& band : e.bands) {
            for (std::size_t i = 0; i < band.x.size(); ++i) {
                upright.take(band.low[i]);
                upright.take(band.high[i]);
            }
        }
    }
    auto [x0, x1] = across.ends();
    auto [y0, y1] = upright.ends();
    if (!e.xNames.empty()) {
        x0 = 0.5;
        x1 = static_cast<double>(e.xNames.size()) + 0.5;
    }
    if (e.fromZero) {
        y0 = std::min(y0, 0.0);
    }
    const double dx = e.tiles || !e.xNames.empty() ? 0.0 : (x1 - x0) * 0.03;
    const double dy = e.tiles ? 0.0 : (y1 - y0) * 0.05;
    return {x0 - dx, x1 + dx, e.fromZero && y0 == 0.0 ? 0.0 : y0 - dy, y1 + dy};
}

}  // namespace rapporto
