// What random effects leave of the rows: shape, spread and law within the groups.
#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/checks/groups.h"
#include "core/checks/normal_enough.h"
#include "core/describe/normality.h"
#include "core/model/multilevel.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

namespace rapporto {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

/// Rows of each of the innermost groups.
std::vector<std::vector<Index>> rowsOfGroups(const DesignLevel& level) {
    std::vector<std::vector<Index>> out(static_cast<std::size_t>(level.count));
    for (std::size_t i = 0; i < level.of.size(); ++i) {
        out[static_cast<std::size_t>(level.of[i])].push_back(static_cast<Index>(i));
    }
    return out;
}

/// What the coefficients leave, less each innermost group’s own line in its random columns and
/// brought to the spread of a row: whatever the groups’ effects are, nothing of them is left. NaN
/// in groups of no more rows than columns.
VectorXd withinGroups(const CheckInput& in, const std::vector<std::vector<Index>>& groups) {
    const DesignLevel& level = in.design.levels.front();
    const Index q = level.slopes.cols() + 1;
    VectorXd e = in.fit.residuals + in.fit.levels->shift;
    VectorXd root = VectorXd::Ones(e.size());
    if (in.design.weights.size() > 0) {
        root = in.design.weights.cwiseSqrt();
    }
    VectorXd out = VectorXd::Constant(e.size(), std::numeric_limits<double>::quiet_NaN());
    for (const std::vector<Index>& rows : groups) {
        const auto n = static_cast<Index>(rows.size());
        MatrixXd Z(n, q);
        Z.col(0).setOnes();
        Z.rightCols(q - 1) = level.slopes(rows, Eigen::all);
        Z = (root(rows).asDiagonal() * Z).eval();
        const Eigen::ColPivHouseholderQR<MatrixXd> turned(Z);
        if (n <= turned.rank()) {
            continue;
        }
        const VectorXd own = root(rows).cwiseProduct(e(rows));
        const VectorXd left = own - Z * turned.solve(own);
        out(rows) =
            left * std::sqrt(static_cast<double>(n) / static_cast<double>(n - turned.rank()));
    }
    return out;
}

/// Of a yes–no outcome or a count the spread of a row follows from its mean.
std::optional<CheckResult> hasNoSpread(const CheckInput& in) {
    if (in.fit.levels->family == nullptr) {
        return std::nullopt;
    }
    return notApplicable("The spread of such an outcome follows from its mean.");
}

double median(std::vector<double> values) {
    const auto middle = values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2);
    std::nth_element(values.begin(), middle, values.end());
    if (values.size() % 2 == 1) {
        return *middle;
    }
    return 0.5 * (*middle + *std::max_element(values.begin(), middle));
}

/// A group’s spread, and the deviations from its median that the test is of.
struct GroupSpread {
    std::size_t group = 0;
    double sd = 0.0;
    double deviations = 0.0;  ///< Mean of them …
    double squares = 0.0;     ///< … and the sum of their squares about it.
    double rows = 0.0;
};

std::vector<GroupSpread> spreadsOf(const VectorXd& e,
                                   const std::vector<std::vector<Index>>& groups) {
    constexpr std::size_t kFewest = 5;
    std::vector<GroupSpread> out;
    for (std::size_t g = 0; g < groups.size(); ++g) {
        if (groups[g].size() < kFewest || std::isnan(e(groups[g].front()))) {
            continue;
        }
        const VectorXd own = e(groups[g]);
        const double middle = median({own.begin(), own.end()});
        const Eigen::ArrayXd d = (own.array() - middle).abs();
        GroupSpread one{g, std::sqrt(own.squaredNorm() / static_cast<double>(own.size())), d.mean(),
                        (d - d.mean()).square().sum(), static_cast<double>(d.size())};
        out.push_back(one);
    }
    return out;
}

