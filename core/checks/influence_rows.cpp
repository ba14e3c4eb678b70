// Do a few rows decide each effect, each fitted value, the precision?
#include "core/base/format.h"
#include "core/base/parallel.h"
#include "core/checks/common.h"
#include "core/numerics/sparse_factor.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// s₍ᵢ₎ of each row: the spread that the other rows have.
VectorXd spreadWithout(const CheckInput& in, const VectorXd& e) {
    const double rss = e.squaredNorm();
    VectorXd s(e.size());
    for (Index i = 0; i < e.size(); ++i) {
        const double left = 1.0 - in.fit.leverage(i);
        s(i) = left > 1e-12
                   ? std::sqrt(std::max(rss - e(i) * e(i) / left, 0.0) / (in.fit.dfResidual - 1.0))
                   : 0.0;
    }
    return s;
}

/// A value of each row against its place in the data.
Exhibit indexExhibit(const CheckInput& in, const VectorXd& values, const std::string& name,
                     double mark) {
    Exhibit e;
    e.subtitle = name + " of each row · n = " + countText(in.design.rows.size());
    e.xTitle = "row";
    e.yTitle = name;
    e.zeroLine = true;
    for (Index i = 0; i < values.size(); ++i) {
        e.x.push_back(static_cast<double>(in.design.rows[static_cast<std::size_t>(i)]) + 1.0);
        e.y.push_back(values(i));
    }
    e.rows = in.design.rows;
    const double from = e.x.front();
    const double to = e.x.back();
    e.lines = {{"mark for a look", {from, to}, {mark, mark}, true},
               {"", {from, to}, {-mark, -mark}, true}};
    return e;
}

/// The effects that a row could decide. Of a grouping of a hundred levels and more each level rests
/// on its few rows and is told by any of them; so does the constant, which is that of its base.
std::vector<Index> effectsOfManyRows(const CheckInput& in) {
    constexpr std::size_t kMany = 100;
    const auto isLarge = [](const DesignTerm& term) {
        return term.groups && term.columns.size() >= kMany;
    };
    const auto& terms = in.design.terms;
    const bool any = std::any_of(terms.begin(), terms.end(), isLarge);
    std::vector<Index> out;
    for (std::size_t j = 0; j < in.fit.coefficients.size(); ++j) {
        const int t = in.fit.coefficients[j].designTerm;
        if (t < 0 ? !any : !isLarge(terms[static_cast<std::size_t>(t)])) {
            out.push_back(static_cast<Index>(j));
        }
    }
    return out;
}

/// (b − b₍ᵢ₎)_j/(s₍ᵢ₎ √c_jj) of each row, for the effects whose rows of the factor are given.
MatrixXd changesWithout(const CheckInput& in, const VectorXd& e, const VectorXd& s,
                        const MatrixXd& F) {
    const MatrixXd& X = in.design.X;
    VectorXd scale(X.rows());
    for (Index i = 0; i < scale.size(); ++i) {
        const double left = 1.0 - in.fit.leverage(i);
        scale(i) = left > 1e-12 && s(i) > 0.0 ? e(i) / (left * s(i)) : 0.0;
    }
    if (in.design.weights.size() > 0) {
        scale.array() *= in.design.weights.array().sqrt();
    }
    const MatrixXd turned = F.transpose() * F.rowwise().norm().cwiseInverse().asDiagonal();
    const SparseFactor factor(in.fit.solution.factor);
    MatrixXd out(X.rows(), F.rows());
    // Block by block: of all rows at once the columns would pass through memory five times.
    constexpr std::size_t kBlock = 2048;
    const RowChunks chunks(static_cast<std::size_t>(X.rows()));
    chunks.forEach([&](std::size_t c) {
        const RowRange all = chunks[c];
        for (std::size_t from = all.begin; from < all.end; from += kBlock) {
            const auto rows = Eigen::seqN(static_cast<Index>(from),
                                          static_cast<Index>(std::min(kBlock, all.end - from)));
            out(rows, Eigen::all) =
                scale(rows).asDiagonal() * (factor.after(X(rows, in.fit.solution.kept)) * turned);
        }
    });
    return out;
}

