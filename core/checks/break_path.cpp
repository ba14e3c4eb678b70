// A break at an unknown moment, and the path of the estimates along time.
#include "core/checks/break_path.h"

#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <array>
#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// 1 − p of the largest Wald statistic under trimming by 15 %, as a chi-square with `df` at
/// `start` + `slope`·x, for 1 to 20 coefficients. Simulated and fitted by
/// tests/reference/make_break_law.py (30,000 draws of 2,000 steps; p off by under .01, in the tail
/// by under .003), in the form of Hansen (1997), Journal of Business & Economic Statistics 15.
struct BreakLaw {
    double start;
    double slope;
    double df;
};

constexpr std::array<BreakLaw, 20> kBreakLaw = {{
    {-0.95623, 1.01605, 3.06267},    // 1
    {-1.68722, 1.03774, 4.61478},    // 2
    {-2.28167, 1.07136, 6.16480},    // 3
    {-2.80860, 1.09466, 7.64153},    // 4
    {-3.53231, 1.10069, 8.71236},    // 5
    {-4.17915, 1.07067, 9.36270},    // 6
    {-4.65035, 1.07594, 10.55087},   // 7
    {-5.25288, 1.06550, 11.33734},   // 8
    {-5.79732, 1.06626, 12.31092},   // 9
    {-6.61979, 1.03105, 12.34784},   // 10
    {-6.64594, 1.09330, 14.91947},   // 11
    {-7.23876, 1.08452, 15.62159},   // 12
    {-8.05959, 1.04975, 15.46346},   // 13
    {-8.58929, 1.06156, 16.61242},   // 14
    {-8.92598, 1.07347, 17.94728},   // 15
    {-9.44811, 1.08086, 19.00688},   // 16
    {-10.31496, 1.05904, 18.93394},  // 17
    {-10.87195, 1.05622, 19.66772},  // 18
    {-11.20498, 1.06788, 21.00706},  // 19
    {-12.20793, 1.01085, 19.57731},  // 20
}};

double breakTail(double wald, Index coefficients) {
    const BreakLaw& law = kBreakLaw[static_cast<std::size_t>(coefficients - 1)];
    const double x = law.start + law.slope * wald;
    return x <= 0.0 ? 1.0 : chiSquareTail(x, law.df);
}

constexpr double kTrim = 0.15;

/// √w rows of orthonormal columns and residuals, in the order of time.
struct Ordered {
    MatrixXd Q;
    VectorXd e;
    std::vector<Index> rows;
};

Ordered ordered(const CheckInput& in) {
    Ordered out;
    out.rows = rowsInTime(in);
    out.Q = withColumns(in, MatrixXd(in.design.X.rows(), 0))(out.rows, Eigen::all) *
            in.fit.solution.factor;
    out.e = in.fit.residuals(out.rows);
    if (in.design.weights.size() > 0) {
        const VectorXd root = in.design.weights(out.rows).cwiseSqrt();
        out.Q = root.asDiagonal() * out.Q;
        out.e = out.e.cwiseProduct(root);
    }
    return out;
}

/// What a path needs of the question, or a sentence why it cannot be drawn.
std::string pathProblem(const CheckInput& in, double rowsEach) {
    if (const std::string reason = orderProblem(in); !reason.empty()) {
        return reason;
    }
    if (in.design.weightKind == WeightKind::Frequency) {
        return "A row that stands for several has no place in time.";
    }
    const auto n = static_cast<double>(in.design.y.size());
    const auto k = static_cast<double>(in.fit.solution.kept.size());
    if (n * rowsEach < k + 2.0 || n < 2.0 * k + 4.0) {
        return "Too few moments to fit each part of them alone.";
    }
    return {};
}

void placeAlongTime(const CheckInput& in, const std::vector<Index>& rows, Exhibit& e) {
    const std::string& time = in.frame.layout().time;
    e.xTitle = time;
    if (in.frame.variable(time)->measure == Measure::Date) {
        e.xScale = AxisScale::Date;
    }
    for (const Index i : rows) {
        e.x.push_back(in.design.time[static_cast<std::size_t>(i)]);
        e.rows.push_back(in.design.rows[static_cast<std::size_t>(i)]);
    }
    e.pointsHidden = true;
}

}  // namespace

