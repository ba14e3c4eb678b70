#include "core/left/left_checks.h"

#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/checks/told.h"
#include "core/numerics/distributions.h"

#include <fmt/format.h>

#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// Share of a spread under which a column counts as told by others: rounding of the products.
constexpr double kTold = 1e-11;
/// Columns of an auxiliary regression, whose products are asked for pair by pair.
constexpr std::size_t kMostColumns = 70;

/// `outcome` on a constant and columns, by sums.
Result<Auxiliary> auxiliaryLeft(LeftRows& rows, std::vector<std::string> columns,
                                const std::string& outcome, const std::string& from, double n,
                                const Job& job) {
    columns.push_back(outcome);
    // All of them lie about zero, or are of size one.
    const VectorXd near = VectorXd::Zero(static_cast<Index>(columns.size()));
    const auto moments = leftMoments(rows, columns, near, "1", from, true);
    if (!moments) {
        return tl::make_unexpected(moments.error());
    }
    const auto p = static_cast<Index>(columns.size());
    const MatrixXd made = standInRows(*moments, p + 1, VectorXd::Constant(p, kTold));
    auto found = auxiliary(MatrixXd(made.leftCols(p - 1)), VectorXd(made.col(p - 1)), job);
    if (found) {
        found->explained *= n / static_cast<double>(p + 1);
        found->rss *= n / static_cast<double>(p + 1);
    }
    return found;
}

std::string spreadErrors(const CheckInput& in) {
    return in.question.errors.allowUnevenSpread()
               ? ""
               : " Classical standard errors, intervals and p are not to be trusted.";
}

/// Errors that allow for an uneven spread and need no row’s leverage.
void offerUneven(const CheckInput& in, CheckResult& result) {
    if (in.question.errors.kind == "classical") {
        Question variant = variantBase(in, "with robust errors");
        variant.errors = ErrorSpec{};
        variant.errors.kind = "robust";
        result.remedies.push_back(
            {"Robust errors (HC1)",
             "the same estimates with standard errors that allow an uneven spread", variant});
    }
}

CheckResult spreadTold(const CheckInput& in, CheckResult result, double share,
                       const std::string& what) {
    const double p = *result.p;
    result.verdict = judge(p, in.alpha, 1.0 + 5.0 * share, 1.15, 1.5);
    result.headline = pClause(p);
    result.reading =
        p >= in.alpha ? "There is no sign that the spread of the errors changes with " + what +
                            " (" + pClause(p) + ")."
        : result.verdict == Verdict::Fine
            ? "A change of spread with " + what + " is detectable (" + pClause(p) + ") but small."
            : "The spread of the errors changes with " + what + " (" + pClause(p) + ")." +
                  spreadErrors(in);
    if (result.verdict != Verdict::Fine) {
        offerUneven(in, result);
    }
    return result;
}

std::string sizedSquare(const LeftRests& rests, const CheckInput& in) {
    // e² over its mean: of size one whatever the outcome's unit.
    return "(e * e * " + sqlNumber(rests.rows / in.fit.statistics.rss) + ")";
}

/// n·R² of the squared residuals on columns; its details are left to the test.
Result<std::pair<CheckResult, Auxiliary>> squaresOn(LeftRows& rows, const LeftRests& rests,
                                                    const CheckInput& in, const std::string& name,
                                                    const std::vector<std::string>& columns) {
    const auto aux =
        auxiliaryLeft(rows, columns, sizedSquare(rests, in), rests.from, rests.rows, in.job);
    if (!aux) {
        return tl::make_unexpected(aux.error());
    }
    CheckResult out;
    if (!aux->varies || aux->columns < 1.0) {
        out = notApplicable("All residuals are of one size: there is nothing to tell.");
    } else {
        out.statistic = rests.rows * aux->rSquared;
        out.statisticName = name + " n·R²";
        out.df = {aux->columns};
        out.distribution = "chi2";
        out.p = chiSquareTail(*out.statistic, aux->columns);
        out.details = {{"auxiliary R²", aux->rSquared}};
    }
    return std::pair(std::move(out), *aux);
}