void tellOfFew(std::size_t levels, CheckResult& result) {
    if (levels == 0) {
        return;
    }
    result.details.emplace_back("levels not looked at", static_cast<double>(levels));
    result.reading += " " + countText(levels) +
                      " levels of large groupings are not looked at: each rests on few rows.";
}

}  // namespace

// Belsley, Kuh & Welsch (1980), Regression Diagnostics, section 2.1.
CheckResult checkDfbetas(const CheckInput& in) {
    if (in.fit.dfResidual < 2.0 || in.fit.statistics.rss <= 0.0) {
        return notApplicable("There are too few rows to leave one out.");
    }
    if (in.fit.coefficients.empty()) {
        return notApplicable("There is no effect that a row could decide.");
    }
    const VectorXd e = scaledResiduals(in);
    const VectorXd s = spreadWithout(in, e);
    const std::vector<Index> looked = effectsOfManyRows(in);
    if (looked.empty()) {
        return notApplicable("Each level of the grouping rests on few rows: any of them moves it.");
    }
    const MatrixXd F = in.fit.solution.factor(looked, Eigen::all);
    const MatrixXd change = changesWithout(in, e, s, F);
    const VectorXd largest = change.cwiseAbs().rowwise().maxCoeff();
    const double mark = 2.0 / std::sqrt(in.fit.n);
    Index row = 0;
    Index column = 0;
    const double most = change.cwiseAbs().maxCoeff(&row, &column);
    CheckResult result;
    result.statistic = change(row, column);
    result.statisticName = "largest DFBETAS";
    const auto at = [&](Index j) -> const Coefficient& {
        return in.fit.coefficients[static_cast<std::size_t>(looked[static_cast<std::size_t>(j)])];
    };
    const std::string term = at(column).term;
    const auto looks = rowsAbove(in, largest, mark);
    const auto strong = rowsAbove(in, largest, std::max(0.5, mark));
    result.details = {{"rows above 2/√n", static_cast<double>(looks.size())}, {"mark", mark}};
    for (Index j = 0; j < change.cols(); ++j) {
        result.details.emplace_back("largest " + at(j).term, change.col(j).cwiseAbs().maxCoeff());
    }
    result.verdict = most > std::max(1.0, mark) ? Verdict::Fails
                     : !strong.empty()          ? Verdict::Weigh
                                                : Verdict::Fine;
    result.headline = term + ", " + fixedNumber(most, 2, true);
    result.reading = "Leaving out " +
                     rowName(in.frame, in.design.rows[static_cast<std::size_t>(row)]) +
                     " moves the effect of " + term + " by " + fixedNumber(most, 2, true) +
                     " of its standard error, the most that any row moves any effect. " +
                     plural(looks.size(), "row moves", "rows move") +
                     " some effect by more than 2/√n, the mark for a look.";

    // The effects that move most without a single row.
    struct Drop {
        double change;
        Index row;
        Index column;
    };

    std::vector<Drop> drops;
    for (Index j = 0; j < change.cols(); ++j) {
        Index without = 0;
        const double size = change.col(j).cwiseAbs().maxCoeff(&without);
        if (at(j).designTerm >= 0) {
            drops.push_back({size, without, j});
        }
    }
    std::sort(drops.begin(), drops.end(),
              [](const Drop& x, const Drop& y) { return x.change > y.change; });
    for (std::size_t i = 0; i < std::min<std::size_t>(drops.size(), 3); ++i) {
        const auto [size, left, j] = drops[i];
        const Coefficient& c = at(j);
        const double without = c.estimate - change(left, j) * s(left) * F.row(j).norm();
        const int d = decimalsFor(c.se);
        result.reading += (i == 0 ? " Dropping one row: " : "; ") + c.term + " from " +
                          fixedNumber(c.estimate, d) + " to " + fixedNumber(without, d) +
                          " without " +
                          rowName(in.frame, in.design.rows[static_cast<std::size_t>(left)]);
    }
    result.reading += drops.empty() ? "" : ".";
    tellOfFew(in.fit.coefficients.size() - looked.size(), result);
    result.exhibit = indexExhibit(in, change.col(column), "DFBETAS of " + term, mark);
    result.exhibit.marked = rowsAbove(in, change.col(column).cwiseAbs(), std::max(0.5, mark));
    result.exhibit.title =
        result.verdict == Verdict::Fine ? "No row decides an effect" : "Some rows pull at " + term;
    offerWithout(in, strong, result);
    return result;
}