CheckResult checkSupF(const CheckInput& in) {
    if (const std::string problem = pathProblem(in, kTrim); !problem.empty()) {
        return notApplicable(problem);
    }
    const Ordered all = ordered(in);
    const Index n = all.e.size();
    const Index k = all.Q.cols();
    if (k > static_cast<Index>(kBreakLaw.size())) {
        return notApplicable("The law of this test is tabulated for up to 20 coefficients.");
    }
    const auto first = static_cast<Index>(std::ceil(kTrim * static_cast<double>(n)));
    const Index last = n - first;
    const Index step = std::max<Index>(1, n / 5000);
    const double rss = all.e.squaredNorm();
    MatrixXd S = MatrixXd::Zero(k, k);
    VectorXd g = VectorXd::Zero(k);
    double squares = 0.0;
    double most = -1.0;
    Index at = -1;
    std::vector<Index> places;
    std::vector<double> path;
    const MatrixXd whole = all.Q.transpose() * all.Q;
    const VectorXd wholeG = all.Q.transpose() * all.e;
    for (Index t = 0; t < n && !in.job.stopped(); ++t) {
        S.selfadjointView<Eigen::Lower>().rankUpdate(all.Q.row(t).transpose());
        g += all.e(t) * all.Q.row(t).transpose();
        squares += all.e(t) * all.e(t);
        const Index before = t + 1;  // Rows of the first part.
        if (before < first || before > last || (before - first) % step != 0) {
            continue;
        }
        const Eigen::LDLT<MatrixXd> one(S.selfadjointView<Eigen::Lower>());
        const Eigen::LDLT<MatrixXd> two(MatrixXd(whole - S).selfadjointView<Eigen::Lower>());
        const double smallest = std::min(one.vectorD().minCoeff(), two.vectorD().minCoeff());
        if (smallest < 1e-11) {
            continue;  // An effect that cannot be told in one of the parts.
        }
        const VectorXd h = wholeG - g;
        const double parts =
            (squares - g.dot(one.solve(g))) + (rss - squares - h.dot(two.solve(h)));
        const double f =
            (rss - parts) / static_cast<double>(k) / (parts / static_cast<double>(n - 2 * k));
        places.push_back(all.rows[static_cast<std::size_t>(before)]);
        path.push_back(f);
        if (f > most) {
            most = f;
            at = before;
        }
    }
    if (at < 0) {
        return notApplicable("At no moment can both parts be fitted.");
    }
    CheckResult result;
    const double wald = most * static_cast<double>(k);
    result.statistic = most;
    result.statisticName = "largest F";
    result.df = {static_cast<double>(k)};
    result.p = breakTail(wald, k);
    const std::size_t breakRow =
        in.design.rows[static_cast<std::size_t>(all.rows[static_cast<std::size_t>(at)])];
    result.details = {{"largest Wald", wald},
                      {"row of the break", static_cast<double>(breakRow + 1)},
                      {"places", static_cast<double>(path.size())}};
    // What two models explain of what one leaves.
    const double ratio = most * static_cast<double>(k) / static_cast<double>(n - 2 * k);
    const double share = ratio / (1.0 + ratio);
    result.verdict = judge(*result.p, in.alpha, share, 0.02, 0.1);
    const std::string moment = momentText(in, all.rows[static_cast<std::size_t>(at)]);
    result.headline = result.verdict == Verdict::Fine ? pClause(*result.p)
                                                      : "at " + moment + ", " + pClause(*result.p);
    result.reading =
        *result.p >= in.alpha
            ? "Wherever the series is cut, the two parts differ no more than the largest of so "
              "many "
              "differences does by chance (" +
                  pClause(*result.p) + ")."
            : "The series breaks: cut before **" + moment + "**, a model for each part explains " +
                  fixedNumber(100.0 * share, 1) + " % of what one leaves (" + pClause(*result.p) +
                  ", looking at every moment between 15 % and 85 %). The test asks for errors of "
                  "one spread without echo.";
    Exhibit& e = result.exhibit;
    e.title = result.verdict == Verdict::Fine ? "No cut stands out"
                                              : "The parts differ most when cut at " + moment;
    e.subtitle = "F of a break at each moment, dashed what chance reaches · n = " +
                 countText(static_cast<std::size_t>(n));
    e.yTitle = "F";
    placeAlongTime(in, places, e);
    e.y = path;
    e.fromZero = true;
    Exhibit::Line line;
    line.x = e.x;
    line.y = e.y;
    e.lines.push_back(line);
    // The F that the largest exceeds with probability alpha.
    double low = 0.0;
    double high = 500.0;
    for (int i = 0; i < 80; ++i) {
        const double middle = 0.5 * (low + high);
        (breakTail(middle, k) > in.alpha ? low : high) = middle;
    }
    const double bound = low / static_cast<double>(k);
    result.details.emplace_back("bound", bound);
    e.lines.push_back({.x = {e.x.front(), e.x.back()}, .y = {bound, bound}, .dashed = true});
    e.marked = {breakRow};
    if (result.verdict != Verdict::Fine) {
        offerParts(in, all.rows[static_cast<std::size_t>(at)], result);
    }
    return result;
}

