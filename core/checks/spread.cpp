// Is the spread even? Breusch–Pagan in Koenker's form, and White.
#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/describe/smooth.h"
#include "core/numerics/distributions.h"
#include "core/numerics/ordering.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// Root mean square of the residuals in the top over the bottom fifth of fitted values.
double spreadRatio(const CheckInput& in, const VectorXd& e) {
    std::vector<double> order(in.fit.fitted.begin(), in.fit.fitted.end());
    sortValues(order);
    const std::size_t fifth = std::max<std::size_t>(order.size() / 5, 1);
    // The rows of one fitted value stand together, on either side.
    const double low = order[fifth - 1];
    const double high = order[order.size() - fifth];
    const double blur = 1e-12 * in.fit.fitted.cwiseAbs().maxCoeff();
    double bottom = 0.0;
    double top = 0.0;
    double below = 0.0;
    double above = 0.0;
    for (Index i = 0; i < e.size(); ++i) {
        if (in.fit.fitted(i) <= low + blur) {
            bottom += e(i) * e(i);
            below += 1.0;
        }
        if (in.fit.fitted(i) >= high - blur) {
            top += e(i) * e(i);
            above += 1.0;
        }
    }
    return bottom > 0.0 ? std::sqrt(top / above / (bottom / below)) : 1.0;
}

/// How wide what is left spreads along the fit: what all tests of an even spread tell and draw.
struct SpreadAlongFit {
    double ratio = 1.0;  ///< See spreadRatio.
    Exhibit exhibit;     ///< Without a title.
};

SpreadAlongFit spreadAlongFit(const CheckInput& in, const VectorXd& e) {
    SpreadAlongFit out{spreadRatio(in, e), residualExhibit(in)};
    std::vector<double> size(out.exhibit.y.size());
    std::transform(out.exhibit.y.begin(), out.exhibit.y.end(), size.begin(),
                   [](double x) { return std::abs(x); });
    Exhibit::Line upper = localLine(out.exhibit.x, size, 0.6, "local spread");
    upper.series = 1;  // Both of one colour, and another than a smooth through the middle.
    Exhibit::Line lower = upper;
    for (double& v : upper.y) {
        v = std::abs(v) * 1.2533;  // mean |e| to sd under normality
    }
    for (std::size_t i = 0; i < lower.y.size(); ++i) {
        lower.y[i] = -upper.y[i];
    }
    lower.name.clear();
    out.exhibit.lines = {upper, lower};
    return out;
}

/// Reading, exhibit and remedies, the same for all of these tests.
void describe(const CheckInput& in, CheckResult& result, const VectorXd& e,
              const std::string& what) {
    const auto along = onceFor<SpreadAlongFit>(in, [&] { return spreadAlongFit(in, e); });
    const double ratio = along->ratio;
    const double size = std::max(ratio, 1.0 / ratio);
    const double p = *result.p;
    result.verdict = judge(
        p, in.alpha, std::max(size, 1.0 + 0.5 * result.details.front().second * 10.0), 1.15, 1.5);
    result.headline = pClause(p);
    result.details.emplace_back("spread, top to bottom fifth", ratio);
    const std::string errors =
        std::string("The estimates still aim at the right place") +
        (in.question.errors.allowUnevenSpread()
             ? "."
             : ", but classical standard errors, intervals and p are not to be trusted.");
    if (p >= in.alpha) {
        result.reading = "There is no sign that the spread of the errors changes with " + what +
                         " (" + pClause(p) + ").";
    } else if (result.verdict == Verdict::Fine) {
        result.reading = "A change of spread is detectable (" + pClause(p) +
                         ") but small: between the lowest and the highest fifth of fitted values "
                         "it differs by a factor of " +
                         fixedNumber(size, 2) + ".";
    } else {
        const std::string where = ratio >= 1.0 ? "high" : "low";
        result.reading =
            (size >= 1.15 ? "The spread of the errors is not even: it is " + fixedNumber(size, 1) +
                                " times as wide where the fitted value is " + where +
                                " as at the other end. "
                          : "The spread of the errors changes with the terms, though not simply "
                            "with the fitted value. ") +
            errors;
    }
    result.exhibit = along->exhibit;
    result.exhibit.title = result.verdict == Verdict::Fine ? "The spread stays about the same"
                           : size < 1.15                   ? "The spread changes with the terms"
                           : ratio > 1.0                   ? "Residuals fan out as the fit grows"
                                                           : "Residuals close up as the fit grows";
    if (result.verdict != Verdict::Fine) {
        offerRobust(in, result);
        offerCluster(in, result);
        offerLogOutcome(in, result);
    }
}

}  // namespace

