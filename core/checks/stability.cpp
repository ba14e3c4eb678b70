// Is it stable? A known break or groups, and recursive residuals along a series.
#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>
#include <set>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// The rows cut for a Chow test, or a sentence why they cannot be.
tl::expected<CheckGroups, std::string> partsFor(const CheckInput& in) {
    const CheckRequest& options = in.options;
    if (!options.by.empty()) {
        return groupsFor(in, options.by);
    }
    if (options.atRow) {
        CheckGroups out;
        out.labels = {"before row " + std::to_string(*options.atRow),
                      "from row " + std::to_string(*options.atRow)};
        for (const std::size_t row : in.design.rows) {
            out.of.push_back(row + 1 < *options.atRow ? 0 : 1);
        }
        return out;
    }
    if (!options.at.empty()) {
        if (const std::string reason = orderProblem(in); !reason.empty()) {
            return tl::make_unexpected(reason);
        }
        // The moment is compared as it is shown: 2015-06 is before 2015-06-01 and after 2015-05-31.
        const std::string& time = in.frame.layout().time;
        const Column& column = *in.frame.column(time);
        const Variable& variable = *in.frame.variable(time);
        CheckGroups out;
        out.labels = {"before " + options.at, "from " + options.at};
        const bool date = variable.measure == Measure::Date;
        for (const std::size_t row : in.design.rows) {
            const bool before =
                date ? cellText(column, variable, row) < options.at
                     : column.numbers()[row] < std::strtod(options.at.c_str(), nullptr);
            out.of.push_back(before ? 0 : 1);
        }
        return out;
    }
    const std::string by = firstGrouping(in);
    return by.empty() ? tl::make_unexpected(
                            std::string("Name the groups to compare, or the moment of a break."))
                      : groupsFor(in, by);
}

/// Recursive residuals in the order of time: of each row, its error when predicted from the rows
/// before it, scaled to one spread. By rotating rows into a triangle one at a time; a row that
/// brings a new direction has none. Source: Brown, Durbin & Evans (1975), J. R. Statist. Soc. B 37.
struct Recursive {
    std::vector<double> residuals;
    std::vector<Index> rows;
};

Recursive recursiveResiduals(const CheckInput& in, const std::vector<Index>& order) {
    MatrixXd X = withColumns(in, MatrixXd(in.design.X.rows(), 0));
    const Index k = X.cols();
    const VectorXd scale = X.colwise().norm();
    MatrixXd R = MatrixXd::Zero(k, k);
    VectorXd z = VectorXd::Zero(k);
    Recursive out;
    for (const Index i : order) {
        const double w = in.design.weights.size() > 0 ? std::sqrt(in.design.weights(i)) : 1.0;
        VectorXd x = w * X.row(i).transpose().cwiseQuotient(scale);
        double y = w * in.design.y(i);
        bool fresh = false;
        for (Index j = 0; j < k; ++j) {
            if (std::abs(x(j)) < 1e-13) {
                continue;
            }
            const double length = std::hypot(R(j, j), x(j));
            fresh = fresh || std::abs(R(j, j)) < 1e-11 * length;
            const double c = R(j, j) / length;
            const double s = x(j) / length;
            const VectorXd upper = R.row(j).transpose();
            R.row(j) = (c * upper + s * x).transpose();
            x = c * x - s * upper;
            const double above = z(j);
            z(j) = c * above + s * y;
            y = c * y - s * above;
        }
        if (!fresh) {
            out.residuals.push_back(y);
            out.rows.push_back(i);
        }
    }
    return out;
}

/// P(sup |Brownian bridge| > x), Kolmogorov (1933).
double bridgeTail(double x) {
    if (x < 0.2) {
        return 1.0;
    }
    double sum = 0.0;
    for (int j = 1; j <= 100; ++j) {
        const double term = std::exp(-2.0 * j * j * x * x);
        sum += (j % 2 == 1 ? 2.0 : -2.0) * term;
        if (term < 1e-18) {
            break;
        }
    }
    return std::clamp(sum, 0.0, 1.0);
}

