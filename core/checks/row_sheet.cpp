#include "core/checks/row_sheet.h"

#include "core/base/format.h"
#include "core/base/hash.h"
#include "core/base/shown_names.h"
#include "core/describe/summary.h"
#include "core/model/event_study.h"
#include "core/model/rows_left.h"
#include "core/numerics/distributions.h"
#include "core/numerics/ordering.h"
#include "core/numerics/random.h"

#include <boost/math/distributions/beta.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <deque>
#include <limits>
#include <mutex>
#include <numbers>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr Index kMostCells = 5000;
constexpr int kDraws = 199;

/// Residuals times root weights: those of the transformed model.
VectorXd scaledResiduals(const Design& design, const Fit& fit) {
    return design.weights.size() > 0
               ? VectorXd(fit.residuals.cwiseProduct(design.weights.cwiseSqrt()))
               : fit.residuals;
}

VectorXd studentised(const VectorXd& e, const VectorXd& leverage, double df) {
    const double rss = e.squaredNorm();
    VectorXd t(e.size());
    for (Index i = 0; i < e.size(); ++i) {
        const double left = 1.0 - leverage(i);
        const double others = (rss - e(i) * e(i) / left) / (df - 1.0);
        t(i) = left > 1e-12 && others > 0.0 ? e(i) / std::sqrt(others * left) : 0.0;
    }
    return t;
}

/// (X'WX)⁻¹ x_i w_i of one coefficient in every row: what a unit of y there adds to it.
VectorXd shareOf(const Design& design, const Fit& fit, std::size_t coefficient) {
    const MatrixXd& F = fit.solution.factor;
    const VectorXd along = F * F.row(static_cast<Index>(coefficient)).transpose();
    VectorXd out = VectorXd::Zero(design.X.rows());
    for (std::size_t j = 0; j < fit.solution.kept.size(); ++j) {
        out += along(static_cast<Index>(j)) * design.X.col(fit.solution.kept[j]);
    }
    return design.weights.size() > 0 ? VectorXd(out.cwiseProduct(design.weights)) : out;
}

}  // namespace

VectorXd studentisedResiduals(const Design& design, const Fit& fit) {
    return studentised(scaledResiduals(design, fit), fit.leverage, fit.dfResidual);
}

VectorXd cooksDistances(const Design& design, const Fit& fit) {
    const VectorXd e = scaledResiduals(design, fit);
    const double k = static_cast<double>(fit.solution.kept.size());
    const double variance = e.squaredNorm() / fit.dfResidual;
    VectorXd d(e.size());
    for (Index i = 0; i < e.size(); ++i) {
        const double h = fit.leverage(i);
        const double left = 1.0 - h;
        d(i) =
            left > 1e-12 && variance > 0.0 ? e(i) * e(i) * h / (k * variance * left * left) : 0.0;
    }
    return d;
}

bool hasInfluence(const Fit& fit) {
    return !fit.likelihood && !fit.quantile && !fit.robust && !fit.dynamic && !fit.levels &&
           !(fit.event && fit.event->weighting != "pooled") && !fit.exact &&
           !(fit.leverage.size() > 0 && std::isnan(fit.leverage(0)));
}

RowSheet rowSheet(const Design& design, const Fit& fit) {
    if (!hasInfluence(fit)) {
        const VectorXd none =
            VectorXd::Constant(design.y.size(), std::numeric_limits<double>::quiet_NaN());
        return {design.rows, design.y, fit.fitted, fit.residuals, none, none, none};
    }
    return {design.rows,
            outcomeOfRows(design, fit),
            fittedOfRows(design, fit),
            leftOfRows(design, fit),
            studentisedResiduals(design, fit),
            fit.leverage,
            cooksDistances(design, fit)};
}

VectorXd estimatesWithout(const Design& design, const Fit& fit, std::size_t coefficient) {
    VectorXd out = shareOf(design, fit, coefficient);
    const double b = fit.coefficients[coefficient].estimate;
    for (Index i = 0; i < out.size(); ++i) {
        const double left = 1.0 - fit.leverage(i);
        out(i) = left > 1e-12 ? b - out(i) * fit.residuals(i) / left : b;
    }
    return out;
}