Result<CheckResult> breuschPagan(LeftRows& rows, const LeftRests& rests, const CheckInput& in) {
    auto found = squaresOn(rows, rests, in, "Breusch–Pagan", rests.terms);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    auto& [out, aux] = *found;
    if (!out.p) {
        return out;
    }
    const double original = aux.explained / 2.0;
    out.details.emplace_back("original statistic", original);
    out.details.emplace_back("original p", chiSquareTail(original, aux.columns));
    return spreadTold(in, std::move(out), aux.rSquared, "the terms");
}

Result<CheckResult> white(LeftRows& rows, const LeftRests& rests, const CheckInput& in) {
    std::vector<std::string> columns = rests.terms;
    const std::size_t m = columns.size();
    const std::size_t all = m * (m + 3) / 2;
    const bool few = all <= kMostColumns && static_cast<double>(all) < rests.rows / 5.0;
    const bool cross = in.options.cross.value_or(few) && all <= kMostColumns;
    for (std::size_t i = 0; i < m; ++i) {
        for (std::size_t j = i; j < (cross ? m : i + 1); ++j) {
            columns.push_back("(" + rests.terms[i] + " * " + rests.terms[j] + ")");
        }
    }
    auto found = squaresOn(rows, rests, in, "White", columns);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    auto& [out, aux] = *found;
    if (!out.p) {
        return out;
    }
    out.details.emplace_back("with cross products", cross ? 1.0 : 0.0);
    return spreadTold(
        in, std::move(out), aux.rSquared,
        cross ? "the terms, their squares and products" : "the terms and their squares");
}

Result<CheckResult> reset(LeftRows& rows, const LeftRests& rests, const CheckInput& in) {
    if (rests.terms.empty()) {
        return notApplicable("The fit is a constant: it has no shape to ask about.");
    }
    const auto size =
        rows.sumsOfRows({"sum(" + rests.fitted + " * " + rests.fitted + ")"}, rests.from);
    if (!size) {
        return tl::make_unexpected(size.error());
    }
    if (!(size->front() > 0.0)) {
        return notApplicable("The fit is a constant: it has no shape to ask about.");
    }
    const std::string base =
        "(" + rests.fitted + " * " + sqlNumber(std::sqrt(rests.rows / size->front())) + ")";
    std::vector<std::string> columns = rests.terms;
    columns.push_back("(" + base + " * " + base + ")");
    columns.push_back("(" + base + " * " + base + " * " + base + ")");
    const auto aux = auxiliaryLeft(rows, columns, "e", rests.from, rests.rows, in.job);
    if (!aux) {
        return tl::make_unexpected(aux.error());
    }
    const double rss = in.fit.statistics.rss;
    const double added = aux->columns - static_cast<double>(rests.terms.size());
    const double df2 = in.fit.dfResidual - added;
    if (added < 1.0 || df2 < 1.0 || aux->rss <= 0.0) {
        return notApplicable(
            added < 1.0
                ? "With indicators alone the fit can take any shape: its powers add nothing."
                : "There are too few rows for powers of the fit.");
    }
    CheckResult out;
    out.statistic = std::max((rss - aux->rss) / added / (aux->rss / df2), 0.0);
    out.statisticName = "RESET F";
    out.df = {added, df2};
    out.distribution = "F";
    out.p = fTail(*out.statistic, added, df2);
    const double share = (rss - aux->rss) / rss;
    out.details = {{"share of residual variance", share}};
    out.verdict = judge(*out.p, in.alpha, share, 0.002, 0.02);
    out.headline = pClause(*out.p);
    const std::string part =
        fixedNumber(100.0 * share, 1) + " % of what the model leaves unexplained";
    out.reading =
        *out.p >= in.alpha
            ? "Powers of the fitted value add nothing that chance would not (" + pClause(*out.p) +
                  "). This gives no sign of a wrong shape; it does not prove the right one."
        : out.verdict == Verdict::Fine
            ? "Powers of the fitted value are detectable (" + pClause(*out.p) +
                  ") but explain only " + part + "."
            : "Powers of the fitted value explain " + part + " (" + pClause(*out.p) +
                  "): the straight-line shape misses something. Look for a term that bends, a "
                  "missing product, or another scale of the outcome.";
    if (out.verdict != Verdict::Fine) {
        offerLogOutcome(in, out);
    }
    return out;
}

