// Is it stable? A known break or groups, and recursive residuals along a series.
#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/checks/told.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>

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
    double squares = 0.0;  ///< Their sum of squares.
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

/// The x that a falling tail leaves with probability p.
double valueBeyond(double (*tail)(double), double p) {
    double low = 0.1;
    double high = 4.0;
    for (int turn = 0; turn < 60; ++turn) {
        const double middle = 0.5 * (low + high);
        (tail(middle) > p ? low : high) = middle;
    }
    return low;
}

/// A path along time with its bounds.
struct Path {
    std::vector<double> at;
    std::vector<double> low;
    std::vector<double> high;

    void add(double value, double from, double to) {
        at.push_back(value);
        low.push_back(from);
        high.push_back(to);
    }
};

/// What both paths show alike: the headline and the exhibit.
void finishPath(const CheckInput& in, const Recursive& recursive, const Path& path,
                CheckResult& result) {
    result.headline = pClause(*result.p);
    Exhibit& e = result.exhibit;
    e.title =
        *result.p >= in.alpha ? "The path stays within its bounds" : "The path leaves its bounds";
    e.xTitle = in.frame.layout().time;
    const Variable* time = in.frame.variable(e.xTitle);
    e.xScale =
        time != nullptr && time->measure == Measure::Date ? AxisScale::Date : AxisScale::Number;
    Exhibit::Line line;
    for (const Index row : recursive.rows) {
        const auto at = static_cast<std::size_t>(row);
        e.x.push_back(in.design.time[at]);
        e.rows.push_back(in.design.rows[at]);
        line.rows.push_back(static_cast<std::uint32_t>(in.design.rows[at]));
    }
    e.y = line.y = path.at;
    line.x = e.x;
    e.pointsHidden = true;
    e.bands.push_back({"", e.x, path.low, path.high});
    e.lines.push_back(std::move(line));
    e.zeroLine = true;
}

/// The recursive residuals of a series, or a sentence why there are none.
tl::expected<Recursive, std::string> pathFor(const CheckInput& in) {
    if (std::string reason = orderProblem(in); !reason.empty()) {
        return tl::make_unexpected(std::move(reason));
    }
    Recursive out = recursiveResiduals(in, rowsInTime(in));
    for (const double w : out.residuals) {
        out.squares += w * w;
    }
    if (out.residuals.size() < 5 || out.squares <= 0.0) {
        return tl::make_unexpected(std::string("There are too few rows after the first fit."));
    }
    return out;
}

/// The rows before and after a moment, where both have enough to be fitted alone.
void offerPartsInside(const CheckInput& in, const Recursive& recursive, std::size_t at,
                      CheckResult& result) {
    const auto all = static_cast<double>(recursive.rows.size());
    const double share = static_cast<double>(at) / all;
    if (share > 0.15 && share < 0.85) {
        offerParts(in, recursive.rows[at], result);
    }
}

}  // namespace

std::string partsBy(const CheckInput& in) {
    return in.options.by.empty() ? firstGrouping(in) : in.options.by;
}

CheckResult chowOf(const CheckInput& in, const PartFits& fits) {
    double rss = 0.0;
    double columns = 0.0;
    for (const PartFits::One& part : fits.parts) {
        if (!part.solved || !fits.pooled.solved) {
            return notApplicable("‘" + part.label + "’ has too few rows for a model of its own.");
        }
        rss += part.rss;
        columns += part.columns;
    }
    const PartFits::One& pooled = fits.pooled;
    const double df1 = columns - pooled.columns;
    const double df2 = pooled.rows - columns;
    if (df1 < 1.0 || df2 < 1.0 || rss <= 0.0) {
        return notApplicable("The parts have nothing to differ in.");
    }
    CheckResult result;
    const double f = std::max((pooled.rss - rss) / df1 / (rss / df2), 0.0);
    const double share = (pooled.rss - rss) / pooled.rss;
    result.statistic = f;
    result.statisticName = "Chow F";
    result.df = {df1, df2};
    result.distribution = "F";
    result.p = fTail(f, df1, df2);
    const std::size_t parts = fits.parts.size();
    result.details = {{"share of residual variance", share}, {"parts", static_cast<double>(parts)}};
    result.verdict = judge(*result.p, in.alpha, share, 0.01, 0.05);
    result.headline = pClause(*result.p);
    const std::string names = parts == 2 ? fits.parts[0].label + " and " + fits.parts[1].label
                                         : plural(parts, "part", "parts");
    result.reading =
        *result.p >= in.alpha
            ? "One model for " + names + " does no worse than one each (" + pClause(*result.p) +
                  "). This does not prove that the effects are the same."
            : "A model each for " + names + " explains " + fixedNumber(100.0 * share, 1) +
                  " % of what one model leaves (" + pClause(*result.p) +
                  "): some effects differ between them. The test asks for one spread in all parts.";
    const bool byGroups = !in.options.atRow && in.options.at.empty();
    if (result.verdict != Verdict::Fine && byGroups && !partsBy(in).empty()) {
        offerEffectsBy(in, partsBy(in), result);
    }
    return result;
}

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
    const auto fitOf = [&in](const std::string& label, const std::vector<Index>& own) {
        const auto fit = fitPart(in, own);
        return fit ? PartFits::One{label, fit->n, fit->rss, fit->columns}
                   : PartFits::One{label, 0.0, 0.0, 0.0, false};
    };
    PartFits fits{fitOf({}, all), {}};
    for (std::size_t g = 0; g < rows.size(); ++g) {
        fits.parts.push_back(fitOf(parts->labels[g], rows[g]));
    }
    CheckResult result = chowOf(in, fits);
    if (!result.p) {
        return result;
    }
    result.exhibit = residualExhibit(in);
    result.exhibit.title = result.verdict == Verdict::Fine ? "One model serves all parts"
                                                           : "The parts want models of their own";
    if (parts->labels.size() <= 6) {
        // Rows that belong to no part have no colour and no place.
        Exhibit& e = result.exhibit;
        Exhibit whole = e;
        e.x.clear();
        e.y.clear();
        e.rows.clear();
        for (const Index i : all) {
            const auto at = static_cast<std::size_t>(i);
            e.x.push_back(whole.x[at]);
            e.y.push_back(whole.y[at]);
            e.rows.push_back(whole.rows[at]);
            e.series.push_back(static_cast<std::uint8_t>(parts->of[at]));
        }
        e.seriesNames = parts->labels;
    }
    const bool byGroups = !in.options.atRow && in.options.at.empty();
    if (result.verdict != Verdict::Fine && !byGroups && orderProblem(in).empty()) {
        // The first row of the second part along time.
        for (const Index i : rowsInTime(in)) {
            if (parts->of[static_cast<std::size_t>(i)] == 1) {
                offerParts(in, i, result);
                break;
            }
        }
    }
    return result;
}

