#include "core/describe/unit_root.h"

#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

int deterministicColumns(Deterministic with) {
    return with == Deterministic::None ? 0 : with == Deterministic::Constant ? 1 : 2;
}

std::size_t valuesIn(const SeriesRuns& runs) {
    return std::accumulate(runs.begin(), runs.end(), std::size_t{0},
                           [](std::size_t all, const auto& run) { return all + run.size(); });
}

/// Rows of the regression with so many lags: those whose earlier values all are there.
Index rowsWith(const SeriesRuns& runs, int lags) {
    Index rows = 0;
    for (const auto& run : runs) {
        rows += std::max<Index>(static_cast<Index>(run.size()) - 1 - lags, 0);
    }
    return rows;
}

/// The changes y and, beside what is taken out, the level before and `lags` earlier changes, on the
/// rows that `shared` lags have.
struct Regression {
    VectorXd y;
    MatrixXd X;  ///< Taken out, level, lags.
};

Regression regressionOf(const SeriesRuns& runs, Deterministic with, int lags, int shared) {
    const int fixed = deterministicColumns(with);
    const Index rows = rowsWith(runs, shared);
    Regression out{VectorXd(rows), MatrixXd(rows, fixed + 1 + lags)};
    // A level far from zero would take the digits of a constant.
    const double offset =
        fixed > 0 && !runs.empty() && !runs.front().empty() ? runs.front()[0] : 0.0;
    Index at = 0;
    double moment = 0.0;
    for (const auto& run : runs) {
        const auto n = static_cast<Index>(run.size());
        for (Index t = shared + 1; t < n; ++t, ++at) {
            const auto value = [&](Index k) { return run[static_cast<std::size_t>(k)]; };
            out.y(at) = value(t) - value(t - 1);
            if (fixed > 0) {
                out.X(at, 0) = 1.0;
            }
            if (fixed > 1) {
                out.X(at, 1) = moment + static_cast<double>(t);
            }
            out.X(at, fixed) = value(t - 1) - offset;
            for (int j = 1; j <= lags; ++j) {
                out.X(at, fixed + j) = value(t - j) - value(t - j - 1);
            }
        }
        // Gaps are short or long: the trend steps over them by one.
        moment += static_cast<double>(n) + 1.0;
    }
    if (fixed > 1) {
        out.X.col(1).array() -= out.X.col(1).mean();
    }
    return out;
}

/// Lags by a criterion: one decomposition gives what every number of them leaves.
int lagsBy(const SeriesRuns& runs, Deterministic with, LagRule::By by, int most) {
    const Regression all = regressionOf(runs, with, most, most);
    const Index rows = all.y.size();
    const int fixed = deterministicColumns(with);
    const Eigen::HouseholderQR<MatrixXd> qr(all.X);
    const VectorXd q = qr.householderQ().adjoint() * all.y;
    const double whole = all.y.squaredNorm();
    const auto n = static_cast<double>(rows);
    double rss = whole - q.head(fixed).squaredNorm();
    double least = 0.0;
    int best = 0;
    for (int lags = 0; lags <= most; ++lags) {
        const Index columns = fixed + 1 + lags;
        rss = q.tail(rows - columns).squaredNorm();
        if (!(rss > 1e-28 * whole)) {
            break;
        }
        const double each = by == LagRule::By::Bic ? std::log(n) : 2.0;
        const double criterion = n * std::log(rss / n) + each * static_cast<double>(columns);
        if (lags == 0 || criterion < least) {
            least = criterion;
            best = lags;
        }
    }
    return best;
}

tl::unexpected<Refusal> tooShort(std::size_t values) {
    return refuse(ErrorCode::TooFewRows,
                  "the series has " + std::to_string(values) +
                      " neighbouring values, too few to tell whether it wanders",
                  "series", "Take a longer series, or fewer lags.");
}

tl::unexpected<Refusal> oneStep() {
    return refuse(ErrorCode::NoVariation, "the series moves by the same step every time", "series",
                  "A straight line has no unit root to ask for: put trend() among the terms.");
}

}  // namespace