CheckResult checkRecursive(const CheckInput& in) {
    if (const std::string problem = pathProblem(in, 1.0); !problem.empty()) {
        return notApplicable(problem);
    }
    const Ordered all = ordered(in);
    const Index n = all.e.size();
    const Index k = all.Q.cols();
    const double sigma = in.fit.statistics.sigma;
    const MatrixXd& F = in.fit.solution.factor;
    MatrixXd S = MatrixXd::Zero(k, k);
    VectorXd g = VectorXd::Zero(k);
    double most = 0.0;
    Index atTerm = 0;
    Index atRow = 0;
    std::vector<Index> places;
    std::vector<VectorXd> path;
    std::vector<MatrixXd> spread;
    const Index step = std::max<Index>(1, n / 2000);
    for (Index t = 0; t < n && !in.job.stopped(); ++t) {
        S.selfadjointView<Eigen::Lower>().rankUpdate(all.Q.row(t).transpose());
        g += all.e(t) * all.Q.row(t).transpose();
        // What pulls the estimates of all rows away from those of the rows so far, each direction
        // in its own standard deviations; without the inverse, which in short stretches is wild.
        if (const double distance = g.cwiseAbs().maxCoeff() / sigma; distance > most) {
            most = distance;
            atRow = all.rows[static_cast<std::size_t>(t)];
        }
        if (t + 1 < k + 1 || ((t + 1) % step != 0 && t + 1 != n)) {
            continue;
        }
        const Eigen::LDLT<MatrixXd> ldlt(S.selfadjointView<Eigen::Lower>());
        if (ldlt.vectorD().minCoeff() < 1e-9) {
            continue;
        }
        const VectorXd delta = ldlt.solve(g);
        places.push_back(all.rows[static_cast<std::size_t>(t)]);
        path.push_back(F * delta);
        spread.push_back(F * ldlt.solve(MatrixXd::Identity(k, k)) * F.transpose());
    }
    if (path.size() < 3) {
        return notApplicable("The estimates of the first rows cannot be told apart.");
    }
    CheckResult result;
    result.statistic = most;
    result.statisticName = "fluctuation";
    // k independent Brownian bridges stay within the bounds.
    double tail = 0.0;
    for (int j = 1; j <= 100; ++j) {
        tail += (j % 2 == 1 ? 2.0 : -2.0) * std::exp(-2.0 * j * j * most * most);
    }
    tail = most < 0.2 ? 1.0 : std::clamp(tail, 0.0, 1.0);
    result.p = -std::expm1(static_cast<double>(k) * std::log1p(-std::min(tail, 1.0)));
    result.details = {{"coefficients", static_cast<double>(k)},
                      {"moments", static_cast<double>(path.size())}};
    result.verdict = judge(*result.p, in.alpha, most, 0.0, 2.0);
    result.headline = pClause(*result.p);
    // The effect that travelled most, in its final standard errors, over the second half.
    double farthest = -1.0;
    for (Index j = 0; j < k; ++j) {
        if (in.design
                .columns[static_cast<std::size_t>(
                    in.fit.solution.kept[static_cast<std::size_t>(j)])]
                .term < 0) {
            continue;
        }
        const double se = in.fit.coefficients[static_cast<std::size_t>(j)].se;
        for (std::size_t t = path.size() / 2; t < path.size(); ++t) {
            const double moved = se > 0.0 ? std::abs(path[t](j)) / se : 0.0;
            if (moved > farthest) {
                farthest = moved;
                atTerm = j;
            }
        }
    }
    if (result.verdict != Verdict::Fine) {
        offerParts(in, atRow, result);
    }
    const Coefficient& c = in.fit.coefficients[static_cast<std::size_t>(atTerm)];
    result.reading =
        (*result.p >= in.alpha
             ? "Fitted on more and more of the series, the estimates settle where all rows put "
               "them (" +
                   pClause(*result.p) + ")."
             : "Fitted on more and more of the series, the estimates wander further than chance "
               "lets them (" +
                   pClause(*result.p) + "), most at " + momentText(in, atRow) + ".") +
        " In the second half **" + c.term + "** moved by up to " + fixedNumber(farthest, 1) +
        " of its standard errors.";
    Exhibit& e = result.exhibit;
    e.title =
        result.verdict == Verdict::Fine ? "The estimates settle" : "The estimates keep moving";
    e.subtitle = c.term + " from the rows so far, ± 2 standard errors · n = " +
                 countText(static_cast<std::size_t>(n));
    e.yTitle = c.term;
    placeAlongTime(in, places, e);
    Exhibit::Line line;
    Exhibit::Band band;
    for (std::size_t t = 0; t < path.size(); ++t) {
        const double b = c.estimate + path[t](atTerm);
        const double se = sigma * std::sqrt(std::max(spread[t](atTerm, atTerm), 0.0));
        e.y.push_back(b);
        // The first estimates stand on as many rows as terms: they would press the rest flat.
        if (t * 10 >= path.size()) {
            line.x.push_back(e.x[t]);
            line.y.push_back(b);
            band.x.push_back(e.x[t]);
            band.low.push_back(b - 2.0 * se);
            band.high.push_back(b + 2.0 * se);
        }
    }
    const std::size_t left = path.size() - line.x.size();
    e.x.erase(e.x.begin(), e.x.begin() + static_cast<std::ptrdiff_t>(left));
    e.y.erase(e.y.begin(), e.y.begin() + static_cast<std::ptrdiff_t>(left));
    e.rows.erase(e.rows.begin(), e.rows.begin() + static_cast<std::ptrdiff_t>(left));
    e.lines.push_back(std::move(line));
    e.bands.push_back(std::move(band));
    e.lines.push_back({.name = "all rows",
                       .x = {e.x.front(), e.x.back()},
                       .y = {c.estimate, c.estimate},
                       .dashed = true});
    return result;
}

}  // namespace rapporto