CheckResult checkCusum(const CheckInput& in) {
    const auto recursive = pathFor(in);
    if (!recursive) {
        return notApplicable(recursive.error());
    }
    const double m = static_cast<double>(recursive->residuals.size());
    const double sigma = std::sqrt(recursive->squares / m);
    // The chance that the path crosses either line, in the authors’ approximation.
    const auto tail = [](double a) {
        return std::min(
            1.0, 2.0 * (normalTail(3.0 * a) + std::exp(-4.0 * a * a) * (1.0 - normalTail(a))));
    };
    const double bound = valueBeyond(tail, in.alpha);  // .948 at .05
    Path path;
    double sum = 0.0;
    double most = 0.0;
    std::size_t farthest = 0;
    for (const double w : recursive->residuals) {
        sum += w / sigma;
        const double j = static_cast<double>(path.at.size()) + 1.0;
        const double width = std::sqrt(m) * (1.0 + 2.0 * j / m);
        path.add(sum, -bound * width, bound * width);
        if (std::abs(sum) / width > most) {
            most = std::abs(sum) / width;
            farthest = path.at.size() - 1;
        }
    }
    CheckResult result;
    result.statistic = most;
    result.statisticName = "CUSUM";
    result.p = tail(most);
    result.details = {{"recursive residuals", m}, {"bound", bound}};
    result.verdict = judge(*result.p, in.alpha, most, 0.0, 1.3);
    result.reading =
        *result.p >= in.alpha
            ? "Predicted from the rows before them, rows err to both sides alike: no sign that the "
              "level or an effect drifts (" +
                  pClause(*result.p) + ")."
            : "Predicted from the rows before them, rows err to one side for long (" +
                  pClause(*result.p) + "): the level or an effect has shifted on the way.";
    finishPath(in, *recursive, path, result);
    result.exhibit.subtitle =
        "sum of recursive residuals, in standard deviations · n = " + countText(path.at.size());
    result.exhibit.yTitle = "CUSUM";
    if (result.verdict != Verdict::Fine) {
        offerLaggedOutcome(in, result);
        offerPartsInside(in, *recursive, farthest, result);
    }
    return result;
}

CheckResult checkCusumSquares(const CheckInput& in) {
    const auto recursive = pathFor(in);
    if (!recursive) {
        return notApplicable(recursive.error());
    }
    const double m = static_cast<double>(recursive->residuals.size());
    const double bound = valueBeyond(bridgeTail, in.alpha) / std::sqrt(0.5 * m);
    Path path;
    double sum = 0.0;
    double most = 0.0;
    std::size_t farthest = 0;
    for (const double w : recursive->residuals) {
        sum += w * w / recursive->squares;
        const double expected = (static_cast<double>(path.at.size()) + 1.0) / m;
        path.add(sum, expected - bound, expected + bound);
        if (std::abs(sum - expected) > most) {
            most = std::abs(sum - expected);
            farthest = path.at.size() - 1;
        }
    }
    CheckResult result;
    result.statistic = most;
    result.statisticName = "CUSUM of squares";
    result.p = bridgeTail(most * std::sqrt(0.5 * m));
    result.details = {{"recursive residuals", m}, {"bound", bound}};
    result.verdict = judge(*result.p, in.alpha, most, 0.05, 0.25);
    result.reading =
        *result.p >= in.alpha
            ? "The errors of prediction keep their size along time (" + pClause(*result.p) + ")."
            : "The errors of prediction change their size along time (" + pClause(*result.p) +
                  "): a restless stretch, or a break in an effect. The bounds ask for normal "
                  "errors.";
    finishPath(in, *recursive, path, result);
    result.exhibit.subtitle =
        "share of the squared recursive residuals so far · n = " + countText(path.at.size());
    result.exhibit.yTitle = "share";
    if (result.verdict != Verdict::Fine) {
        offerRobust(in, result);
        offerAutocorrelation(in, result);
        offerPartsInside(in, *recursive, farthest, result);
    }
    return result;
}

}  // namespace rapporto