Result<CheckResult> jarqueBera(LeftRows& rows, const LeftRests& rests, const CheckInput& in) {
    const auto first = rows.sumsOfRows({"sum(e)"}, rests.from);
    if (!first) {
        return tl::make_unexpected(first.error());
    }
    const std::string d = "(e - " + sqlNumber(first->front() / rests.rows) + ")";
    const auto found = rows.sumsOfRows({"sum(d * d)", "sum(d * d * d)", "sum(d * d * d * d)"},
                                       workedOut(d + " as d", rests.from, "about_mean"));
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    const double variance = (*found)[0] / rests.rows;
    const double skewness = (*found)[1] / rests.rows / std::pow(variance, 1.5);
    const double kurtosis = (*found)[2] / rests.rows / (variance * variance);
    CheckResult out;
    out.statistic =
        rests.rows / 6.0 * (skewness * skewness + (kurtosis - 3.0) * (kurtosis - 3.0) / 4.0);
    out.statisticName = "Jarque–Bera";
    out.df = {2.0};
    out.distribution = "chi2";
    out.p = chiSquareTail(*out.statistic, 2.0);
    out.details = {{"skewness", skewness}, {"kurtosis", kurtosis}};
    tellNormality(in, {skewness, kurtosis}, out);
    if (out.verdict != Verdict::Fine) {
        offerLogOutcome(in, out);
    }
    return out;
}

/// The column that the rows are cut by, or a sentence why there is none.
tl::expected<const LeftRests::Beside*, std::string> besideFor(const LeftRests& rests,
                                                              const std::string& by) {
    for (const LeftRests::Beside& one : rests.beside) {
        if (one.part.name == by) {
            return &one;
        }
    }
    return tl::make_unexpected("There is no variable ‘" + by + "’.");
}

Result<CheckResult> intraclass(LeftRows& rows, const LeftRests& rests, const CheckInput& in) {
    const std::string by = clustersBy(in);
    if (by.empty()) {
        return notApplicable(
            "No clusters are named: not by the errors, not by the layout, not for this check.");
    }
    const auto beside = besideFor(rests, by);
    if (!beside) {
        return notApplicable(beside.error());
    }
    const std::string& column = (*beside)->column;
    const auto found = rows.sumsByGroup(
        column, {"count(e)", "sum(e)", "sum(e * e)"},
        "(select * from " + rests.from + " where " + column + " is not null) clustered");
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    if (found->groups.size() < 2) {
        return notApplicable("‘" + by + "’ has a single level in these rows.");
    }
    ClusterSums all{by, {}, {}};
    for (Index g = 0; g < found->sums.rows(); ++g) {
        const double n = found->sums(g, 0);
        const double sum = found->sums(g, 1);
        all.counts.push_back(n);
        all.sums.push_back(sum);
        all.within += std::max(found->sums(g, 2) - sum * sum / n, 0.0);
    }
    return intraclassOf(in, all);
}

/// Least squares of the rows that these sums are of: n, Σ d and Σ d d' of terms and outcome.
PartFits::One fitOfSums(const std::string& label, const VectorXd& sums, Index p, const Job& job) {
    PartFits::One out{label, sums(0)};
    LeftMoments moments = momentsAbout(sums.data(), VectorXd::Zero(p));
    for (Index j = 0; j < p; ++j) {
        // What does not vary in a part has rounding for a spread.
        constexpr double kRounding = 1e-12;
        if (moments.spread(j, j) <= kRounding * moments.mean(j) * moments.mean(j)) {
            moments.spread.row(j).setZero();
            moments.spread.col(j).setZero();
        }
    }
    const MatrixXd made = standInRows(moments, p + 1, VectorXd::Constant(p, kTold));
    const auto fit = auxiliary(MatrixXd(made.leftCols(p - 1)), VectorXd(made.col(p - 1)), job);
    out.solved = fit.has_value() && out.rows > static_cast<double>(p);
    if (out.solved) {
        out.columns = fit->columns + 1.0;
        out.rss = fit->rss * out.rows / static_cast<double>(p + 1);
    }
    return out;
}