std::vector<DropOne> dropOne(const Design& design, const Fit& fit) {
    std::vector<DropOne> out;
    if (!hasInfluence(fit)) {
        return out;
    }
    for (std::size_t j = 0; j < fit.coefficients.size(); ++j) {
        const Coefficient& c = fit.coefficients[j];
        if (c.designTerm < 0 || c.se <= 0.0) {
            continue;
        }
        const VectorXd without = estimatesWithout(design, fit, j);
        Index at = 0;
        (without.array() - c.estimate).abs().maxCoeff(&at);
        out.push_back({j, design.rows[static_cast<std::size_t>(at)], without(at),
                       (without(at) - c.estimate) / c.se});
    }
    return out;
}

Result<Exhibit> addedVariable(const Design& design, const Fit& fit, std::size_t coefficient,
                              const Job& job) {
    const Coefficient& c = fit.coefficients[coefficient];
    std::vector<Index> others;
    for (const Index column : fit.solution.kept) {
        if (column != c.column) {
            others.push_back(column);
        }
    }
    VectorXd x = design.X.col(c.column);
    VectorXd y = fit.residuals + c.estimate * x;
    if (!others.empty()) {
        const MatrixXd X = design.X(Eigen::all, others);
        const VectorXd own = x;
        const auto forX = solveLinear({X, own, design.weights, design.hasConstant}, false, job);
        if (!forX) {
            return tl::make_unexpected(forX.error());
        }
        x = forX->residuals;
        // What the others leave of y is what all leave, and what this column’s own part explains.
        y = fit.residuals + c.estimate * x;
    }
    Exhibit e;
    e.title = shownNames(design.outcome) + " and what " + c.term + " says alone";
    e.subtitle = "both with all other terms taken out; the slope is the estimate · n = " +
                 countText(design.rows.size());
    e.xTitle = c.term + ", what the others leave of it";
    e.yTitle = shownNames(design.outcome) + ", what the others leave of it";
    e.x.assign(x.data(), x.data() + x.size());
    e.y.assign(y.data(), y.data() + y.size());
    e.rows = design.rows;
    e.zeroLine = true;
    const double from = x.minCoeff();
    const double to = x.maxCoeff();
    e.lines = {{.name = "slope " + shortNumber(c.estimate, 3),
                .x = {from, to},
                .y = {c.estimate * from, c.estimate * to}}};
    return e;
}

namespace {

OrderBand drawnBand(const Design& design, const Fit& fit, double alpha, bool absolute) {
    const auto n = design.X.rows();
    MatrixXd Q = design.X(Eigen::all, fit.solution.kept) * fit.solution.factor;
    if (design.weights.size() > 0) {
        Q = design.weights.cwiseSqrt().asDiagonal() * Q;
    }
    MatrixXd ordered(n, kDraws);
    for (int d = 0; d < kDraws; ++d) {
        RandomStream random(1985, static_cast<std::uint64_t>(d));
        VectorXd e(n);
        for (Index i = 0; i < n; ++i) {
            e(i) = normalQuantile(random.uniform() + 0x1.0p-54);
        }
        e -= Q * (Q.transpose() * e);
        VectorXd t = studentised(e, fit.leverage, fit.dfResidual);
        if (absolute) {
            t = t.cwiseAbs();
        }
        std::sort(t.data(), t.data() + n);
        ordered.col(d) = t;
    }
    OrderBand out;
    // The j-th smallest of B draws has the chance j/(B + 1) below it.
    const auto outer = static_cast<Index>(std::max(1.0, std::round(alpha / 2.0 * (kDraws + 1))));
    for (Index i = 0; i < n; ++i) {
        VectorXd row = ordered.row(i);
        std::sort(row.data(), row.data() + kDraws);
        out.low.push_back(row(outer - 1));
        out.high.push_back(row(kDraws - outer));
    }
    return out;
}

/// The bands drawn last, by what they hang on: columns, weights, leverages, level. Several checks
/// of one answer show the same, and so do answers that share their columns.
class DrawnBands {
  public:
    /// One band at a time: checks that run beside each other want the same one.
    template <class Draw>
    OrderBand get(std::uint64_t key, const Draw& draw) {
        const std::scoped_lock lock(mutex_);
        for (const auto& [known, band] : kept_) {
            if (known == key) {
                return band;
            }
        }
        OrderBand band = draw();
        kept_.emplace_front(key, band);
        if (kept_.size() > kMost) {
            kept_.pop_back();
        }
        return band;
    }

  private:
    static constexpr std::size_t kMost = 24;
    std::mutex mutex_;
    std::deque<std::pair<std::uint64_t, OrderBand>> kept_;
};

}  // namespace