/// The spread of each group, from the least to the largest, with the rows behind it.
Exhibit spreadsExhibit(const CheckInput& in, std::vector<GroupSpread> spreads,
                       const std::vector<std::vector<Index>>& groups) {
    constexpr std::size_t kMostNames = 40;
    const DesignLevel& level = in.design.levels.front();
    std::stable_sort(spreads.begin(), spreads.end(),
                     [](const auto& a, const auto& b) { return a.sd < b.sd; });
    Exhibit out;
    out.subtitle = "standard deviation within each of " +
                   plural(spreads.size(), "group", "groups") + " of five rows and more";
    out.xTitle = level.name + ", from the narrowest to the widest";
    out.yTitle = "spread within the group";
    out.fromZero = true;
    for (std::size_t k = 0; k < spreads.size(); ++k) {
        const GroupSpread& one = spreads[k];
        Exhibit::Bar bar;
        bar.x0 = static_cast<double>(k) + 0.65;
        bar.x1 = static_cast<double>(k) + 1.35;
        bar.y1 = one.sd;
        bar.says = level.labels[one.group] + ": " + shortNumber(one.sd) + ", " +
                   plural(groups[one.group].size(), "row", "rows");
        for (const Index i : groups[one.group]) {
            bar.rows.push_back(
                static_cast<std::uint32_t>(in.design.rows[static_cast<std::size_t>(i)]));
        }
        out.bars.push_back(std::move(bar));
        if (spreads.size() <= kMostNames) {
            out.xNames.push_back(level.labels[one.group]);
        }
    }
    return out;
}

}  // namespace

// Ramsey (1969), Journal of the Royal Statistical Society B 31, in the fit with random effects.
CheckResult checkRowsShape(const CheckInput& in) {
    VectorXd given = VectorXd::Zero(in.design.X.rows());
    for (const Coefficient& c : in.fit.coefficients) {
        given += c.estimate * in.design.X.col(c.column);
    }
    given.array() -= given.mean();
    const double sd = std::sqrt(given.squaredNorm() / static_cast<double>(given.size()));
    if (!(sd > 1e-10 * in.design.y.cwiseAbs().maxCoeff())) {
        return notApplicable("The terms give one number for all rows: there is no shape in it.");
    }
    given /= sd;
    MatrixXd powers(given.size(), 2);
    powers.col(0) = given.cwiseAbs2();
    powers.col(1) = given.array().cube();
    const auto fit = fitWithMore(in, powers, {"square of what the terms give", "cube of it"});
    if (!fit) {
        return notApplicable("The fit with squares and cubes was not found: " + fit.error().what +
                             ".");
    }
    const auto test = testOfMore(in, *fit, true);
    if (!test) {
        return notApplicable("What the terms give takes too few values to bend.");
    }
    CheckResult result = resultOf(*test);
    const bool bends = test->p < in.alpha;
    result.verdict = bends ? Verdict::Fails : Verdict::Fine;
    result.reading =
        bends ? "Squares and cubes of what the terms give tell more of the outcome (" +
                    pClause(test->p) +
                    "): a term bends, or two work together. Look for the bend, then log, square or "
                    "multiply."
              : "There is no sign of a bend that the terms miss (" + pClause(test->p) + ").";
    result.exhibit = residualExhibit(in);
    result.exhibit.title = bends ? "What the terms give bends" : "No bend in what the terms give";
    if (bends) {
        offerSquareOfCurved(in, result);
        if (in.fit.levels->family == nullptr) {
            offerLogOutcome(in, result);
        }
    }
    return result;
}