/// A path along time with its bounds.
Exhibit pathExhibit(const CheckInput& in, const Recursive& recursive,
                    const std::vector<double>& path, const std::vector<double>& low,
                    const std::vector<double>& high) {
    Exhibit e;
    e.xTitle = in.frame.layout().time;
    const Variable* time = in.frame.variable(e.xTitle);
    e.xScale =
        time != nullptr && time->measure == Measure::Date ? AxisScale::Date : AxisScale::Number;
    Exhibit::Line line;
    Exhibit::Band band;
    for (std::size_t j = 0; j < path.size(); ++j) {
        const auto at = static_cast<std::size_t>(recursive.rows[j]);
        line.x.push_back(in.design.time[at]);
        line.y.push_back(path[j]);
        line.rows.push_back(static_cast<std::uint32_t>(in.design.rows[at]));
        band.x.push_back(in.design.time[at]);
        band.low.push_back(low[j]);
        band.high.push_back(high[j]);
        e.x.push_back(in.design.time[at]);
        e.y.push_back(path[j]);
        e.rows.push_back(in.design.rows[at]);
    }
    e.pointsHidden = true;
    e.lines.push_back(std::move(line));
    e.bands.push_back(std::move(band));
    e.zeroLine = true;
    return e;
}

std::optional<Recursive> pathFor(const CheckInput& in) {
    Recursive out = recursiveResiduals(in, rowsInTime(in));
    double sum = 0.0;
    for (const double w : out.residuals) {
        sum += w * w;
    }
    return out.residuals.size() < 5 || sum <= 0.0 ? std::nullopt : std::optional(std::move(out));
}

}  // namespace

// Chow (1960), Econometrica 28, 591–605.
CheckResult checkChow(const CheckInput& in) {
    const auto parts = partsFor(in);
    if (!parts) {
        return notApplicable(parts.error());
    }
    std::vector<Index> all;
    std::vector<std::vector<Index>> rows(parts->labels.size());
    for (std::size_t i = 0; i < parts->of.size(); ++i) {
        if (parts->of[i] >= 0) {
            all.push_back(static_cast<Index>(i));
            rows[static_cast<std::size_t>(parts->of[i])].push_back(static_cast<Index>(i));
        }
    }
    const auto pooled = fitPart(in, all);
    double rss = 0.0;
    double columns = 0.0;
    for (std::size_t g = 0; g < rows.size(); ++g) {
        const auto part = fitPart(in, rows[g]);
        if (!part || !pooled) {
            return notApplicable("‘" + parts->labels[g] +
                                 "’ has too few rows for a model of its own.");
        }
        rss += part->rss;
        columns += part->columns;
    }
    const double df1 = columns - pooled->columns;
    const double df2 = pooled->n - columns;
    if (df1 < 1.0 || df2 < 1.0 || rss <= 0.0) {
        return notApplicable("The parts have nothing to differ in.");
    }
    CheckResult result;
    const double f = std::max((pooled->rss - rss) / df1 / (rss / df2), 0.0);
    const double share = (pooled->rss - rss) / pooled->rss;
    result.statistic = f;
    result.statisticName = "Chow F";
    result.df = {df1, df2};
    result.distribution = "F";
    result.p = fTail(f, df1, df2);
    result.details = {{"share of residual variance", share},
                      {"parts", static_cast<double>(rows.size())}};
    result.verdict = judge(*result.p, in.alpha, share, 0.01, 0.05);
    result.headline = pClause(*result.p);
    const std::string names = rows.size() == 2 ? parts->labels[0] + " and " + parts->labels[1]
                                               : plural(rows.size(), "part", "parts");
    result.reading =
        *result.p >= in.alpha
            ? "One model for " + names + " does no worse than one each (" + pClause(*result.p) +
                  "). This does not prove that the effects are the same."
            : "A model each for " + names + " explains " + fixedNumber(100.0 * share, 1) +
                  " % of what one model leaves (" + pClause(*result.p) +
                  "): some effects differ between them. The test asks for one spread in all parts.";
    result.exhibit = residualExhibit(in);
    result.exhibit.title = result.verdict == Verdict::Fine ? "One model serves all parts"
                                                           : "The parts want models of their own";
    if (parts->labels.size() <= 6) {
        for (const int part : parts->of) {
            result.exhibit.series.push_back(static_cast<std::uint8_t>(std::max(part, 0)));
        }
        result.exhibit.seriesNames = parts->labels;
    }
    return result;
}