SeriesRuns runsOf(const std::vector<double>& values, const std::vector<std::int64_t>& moments) {
    std::vector<std::size_t> order(values.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::sort(order.begin(), order.end(),
              [&](std::size_t a, std::size_t b) { return moments[a] < moments[b]; });
    SeriesRuns out;
    std::int64_t next = 0;
    for (const std::size_t i : order) {
        if (std::isnan(values[i])) {
            continue;
        }
        if (out.empty() || moments[i] != next) {
            out.emplace_back();
        }
        out.back().push_back(values[i]);
        next = moments[i] + 1;
    }
    return out;
}

int mostUnitRootLags(std::size_t n) {
    return static_cast<int>(std::floor(12.0 * std::pow(static_cast<double>(n) / 100.0, 0.25)));
}

Result<UnitRootTest> unitRootTest(const SeriesRuns& runs, Deterministic with, const LagRule& rule,
                                  int columns) {
    const std::size_t n = valuesIn(runs);
    const Deterministic own = columns > 1 ? Deterministic::None : with;
    const int fixed = deterministicColumns(own);
    // Two degrees of freedom at least, whatever is asked.
    const auto fits = [&](int lags) { return rowsWith(runs, lags) >= fixed + 1 + lags + 2; };
    // Of a long series the search is kept to what a moment allows: 28 lags of 100,000 values, 8 of
    // a million.
    constexpr double kMostWork = 1e8;
    const auto costs = [&](int lags) {
        return static_cast<double>(n) * std::pow(static_cast<double>(fixed + 1 + lags), 2.0);
    };
    int lags = rule.by == LagRule::By::Fixed ? rule.lags : mostUnitRootLags(n);
    while (rule.by != LagRule::By::Fixed && lags > 0 && (!fits(lags) || costs(lags) > kMostWork)) {
        --lags;
    }
    if (!fits(lags)) {
        return tooShort(n);
    }
    if (rule.by != LagRule::By::Fixed) {
        lags = lagsBy(runs, own, rule.by, lags);
    }
    const Regression r = regressionOf(runs, own, lags, lags);
    const Index rows = r.y.size();
    const double middle = fixed > 0 ? r.y.mean() : 0.0;
    const double varies = (r.y.array() - middle).matrix().squaredNorm();
    if (!(varies > 1e-24 * r.y.squaredNorm()) || r.y.squaredNorm() == 0.0) {
        return oneStep();
    }
    // Columns of one length, or a level of thousands would hide small changes.
    const VectorXd lengths = r.X.colwise().norm();
    if (!(lengths.minCoeff() > 0.0)) {
        return oneStep();
    }
    const MatrixXd X = r.X * lengths.cwiseInverse().asDiagonal();
    const Eigen::ColPivHouseholderQR<MatrixXd> qr(X);
    if (qr.rank() < X.cols()) {
        return oneStep();
    }
    const VectorXd b = qr.solve(r.y);
    const double rss = (r.y - X * b).squaredNorm();
    if (!(rss > 1e-26 * varies)) {
        return oneStep();
    }
    VectorXd unit = VectorXd::Zero(X.cols());
    unit(fixed) = 1.0;
    // (X'X)⁻¹ at the level: the squared length of R⁻ᵀPᵀe.
    const VectorXd part = qr.matrixR()
                              .topLeftCorner(X.cols(), X.cols())
                              .triangularView<Eigen::Upper>()
                              .transpose()
                              .solve(qr.colsPermutation().transpose() * unit);
    const double df = static_cast<double>(rows - X.cols());
    UnitRootTest out;
    out.lags = lags;
    out.rows = static_cast<std::size_t>(rows);
    out.level = b(fixed) / lengths(fixed);
    out.levelSe = std::sqrt(part.squaredNorm() * rss / df) / lengths(fixed);
    out.t = out.level / out.levelSe;
    out.p = unitRootP(out.t, columns, with, out.rows);
    return out;
}

Result<LevelTest> levelTest(const SeriesRuns& runs, Deterministic with, std::optional<int> lags) {
    if (runs.size() > 1) {
        return refuse(
            ErrorCode::BadSetting, "the series has gaps", "series",
            "Sums along a series need every moment: fill the gaps, or take a part without.");
    }
    const std::size_t n = valuesIn(runs);
    if (n < 8) {
        return tooShort(n);
    }
    const VectorXd y = Eigen::Map<const VectorXd>(runs[0].data(), static_cast<Index>(n));
    VectorXd e = y.array() - y.mean();
    if (with == Deterministic::Trend) {
        const VectorXd t = VectorXd::LinSpaced(e.size(), 0.0, 1.0).array() - 0.5;
        e -= t * (t.dot(e) / t.squaredNorm());
    }
    if (!(e.squaredNorm() > 1e-24 * y.squaredNorm())) {
        return oneStep();
    }
    const auto all = static_cast<double>(n);
    LevelTest out;
    out.lags = lags.value_or(static_cast<int>(std::floor(4.0 * std::pow(all / 100.0, 0.25))));
    out.lags = std::min(out.lags, static_cast<int>(n) - 1);
    double variance = e.squaredNorm() / all;
    for (int l = 1; l <= out.lags; ++l) {
        const Index left = e.size() - l;
        variance += 2.0 / all * (1.0 - static_cast<double>(l) / (out.lags + 1.0)) *
                    e.tail(left).dot(e.head(left));
    }
    double so_far = 0.0;
    double squares = 0.0;
    for (const double one : e) {
        so_far += one;
        squares += so_far * so_far;
    }
    out.statistic = squares / (all * all * variance);
    // Table 1 of the source: .10, .05, .025, .01.
    static constexpr double kLevels[] = {0.10, 0.05, 0.025, 0.01};
    static constexpr double kOfLevel[] = {0.347, 0.463, 0.574, 0.739};
    static constexpr double kOfTrend[] = {0.119, 0.146, 0.176, 0.216};
    const double* table = with == Deterministic::Trend ? kOfTrend : kOfLevel;
    out.atEnd = out.statistic <= table[0] || out.statistic >= table[3];
    out.p = out.statistic <= table[0] ? kLevels[0] : kLevels[3];
    for (int k = 0; k < 3; ++k) {
        if (out.statistic > table[k] && out.statistic < table[k + 1]) {
            const double share = (out.statistic - table[k]) / (table[k + 1] - table[k]);
            out.p = kLevels[k] + share * (kLevels[k + 1] - kLevels[k]);
        }
    }
    return out;
}

Result<PanelUnitRootTest> panelUnitRootTest(const std::vector<SeriesRuns>& units,
                                            Deterministic with, const LagRule& rule) {
    PanelUnitRootTest out;
    double mean = 0.0;
    double variance = 0.0;
    for (const SeriesRuns& unit : units) {
        const auto one = unitRootTest(unit, with, rule);
        const auto expected =
            one && one->p ? unitRootAverage(with, one->lags, one->rows) : std::nullopt;
        if (!expected) {
            ++out.without;
            continue;
        }
        out.ts.push_back(one->t);
        mean += expected->mean;
        variance += expected->variance;
        out.fisher -= 2.0 * std::log(std::max(*one->p, 1e-300));
    }
    out.units = out.ts.size();
    if (out.units < 2) {
        return refuse(ErrorCode::TooFewRows, "under two units are long enough", "series",
                      "A unit needs some fifteen neighbouring moments.");
    }
    const auto n = static_cast<double>(out.units);
    out.meanT = std::accumulate(out.ts.begin(), out.ts.end(), 0.0) / n;
    out.w = std::sqrt(n) * (out.meanT - mean / n) / std::sqrt(variance / n);
    out.p = normalTail(-out.w);
    out.fisherP = chiSquareTail(out.fisher, 2.0 * n);
    return out;
}

}  // namespace rapporto