// Breusch & Pagan (1979), Econometrica 47; the n·R² form: Koenker (1981), J. Econometrics 17.
CheckResult checkBreuschPagan(const CheckInput& in) {
    const auto all = regressors(in);
    const MatrixXd& Z = all->Z;
    if (Z.cols() == 0 || in.fit.statistics.rss <= 0.0) {
        return notApplicable("There is no term that the spread could change with.");
    }
    const VectorXd e = scaledResiduals(in);
    const double n = static_cast<double>(e.size());
    const VectorXd g = e.cwiseAbs2() / (e.squaredNorm() / n);
    const auto aux = auxiliary(Z, g, in.job);
    if (!aux) {
        return notApplicable("The work was stopped.");
    }
    if (!aux->varies || aux->columns < 1.0) {
        return notApplicable("All residuals are of one size: there is nothing to tell.");
    }
    CheckResult result;
    result.statistic = n * aux->rSquared;
    result.statisticName = "Breusch–Pagan n·R²";
    result.df = {aux->columns};
    result.distribution = "chi2";
    result.p = chiSquareTail(*result.statistic, aux->columns);
    const double original = aux->explained / 2.0;
    result.details = {{"auxiliary R²", aux->rSquared},
                      {"original statistic", original},
                      {"original p", chiSquareTail(original, aux->columns)}};
    describe(in, result, e, "the terms");
    return result;
}

constexpr double kMostWork = 4e9;  // Products of numbers: about a second.

// White (1980), Econometrica 48, 817–838.
CheckResult checkWhite(const CheckInput& in) {
    const auto all = regressors(in);
    const MatrixXd& Z = all->Z;
    if (Z.cols() == 0 || in.fit.statistics.rss <= 0.0) {
        return notApplicable("There is no term that the spread could change with.");
    }
    const Index m = Z.cols();
    const double n = static_cast<double>(Z.rows());
    // With cross products while they number under n/5 and the work stays near that of the fit.
    const double most = static_cast<double>(m * (m + 3)) / 2.0;
    const bool few = most < n / 5.0;
    const bool cross = in.options.cross.value_or(few && n * most * most <= kMostWork);
    std::vector<std::pair<Index, Index>> products;
    for (Index i = 0; i < m; ++i) {
        // The square of an indicator is itself.
        if ((Z.col(i).array() * (Z.col(i).array() - 1.0) != 0.0).any()) {
            products.emplace_back(i, i);
        }
        for (Index j = i + 1; cross && j < m; ++j) {
            products.emplace_back(i, j);
        }
    }
    const VectorXd e = scaledResiduals(in);
    const VectorXd g = e.cwiseAbs2() / (e.squaredNorm() / n);
    const auto aux = auxiliary(Z, products, g, in.job);
    if (!aux) {
        return notApplicable("The work was stopped.");
    }
    if (!aux->varies || aux->columns < 1.0) {
        return notApplicable("All residuals are of one size: there is nothing to tell.");
    }
    if (aux->columns >= n - 1.0) {
        return notApplicable("There are too few rows for squares of the terms.");
    }
    CheckResult result;
    result.statistic = n * aux->rSquared;
    result.statisticName = "White n·R²";
    result.df = {aux->columns};
    result.distribution = "chi2";
    result.p = chiSquareTail(*result.statistic, aux->columns);
    result.details = {{"auxiliary R²", aux->rSquared}, {"with cross products", cross ? 1.0 : 0.0}};
    if (cross && m > 1) {
        std::vector<std::pair<Index, Index>> squares;
        for (Index i = 0; i < m; ++i) {
            squares.emplace_back(i, i);
        }
        if (const auto plain = auxiliary(Z, squares, g, in.job)) {
            result.details.emplace_back("without products n·R²", n * plain->rSquared);
            result.details.emplace_back("without products df", plain->columns);
            result.details.emplace_back("without products p",
                                        chiSquareTail(n * plain->rSquared, plain->columns));
        }
    }
    describe(
        in, result, e,
        cross ? "the terms, their squares and products"
        : few ? "the terms and their squares (products would take many times the work of the fit; "
                "‘cross’ asks for them)"
              : "the terms and their squares");
    return result;
}