CheckResult checkCusum(const CheckInput& in) {
    if (const std::string reason = orderProblem(in); !reason.empty()) {
        return notApplicable(reason);
    }
    const auto recursive = pathFor(in);
    if (!recursive) {
        return notApplicable("There are too few rows after the first fit.");
    }
    const double m = static_cast<double>(recursive->residuals.size());
    double squares = 0.0;
    for (const double w : recursive->residuals) {
        squares += w * w;
    }
    const double sigma = std::sqrt(squares / m);
    const auto tail = [](double a) {
        return std::min(
            1.0, 2.0 * (normalTail(3.0 * a) + std::exp(-4.0 * a * a) * (1.0 - normalTail(a))));
    };
    // The slope of the bounds at alpha, by halving: .948 at .05.
    double low = 0.1;
    double high = 4.0;
    for (int turn = 0; turn < 60; ++turn) {
        const double middle = 0.5 * (low + high);
        (tail(middle) > in.alpha ? low : high) = middle;
    }
    std::vector<double> path;
    std::vector<double> lower;
    std::vector<double> upper;
    double sum = 0.0;
    double most = 0.0;
    for (const double w : recursive->residuals) {
        sum += w / sigma;
        path.push_back(sum);
        const double j = static_cast<double>(path.size());
        const double width = std::sqrt(m) * (1.0 + 2.0 * j / m);
        upper.push_back(low * width);
        lower.push_back(-low * width);
        most = std::max(most, std::abs(sum) / width);
    }
    CheckResult result;
    result.statistic = most;
    result.statisticName = "CUSUM";
    result.distribution = "exact";
    result.p = tail(most);
    result.details = {{"recursive residuals", m}, {"bound", low}};
    result.verdict = judge(*result.p, in.alpha, most, 0.0, 1.3);
    result.headline = pClause(*result.p);
    result.reading =
        *result.p >= in.alpha
            ? "Predicted from the rows before them, rows err to both sides alike: no sign that the "
              "level or an effect drifts (" +
                  pClause(*result.p) + ")."
            : "Predicted from the rows before them, rows err to one side for long (" +
                  pClause(*result.p) + "): the level or an effect has shifted on the way.";
    result.exhibit = pathExhibit(in, *recursive, path, lower, upper);
    result.exhibit.title =
        *result.p >= in.alpha ? "The path stays within its bounds" : "The path leaves its bounds";
    result.exhibit.subtitle =
        "sum of recursive residuals, in standard deviations · n = " + countText(path.size());
    result.exhibit.yTitle = "CUSUM";
    return result;
}

CheckResult checkCusumSquares(const CheckInput& in) {
    if (const std::string reason = orderProblem(in); !reason.empty()) {
        return notApplicable(reason);
    }
    const auto recursive = pathFor(in);
    if (!recursive) {
        return notApplicable("There are too few rows after the first fit.");
    }
    const double m = static_cast<double>(recursive->residuals.size());
    double squares = 0.0;
    for (const double w : recursive->residuals) {
        squares += w * w;
    }
    double low = 0.3;
    double high = 3.0;
    for (int turn = 0; turn < 60; ++turn) {
        const double middle = 0.5 * (low + high);
        (bridgeTail(middle) > in.alpha ? low : high) = middle;
    }
    const double bound = low / std::sqrt(0.5 * m);
    std::vector<double> path;
    std::vector<double> lower;
    std::vector<double> upper;
    double sum = 0.0;
    double most = 0.0;
    for (const double w : recursive->residuals) {
        sum += w * w / squares;
        path.push_back(sum);
        const double expected = static_cast<double>(path.size()) / m;
        most = std::max(most, std::abs(sum - expected));
        lower.push_back(expected - bound);
        upper.push_back(expected + bound);
    }
    CheckResult result;
    result.statistic = most;
    result.statisticName = "CUSUM of squares";
    result.distribution = "exact";
    result.p = bridgeTail(most * std::sqrt(0.5 * m));
    result.details = {{"recursive residuals", m}, {"bound", bound}};
    result.verdict = judge(*result.p, in.alpha, most, 0.05, 0.25);
    result.headline = pClause(*result.p);
    result.reading =
        *result.p >= in.alpha
            ? "The errors of prediction keep their size along time (" + pClause(*result.p) + ")."
            : "The errors of prediction change their size along time (" + pClause(*result.p) +
                  "): a restless stretch, or a break in an effect. The bounds ask for normal "
                  "errors.";
    result.exhibit = pathExhibit(in, *recursive, path, lower, upper);
    result.exhibit.title =
        *result.p >= in.alpha ? "The path stays within its bounds" : "The path leaves its bounds";
    result.exhibit.subtitle =
        "share of the squared recursive residuals so far · n = " + countText(path.size());
    result.exhibit.yTitle = "share";
    return result;
}

}  // namespace rapporto
