#include "core/checks/outcome_residuals.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/checks/row_sheet.h"
#include "core/describe/smooth.h"
#include "core/model/likelihood.h"
#include "core/model/outcome_models.h"
#include "core/numerics/distributions.h"
#include "core/numerics/random.h"

#include <boost/math/special_functions/beta.hpp>
#include <boost/math/special_functions/gamma.hpp>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::VectorXd;

/// The step of a law that an outcome stands on: P(Y < y), P(Y = y), P(Y > y). Both tails, so that
/// neither loses its digits.
struct Step {
    double below = 0.0;
    double own = 0.0;
    double above = 0.0;
};

/// The place of a law at a share `at` of the step, from 0 to 1.
double placeIn(const Step& step, double at) {
    const double left = step.below + at * step.own;
    const double right = step.above + (1.0 - at) * step.own;
    constexpr double kLeast = 1e-300;
    return left < right ? normalQuantile(std::max(left, kLeast))
                        : -normalQuantile(std::max(right, kLeast));
}

Step countStep(CountLaw law, double y, double mean, double dispersion) {
    Step out;
    out.own = countProbability(law, y, mean, dispersion);
    // So small a dispersion changes no digit of the law.
    constexpr double kNoDispersion = 1e-9;
    if (!(mean > 0.0)) {
        out.own = y == 0.0 ? 1.0 : 0.0;
        out.below = y == 0.0 ? 0.0 : 1.0;
        return out;
    }
    if (law == CountLaw::Poisson || dispersion <= kNoDispersion) {
        out.below = y > 0.0 ? boost::math::gamma_q(y, mean) : 0.0;
        out.above = boost::math::gamma_p(y + 1.0, mean);
        return out;
    }
    const double size = law == CountLaw::Quadratic ? 1.0 / dispersion : mean / dispersion;
    const double share = size / (size + mean);
    out.below = y > 0.0 ? boost::math::ibeta(size, y, share) : 0.0;
    out.above = boost::math::ibetac(size, y + 1.0, share);
    return out;
}

double logistic(double x) { return 1.0 / (1.0 + std::exp(-x)); }

/// Both sides of a cut: what is below it and above it.
struct Sides {
    double below = 0.0;
    double above = 1.0;
};

Sides sidesOf(double x, bool probit) {
    if (std::isinf(x)) {
        return x > 0.0 ? Sides{1.0, 0.0} : Sides{0.0, 1.0};
    }
    return probit ? Sides{normalTail(-x), normalTail(x)} : Sides{logistic(x), logistic(-x)};
}

/// The law of each row, by family.
class RowLaw {
  public:
    RowLaw(const Design& design, const Fit& fit, const EstimatorSettings& settings)
        : design_(design),
          told_(*fit.likelihood),
          settings_(settings),
          law_(countLawOf(*told_.family, settings)) {}

    [[nodiscard]] bool known() const {
        const bool whole = told_.family->row != Family::Row::Count ||
                           (design_.y.array() == design_.y.array().floor()).all();
        return told_.family->row != Family::Row::Untold && whole &&
               told_.index.rows() == design_.y.size();
    }

    /// The step of a row, or, where the outcome is known exactly under a continuous law, nothing
    /// and its place in `exact`.
    [[nodiscard]] std::optional<Step> step(Index i, double& exact) const {
        switch (told_.family->row) {
            case Family::Row::BehindEnd:
            case Family::Row::BetweenEnds:
                return behindEnds(i, exact);
            case Family::Row::YesNo:
                return ofYesNo(i);
            case Family::Row::Level:
                return ofLevel(i);
            default:
                return ofCount(i);
        }
    }

  private:
    [[nodiscard]] Step ofYesNo(Index i) const {
        const double index = told_.index(i, 0);
        const Family::Curve curve = told_.family->curve;
        const double miss = std::exp(-std::exp(index));
        const Sides s = curve == Family::Curve::Cloglog
                            ? Sides{miss, -std::expm1(-std::exp(index))}
                            : sidesOf(-index, curve == Family::Curve::Probit);
        return design_.y(i) > 0.5 ? Step{s.below, s.above, 0.0} : Step{0.0, s.below, s.above};
    }

    [[nodiscard]] Step ofLevel(Index i) const {
        const double index = told_.index(i, 0);
        const auto level = static_cast<Index>(design_.y(i));
        const bool probit = told_.family->curve == Family::Curve::Probit;
        const Sides low =
            level > 0 ? sidesOf(told_.extras(level - 1) - index, probit) : Sides{0.0, 1.0};
        const Sides high = level < told_.extras.size()
                               ? sidesOf(told_.extras(level) - index, probit)
                               : Sides{1.0, 0.0};
        const double own = low.below < high.above ? high.below - low.below : low.above - high.above;
        return {low.below, own, high.above};
    }

    [[nodiscard]] Step ofCount(Index i) const {
        const Family::Zeros zeros = told_.family->zeros;
        const double mean = std::exp(told_.index(i, 0));
        const double dispersion = told_.dispersion.value_or(0.0);
        const double y = design_.y(i);
        Step out = countStep(law_, y, mean, dispersion);
        if (zeros == Family::Zeros::Counted) {
            return out;
        }
        const double zero = countProbability(law_, 0.0, mean, dispersion);
        if (zeros == Family::Zeros::TwoKinds) {
            const double always = logistic(told_.index(i, 1));
            const double rest = logistic(-told_.index(i, 1));
            out = {rest * out.below, rest * out.own, rest * out.above};
            (y > 0.0 ? out.below : out.own) += always;
            return out;
        }
        // Counts above zero, of the share that is.
        const double nonzero = countStep(law_, 0.0, mean, dispersion).above;
        const bool hurdle = zeros == Family::Zeros::Hurdle;
        const double some = hurdle ? logistic(told_.index(i, 1)) : 1.0;
        const double none = hurdle ? logistic(-told_.index(i, 1)) : 0.0;
        if (y == 0.0) {
            return {0.0, none, some};
        }
        const double by = some / nonzero;
        return {none + by * (out.below - zero), by * out.own, by * out.above};
    }