OrderBand simulatedBand(const Design& design, const Fit& fit, double alpha, bool absolute) {
    if (design.X.rows() * design.X.cols() > kMostCells || fit.dfResidual < 2.0) {
        return {};
    }
    std::uint64_t key = contentHash(absolute ? "absolute" : "signed");
    const auto add = [&](const auto& numbers) {
        key =
            contentHash(std::string_view(reinterpret_cast<const char*>(numbers.data()),
                                         static_cast<std::size_t>(numbers.size()) * sizeof(double)),
                        key);
    };
    add(design.X);
    add(design.weights);
    add(fit.leverage);
    add(fit.solution.factor);
    add(std::array{alpha, fit.dfResidual, static_cast<double>(design.X.rows()),
                   static_cast<double>(design.X.cols())});
    static DrawnBands bands;
    return bands.get(key, [&] { return drawnBand(design, fit, alpha, absolute); });
}

Exhibit::Band orderStatisticBand(const std::vector<double>& x, double alpha, bool absolute) {
    Exhibit::Band band{.name = fixedNumber(100.0 * (1.0 - alpha), 0) + " %, each point"};
    const double n = static_cast<double>(x.size());
    const auto quantile = [&](double p) {
        const double inside = std::clamp(p, 1e-300, 1.0 - 1e-15);
        return normalQuantile(absolute ? 0.5 + 0.5 * inside : inside);
    };
    constexpr int kPlaces = 80;
    for (int s = 0; s <= kPlaces; ++s) {
        const double share = static_cast<double>(s) / kPlaces;
        // Closer together at the ends, where the plot is read.
        const double at = absolute ? 1.0 - std::pow(1.0 - share, 3.0)
                                   : 0.5 - 0.5 * std::cos(std::numbers::pi * share);
        const double rank = std::round((n - 1.0) * at);
        const boost::math::beta_distribution<> law(rank + 1.0, n - rank);
        const double place = x[static_cast<std::size_t>(rank)];
        if (!band.x.empty() && place <= band.x.back()) {
            continue;
        }
        band.x.push_back(place);
        band.low.push_back(quantile(boost::math::quantile(law, alpha / 2.0)));
        band.high.push_back(quantile(boost::math::quantile(law, 1.0 - alpha / 2.0)));
    }
    return band;
}

Exhibit halfNormal(const Design& design, const Fit& fit, double alpha) {
    const VectorXd t = studentisedResiduals(design, fit).cwiseAbs();
    const std::vector<Placed> order = ordered(t);
    const double n = static_cast<double>(t.size());
    Exhibit e;
    e.subtitle = "ordered sizes of studentised residuals · n = " + countText(order.size());
    e.xTitle = "half-normal quantile";
    e.yTitle = "size of the studentised residual";
    for (std::size_t i = 0; i < order.size(); ++i) {
        const double p = (static_cast<double>(i) + 0.5) / n;
        e.x.push_back(normalQuantile(0.5 + 0.5 * p));
        e.y.push_back(order[i].value);
        e.rows.push_back(design.rows[static_cast<std::size_t>(order[i].at)]);
    }
    Exhibit::Band band{.name = fixedNumber(100.0 * (1.0 - alpha), 0) + " %, each point"};
    const OrderBand drawn = simulatedBand(design, fit, alpha, true);
    if (!drawn.low.empty()) {
        band.x = e.x;
        band.low = drawn.low;
        band.high = drawn.high;
    } else {
        band = orderStatisticBand(e.x, alpha, true);
    }
    e.bands = {std::move(band)};
    return e;
}

Exhibit residualHistogram(const std::vector<double>& residuals, double sd, const std::string& title,
                          const std::string& subtitle, const std::string& axis) {
    Exhibit e;
    e.title = title;
    e.subtitle = subtitle + " · n = " + countText(residuals.size());
    e.xTitle = axis;
    e.yTitle = "rows";
    e.fromZero = true;
    const Histogram h = histogram(residuals);
    const double n = static_cast<double>(residuals.size());
    for (std::size_t b = 0; b < h.counts.size(); ++b) {
        const double from = h.from + static_cast<double>(b) * h.width;
        e.bars.push_back({from, from + h.width, 0.0, static_cast<double>(h.counts[b])});
    }
    if (!e.bars.empty() && sd > 0.0) {
        Exhibit::Line curve{"normal"};
        for (int i = 0; i <= 120; ++i) {
            const double x = e.bars.front().x0 + (e.bars.back().x1 - e.bars.front().x0) * i / 120.0;
            curve.x.push_back(x);
            curve.y.push_back(n * h.width * normalDensity(x / sd) / sd);
        }
        e.lines.push_back(std::move(curve));
    }
    return e;
}

}  // namespace rapporto