Result<CheckResult> chow(LeftRows& rows, const LeftRests& rests, const CheckInput& in) {
    const std::string by = partsBy(in);
    if (by.empty()) {
        return notApplicable("Name the groups to compare, or the moment of a break.");
    }
    const auto beside = besideFor(rests, by);
    if (!beside) {
        return notApplicable(beside.error());
    }
    std::vector<std::string> columns = rests.terms;
    columns.push_back(rests.outcome);
    const auto p = static_cast<Index>(columns.size());
    if (columns.size() > kMostColumns) {
        return notApplicable("There are too many terms for a model of each part by sums.");
    }
    std::string named;
    std::vector<std::string> sums = {"count(*)"};
    for (Index i = 0; i < p; ++i) {
        named += fmt::format("{} as d{}, ", columns[static_cast<std::size_t>(i)], i);
        sums.push_back(fmt::format("sum(d{})", i));
    }
    for (Index i = 0; i < p; ++i) {
        for (Index j = 0; j <= i; ++j) {
            sums.push_back(fmt::format("sum(d{} * d{})", i, j));
        }
    }
    const std::string& column = (*beside)->column;
    const auto found = rows.sumsByGroup(
        "part", sums,
        "(select * from " + workedOut(named + column + " as part", rests.from, "cut") +
            " where part is not null) parts");
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    if (found->groups.size() < 2) {
        return notApplicable("‘" + by + "’ has a single level in these rows.");
    }
    const std::vector<std::optional<std::string>> cells(found->groups.begin(), found->groups.end());
    const LeftPart& part = (*beside)->part;
    const bool text = part.value.type == SqlValue::Type::Text;
    const Column levels = columnOfCells(part.name, cells, text);
    PartFits fits{fitOfSums({}, found->sums.colwise().sum().transpose(), p, in.job), {}};
    for (const FoundLevel& level : levelsOf(levels, part.variable)) {
        for (Index g = 0; g < found->sums.rows(); ++g) {
            const auto at = static_cast<std::size_t>(g);
            if ((text ? levels.codes()[at] : levels.numbers()[at]) == level.code) {
                fits.parts.push_back(
                    fitOfSums(level.label, found->sums.row(g).transpose(), p, in.job));
            }
        }
    }
    return chowOf(in, fits);
}

}  // namespace

std::optional<CheckResult> checkBySums(LeftRows& rows, const LeftRests& rests,
                                       const CheckInput& in) {
    const std::string& id = in.options.id;
    const bool ofGroups = !in.options.atRow && in.options.at.empty() && in.design.hasConstant;
    const bool asUsual = in.options.powers.empty() && in.design.hasConstant;
    auto found = id == "breusch-pagan"      ? std::optional(breuschPagan(rows, rests, in))
                 : id == "white"            ? std::optional(white(rows, rests, in))
                 : id == "reset" && asUsual ? std::optional(reset(rows, rests, in))
                 : id == "jarque-bera"      ? std::optional(jarqueBera(rows, rests, in))
                 : id == "intraclass"       ? std::optional(intraclass(rows, rests, in))
                 : id == "chow" && ofGroups ? std::optional(chow(rows, rests, in))
                                            : std::nullopt;
    if (!found) {
        return std::nullopt;
    }
    const bool none = rests.terms.empty() && (id == "breusch-pagan" || id == "white");
    CheckResult out = none ? notApplicable("There is no term that the spread could change with.")
                      : *found ? **std::move(found)
                               : notApplicable(found->error().text());
    out.id = id;
    markAllowedFor(in, out);
    return out;
}

}  // namespace rapporto