    [[nodiscard]] std::optional<Step> behindEnds(Index i, double& exact) const {
        const double sigma = std::exp(told_.extras(0));
        const auto at = [&](double y) { return (y - told_.index(i, 0)) / sigma; };
        double low = at(design_.y(i));
        double high = low;
        constexpr double kNoEnd = std::numeric_limits<double>::infinity();
        if (told_.family->row == Family::Row::BetweenEnds) {
            low = at(design_.lower(i));
            high = at(design_.upper(i));
        } else if (settings_.low && design_.y(i) <= *settings_.low) {
            low = -kNoEnd;
        } else if (settings_.high && design_.y(i) >= *settings_.high) {
            high = kNoEnd;
        }
        if (low == high) {
            exact = low;
            return std::nullopt;
        }
        const Sides from = sidesOf(low, true);
        const Sides to = sidesOf(high, true);
        const double own = from.below < to.above ? to.below - from.below : from.above - to.above;
        return Step{from.below, own, to.above};
    }

    const Design& design_;
    const LikelihoodFit& told_;
    const EstimatorSettings& settings_;
    CountLaw law_;
};

std::vector<double> listOf(const VectorXd& v) { return {v.begin(), v.end()}; }

Exhibit along(const Design& design, std::vector<double> x, const VectorXd& z,
              const std::string& title, const std::string& axis) {
    Exhibit e;
    e.title = title;
    e.subtitle = "place in its own law · n = " + countText(design.rows.size());
    e.xTitle = axis;
    e.yTitle = "quantile residual";
    e.zeroLine = true;
    e.x = std::move(x);
    e.y = listOf(z);
    e.rows = design.rows;
    e.lines.push_back(localLine(e.x, e.y, 0.6, "smooth"));
    return e;
}

Exhibit againstNormal(const Design& design, const VectorXd& z, double alpha) {
    std::vector<Index> order(static_cast<std::size_t>(z.size()));
    std::iota(order.begin(), order.end(), Index{0});
    std::sort(order.begin(), order.end(), [&](Index a, Index b) { return z(a) < z(b); });
    Exhibit e;
    e.title = "Against the normal law";
    e.subtitle = "quantile residuals in order · n = " + countText(order.size());
    e.xTitle = "normal quantile";
    e.yTitle = "quantile residual";
    const double n = static_cast<double>(order.size());
    for (std::size_t i = 0; i < order.size(); ++i) {
        e.x.push_back(normalQuantile((static_cast<double>(i) + 0.5) / n));
        e.y.push_back(z(order[i]));
        e.rows.push_back(design.rows[static_cast<std::size_t>(order[i])]);
    }
    e.bands.push_back(orderStatisticBand(e.x, alpha, false));
    return e;
}

}  // namespace

std::optional<VectorXd> quantileResiduals(const Design& design, const Fit& fit,
                                          const EstimatorSettings& settings) {
    if (!fit.likelihood) {
        return std::nullopt;
    }
    const RowLaw law(design, fit, settings);
    if (!law.known()) {
        return std::nullopt;
    }
    VectorXd out(design.y.size());
    for (Index i = 0; i < out.size(); ++i) {
        double exact = 0.0;
        const auto step = law.step(i, exact);
        // A row’s draw hangs on its number alone: other rows may come and go.
        constexpr std::uint64_t kSeed = 1996;
        out(i) =
            step ? placeIn(*step,
                           RandomStream(kSeed, design.rows[static_cast<std::size_t>(i)]).uniform())
                 : exact;
    }
    return out;
}

std::vector<Exhibit> quantileResidualPictures(const Design& design, const Fit& fit,
                                              const EstimatorSettings& settings, double alpha) {
    const auto z = quantileResiduals(design, fit, settings);
    if (!z) {
        return {};
    }
    const Family::Row row = fit.likelihood->family->row;
    const bool index = row == Family::Row::Level || row == Family::Row::BehindEnd ||
                       row == Family::Row::BetweenEnds;
    std::vector<Exhibit> out = {
        along(design, listOf(index ? VectorXd(fit.likelihood->index.col(0)) : fit.fitted), *z,
              "Along the fit",
              index ? "index of " + shownNames(design.outcome)
                    : "expected " + shownNames(design.outcome)),
        againstNormal(design, *z, alpha)};
    out.push_back(residualHistogram(listOf(*z), 1.0, "Beside the normal curve",
                                    "place in its own law", "quantile residual"));
    for (const DesignTerm& term : design.terms) {
        if (term.groups || term.yesNo || term.isProduct || term.columns.size() != 1) {
            continue;
        }
        out.push_back(along(design, listOf(design.X.col(term.columns.front())), *z,
                            "Along " + term.name,
                            term.label + (term.unit.empty() ? "" : ", " + term.unit)));
    }
    return out;
}

}  // namespace rapporto