// Harvey (1976), Econometrica 44, 461–465.
CheckResult checkHarvey(const CheckInput& in) {
    const auto all = regressors(in);
    const MatrixXd& Z = all->Z;
    const VectorXd e = scaledResiduals(in);
    if (Z.cols() == 0 || in.fit.statistics.rss <= 0.0 ||
        e.cwiseAbs().minCoeff() <=
            8.0 * std::numeric_limits<double>::epsilon() * in.fit.fitted.cwiseAbs().maxCoeff()) {
        return notApplicable(Z.cols() == 0 ? "There is no term that the spread could change with."
                                           : "A residual is zero and has no logarithm.");
    }
    const auto aux = auxiliary(Z, VectorXd(e.array().square().log()), in.job);
    if (!aux) {
        return notApplicable("The work was stopped.");
    }
    if (!aux->varies || aux->columns < 1.0) {
        return notApplicable("All residuals are of one size: there is nothing to tell.");
    }
    CheckResult result;
    const double n = static_cast<double>(e.size());
    result.statistic = n * aux->rSquared;
    result.statisticName = "Harvey n·R²";
    result.df = {aux->columns};
    result.distribution = "chi2";
    result.p = chiSquareTail(*result.statistic, aux->columns);
    // The logarithm of a chi-square with one degree of freedom has variance π²/2.
    const double original = aux->explained / (0.5 * std::numbers::pi * std::numbers::pi);
    result.details = {{"auxiliary R²", aux->rSquared},
                      {"original statistic", original},
                      {"original p", chiSquareTail(original, aux->columns)}};
    describe(in, result, e, "the terms, by factors");
    return result;
}

// Glejser (1969), Journal of the American Statistical Association 64, 316–323.
CheckResult checkGlejser(const CheckInput& in) {
    const auto all = regressors(in);
    const MatrixXd& Z = all->Z;
    if (Z.cols() == 0 || in.fit.statistics.rss <= 0.0) {
        return notApplicable("There is no term that the spread could change with.");
    }
    const VectorXd e = scaledResiduals(in);
    const auto aux = auxiliary(Z, VectorXd(e.cwiseAbs()), in.job);
    if (!aux) {
        return notApplicable("The work was stopped.");
    }
    if (!aux->varies || aux->columns < 1.0) {
        return notApplicable("All residuals are of one size: there is nothing to tell.");
    }
    CheckResult result;
    const double n = static_cast<double>(e.size());
    result.statistic = n * aux->rSquared;
    result.statisticName = "Glejser n·R²";
    result.df = {aux->columns};
    result.distribution = "chi2";
    result.p = chiSquareTail(*result.statistic, aux->columns);
    const double df2 = n - aux->columns - 1.0;
    const double f = aux->explained / aux->columns / (aux->rss / df2);
    result.details = {{"auxiliary R²", aux->rSquared},
                      {"F", f},
                      {"F df2", df2},
                      {"F p", fTail(f, aux->columns, df2)}};
    describe(in, result, e, "the terms");
    return result;
}

}  // namespace rapporto