// Koenker (1981), Journal of Econometrics 17, with errors clustered by the innermost groups as in
// Arellano (1987), Oxford Bulletin of Economics and Statistics 49: squares of the rows of one group
// hang together, since its line is taken out of them.
CheckResult checkRowsSpread(const CheckInput& in) {
    if (auto none = hasNoSpread(in)) {
        return *none;
    }
    const DesignLevel& level = in.design.levels.front();
    const auto groups = rowsOfGroups(level);
    const VectorXd e = withinGroups(in, groups);
    std::vector<Index> rows;
    for (Index i = 0; i < e.size(); ++i) {
        if (!std::isnan(e(i))) {
            rows.push_back(i);
        }
    }
    if (rows.empty() || !(e(rows).squaredNorm() > 0.0)) {
        return notApplicable("No group has more rows than effects of its own.");
    }
    Design squares;
    const MatrixXd Z = regressors(in)->Z(rows, Eigen::all);
    squares.X.resize(Z.rows(), Z.cols() + 1);
    squares.X << VectorXd::Ones(Z.rows()), Z;
    squares.hasConstant = true;
    squares.y = e(rows).cwiseAbs2();
    squares.y /= squares.y.mean();
    auto solution = solveLinear({squares.X, squares.y, {}, true}, false, in.job);
    if (!solution) {
        return notApplicable("The work was stopped.");
    }
    const auto k = static_cast<Index>(solution->kept.size());
    const MatrixXd Q = squares.X(Eigen::all, solution->kept) * solution->factor;
    MatrixXd scores = MatrixXd::Zero(level.count, k);
    std::vector<char> counted(static_cast<std::size_t>(level.count), 0);
    for (std::size_t i = 0; i < rows.size(); ++i) {
        const std::int32_t g = level.of[static_cast<std::size_t>(rows[i])];
        counted[static_cast<std::size_t>(g)] = 1;
        scores.row(g) += Q.row(static_cast<Index>(i)) * solution->residuals(static_cast<Index>(i));
    }
    const auto G = static_cast<double>(std::count(counted.begin(), counted.end(), 1));
    const double total = (squares.y.array() - squares.y.mean()).square().sum();
    if (k < 2 || G < static_cast<double>(k) + 1.0 || !(total > 0.0)) {
        return notApplicable("There are too few groups to tell whether their rows’ spread moves.");
    }
    const MatrixXd V = solution->factor * (scores.transpose() * scores) *
                       solution->factor.transpose() * (G / (G - 1.0));
    const auto f = waldF(solution->coefficients.tail(k - 1), V.bottomRightCorner(k - 1, k - 1));
    if (!f) {
        return notApplicable("There are too few groups to tell whether their rows’ spread moves.");
    }
    CheckResult result;
    const double q = static_cast<double>(k) - 1.0;
    const double share = 1.0 - solution->residuals.squaredNorm() / total;
    result.statistic = *f;
    result.statisticName = "F";
    result.distribution = "F";
    result.df = {q, G - 1.0};
    result.p = fTail(*f, q, G - 1.0);
    result.headline = pClause(*result.p);
    result.details = {{"auxiliary R²", share}};
    constexpr double kNegligible = 0.02;
    constexpr double kLarge = 0.1;
    result.verdict = judge(*result.p, in.alpha, share, kNegligible, kLarge);
    result.reading =
        *result.p >= in.alpha
            ? "There is no sign that rows of a group scatter more at some values of the terms (" +
                  pClause(*result.p) + ")."
        : result.verdict == Verdict::Fine
            ? "Rows of a group scatter somewhat more at some values of the terms (" +
                  pClause(*result.p) +
                  "), but too little to matter: " + shortNumber(100.0 * share, 2) +
                  " % of their squares go with the terms."
            : "Rows of a group scatter more at some values of the terms (" + pClause(*result.p) +
                  "), and the likelihood takes them as scattered alike: errors can be too small. "
                  "Log the outcome, or ask with errors clustered by the groups, which need no such "
                  "assumption.";
    result.exhibit = residualExhibit(in);
    result.exhibit.title = *result.p < in.alpha ? "Rows scatter more at some values of the terms"
                                                : "Rows scatter alike along the terms";
    if (isDoubt(result.verdict)) {
        offerLogOutcome(in, result);
        offerOtherViews(in, result);
    }
    return result;
}

// Brown & Forsythe (1974), JASA 69.
CheckResult checkGroupsSpread(const CheckInput& in) {
    if (auto none = hasNoSpread(in)) {
        return *none;
    }
    const DesignLevel& level = in.design.levels.front();
    const auto groups = rowsOfGroups(level);
    const auto spreads = spreadsOf(withinGroups(in, groups), groups);
    if (spreads.size() < 2) {
        return notApplicable("Fewer than two groups have five rows and more.");
    }
    double n = 0.0;
    double mean = 0.0;
    for (const GroupSpread& one : spreads) {
        n += one.rows;
        mean += one.rows * one.deviations;
    }
    mean /= n;
    double between = 0.0;
    double within = 0.0;
    for (const GroupSpread& one : spreads) {
        between += one.rows * (one.deviations - mean) * (one.deviations - mean);
        within += one.squares;
    }
    const auto G = static_cast<double>(spreads.size());
    if (!(within > 0.0)) {
        return notApplicable("All rows stand equally far from their group’s middle.");
    }
    CheckResult result;
    result.statistic = between / (G - 1.0) / (within / (n - G));
    result.statisticName = "F";
    result.distribution = "F";
    result.df = {G - 1.0, n - G};
    result.p = fTail(*result.statistic, G - 1.0, n - G);
    result.headline = pClause(*result.p);
    std::vector<double> sds;
    for (const GroupSpread& one : spreads) {
        sds.push_back(one.sd);
    }
    std::sort(sds.begin(), sds.end());
    const auto tenth = static_cast<std::size_t>(0.1 * (G - 1.0));
    const double least = sds[tenth];
    const double most = sds[sds.size() - 1 - tenth];
    result.details = {{"groups", G}, {"narrow", least}, {"wide", most}};
    constexpr double kFar = 2.0;
    const bool differs = *result.p < in.alpha;
    result.verdict = differs && most > kFar * least ? Verdict::Weigh : Verdict::Fine;
    const std::string ends = "from " + shortNumber(least) +
                             " in the narrowest tenth of groups to " + shortNumber(most) +
                             " in the widest";
    result.reading =
        !differs ? "There is no sign that rows scatter more in some groups of " + level.name +
                       " than in others (" + pClause(*result.p) + ")."
        : result.verdict == Verdict::Fine
            ? "Rows scatter more in some groups of " + level.name + " (" + pClause(*result.p) +
                  "), but not by much: " + ends + "."
            : "Rows scatter more in some groups of " + level.name + " than in others (" +
                  pClause(*result.p) + "): " + ends +
                  ". The likelihood gives every group’s rows one spread, so that noisy groups "
                  "count for too much: log the outcome, or ask with errors clustered by the "
                  "groups.";
    result.exhibit = spreadsExhibit(in, spreads, groups);
    result.exhibit.title =
        differs ? "Rows scatter more in some groups" : "Rows scatter alike in all groups";
    if (isDoubt(result.verdict)) {
        offerLogOutcome(in, result);
        offerOtherViews(in, result);
    }
    return result;
}