CheckResult checkDffits(const CheckInput& in) {
    if (in.fit.dfResidual < 2.0 || in.fit.statistics.rss <= 0.0) {
        return notApplicable("There are too few rows to leave one out.");
    }
    const VectorXd t = studentisedResiduals(in);
    VectorXd d(t.size());
    for (Index i = 0; i < t.size(); ++i) {
        const double h = in.fit.leverage(i);
        d(i) = h < 1.0 - 1e-12 ? t(i) * std::sqrt(h / (1.0 - h)) : 0.0;
    }
    const double mark =
        2.0 * std::sqrt(static_cast<double>(in.fit.solution.kept.size()) / in.fit.n);
    Index at = 0;
    const double most = d.cwiseAbs().maxCoeff(&at);
    const auto looks = rowsAbove(in, d.cwiseAbs(), mark);
    const auto strong = rowsAbove(in, d.cwiseAbs(), std::max(1.0, mark));
    CheckResult result;
    result.statistic = d(at);
    result.statisticName = "largest DFFITS";
    result.details = {{"rows above 2√(k/n)", static_cast<double>(looks.size())}, {"mark", mark}};
    result.verdict = most > std::max(2.0, 2.0 * mark) ? Verdict::Fails
                     : !strong.empty()                ? Verdict::Weigh
                                                      : Verdict::Fine;
    result.headline = "largest " + fixedNumber(most, 2, true);
    result.reading = "Leaving out " +
                     rowName(in.frame, in.design.rows[static_cast<std::size_t>(at)]) +
                     " moves its own fitted value by " + fixedNumber(most, 2, true) +
                     " of that value’s standard error, the most of any row; " +
                     plural(looks.size(), "row exceeds", "rows exceed") + " 2√(k/n).";
    result.exhibit = indexExhibit(in, d, "DFFITS", mark);
    result.exhibit.marked = strong;
    result.exhibit.title = result.verdict == Verdict::Fine ? "No row makes its own fit"
                                                           : "Some rows make their own fit";
    offerWithout(in, strong, result);
    return result;
}

CheckResult checkCovratio(const CheckInput& in) {
    if (in.fit.dfResidual < 2.0 || in.fit.statistics.rss <= 0.0) {
        return notApplicable("There are too few rows to leave one out.");
    }
    const VectorXd t = studentisedResiduals(in);
    const double k = static_cast<double>(in.fit.solution.kept.size());
    const double df = in.fit.dfResidual;
    VectorXd ratio(t.size());
    for (Index i = 0; i < t.size(); ++i) {
        const double left = std::max(1.0 - in.fit.leverage(i), 1e-12);
        ratio(i) = 1.0 / (std::pow((df - 1.0 + t(i) * t(i)) / df, k) * left);
    }
    const VectorXd distance = (ratio.array() - 1.0).abs();
    Index at = 0;
    distance.maxCoeff(&at);
    const double mark = 3.0 * k / in.fit.n;
    const auto looks = rowsAbove(in, distance, mark);
    const auto strong = rowsAbove(in, distance, std::max(0.5, mark));
    CheckResult result;
    result.statistic = ratio(at);
    result.statisticName = "COVRATIO farthest from 1";
    result.details = {{"rows beyond 3k/n", static_cast<double>(looks.size())}, {"mark", mark}};
    result.verdict = strong.empty() ? Verdict::Fine : Verdict::Weigh;
    result.headline = "farthest " + fixedNumber(ratio(at), 2);
    result.reading = "Leaving out " +
                     rowName(in.frame, in.design.rows[static_cast<std::size_t>(at)]) +
                     " changes the generalised variance of the estimates by a factor of " +
                     fixedNumber(ratio(at), 2) +
                     (ratio(at) > 1.0 ? ": the row makes them look more precise."
                                      : ": the row costs precision.") +
                     " " + plural(looks.size(), "row lies", "rows lie") + " beyond 3k/n.";
    result.exhibit = indexExhibit(in, ratio.array() - 1.0, "COVRATIO − 1", mark);
    result.exhibit.marked = strong;
    result.exhibit.title =
        strong.empty() ? "No row decides the precision" : "Some rows decide the precision";
    offerWithout(in, strong, result);
    return result;
}

}  // namespace rapporto