// Jarque & Bera (1980), Economics Letters 6.
CheckResult checkRowsNormal(const CheckInput& in) {
    if (in.fit.levels->family != nullptr) {
        return notApplicable("Rows of such an outcome are not normal, and are not taken to be.");
    }
    const VectorXd e = scaledResiduals(in);
    const Moments m = moments(e);
    const auto n = static_cast<double>(e.size());
    const double tails = m.kurtosis - 3.0;
    CheckResult result;
    result.statistic = n / 6.0 * (m.skewness * m.skewness + tails * tails / 4.0);
    result.statisticName = "Jarque–Bera";
    result.distribution = "chi2";
    result.df = {2.0};
    result.p = chiSquareTail(*result.statistic, 2.0);
    result.headline = pClause(*result.p);
    result.details = {{"skewness", m.skewness}, {"kurtosis", m.kurtosis}};
    result.verdict =
        judge(*result.p, in.alpha, std::max(std::abs(m.skewness), std::abs(tails) / 2.0), 0.2, 1.0);
    if (isDoubt(result.verdict) && manyRows(in.fit.n, m.skewness)) {
        result.verdict = Verdict::Noted;
    }
    const std::string shape = "skewness " + fixedNumber(m.skewness, 2) + ", kurtosis " +
                              fixedNumber(m.kurtosis, 2) + ", normal 0 and 3";
    result.reading =
        *result.p >= in.alpha
            ? "There is no sign that rows depart from a normal law within their groups (" +
                  pClause(*result.p) + ")."
        : result.verdict == Verdict::Fine
            ? "A departure of rows from the normal law is detectable (" + pClause(*result.p) +
                  ") but small: " + shape + "."
        : result.verdict == Verdict::Noted
            ? "Rows are not normal within their groups (" + pClause(*result.p) + "; " + shape +
                  "). With " + countText(static_cast<std::size_t>(n)) +
                  " rows the effects’ intervals hardly depend on this; intervals for single rows "
                  "do."
            : "Rows are not normal within their groups (" + pClause(*result.p) + "; " + shape +
                  "). With " + countText(static_cast<std::size_t>(n)) +
                  " rows intervals depend on this: log the outcome, or look at the rows far out.";
    std::vector<Index> order(static_cast<std::size_t>(e.size()));
    std::iota(order.begin(), order.end(), Index{0});
    std::sort(order.begin(), order.end(), [&](Index a, Index b) { return e(a) < e(b); });
    const double sd = std::sqrt(e.squaredNorm() / n);
    result.exhibit.title = result.verdict == Verdict::Fine
                               ? "Rows follow the normal line within their groups"
                               : "The tails part from the normal line";
    result.exhibit.subtitle =
        "ordered residuals within groups against where a normal law would put them · n = " +
        countText(order.size());
    result.exhibit.xTitle = "normal quantile";
    result.exhibit.yTitle = "residual within the group, in standard deviations";
    for (std::size_t i = 0; i < order.size(); ++i) {
        result.exhibit.x.push_back(normalQuantile((static_cast<double>(i) + 0.625) / (n + 0.25)));
        result.exhibit.y.push_back(sd > 0.0 ? e(order[i]) / sd : 0.0);
        result.exhibit.rows.push_back(in.design.rows[static_cast<std::size_t>(order[i])]);
    }
    result.exhibit.lines = {{"normal",
                             {result.exhibit.x.front(), result.exhibit.x.back()},
                             {result.exhibit.x.front(), result.exhibit.x.back()},
                             false}};
    if (isDoubt(result.verdict)) {
        offerLogOutcome(in, result);
    }
    return result;
}

}  // namespace rapporto
