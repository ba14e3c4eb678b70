// Is the shape right? RESET and the curvature of each term.
#include "core/base/format.h"
#include "core/base/shown_names.h"
#include "core/checks/added_alone.h"
#include "core/checks/common.h"
#include "core/describe/smooth.h"
#include "core/numerics/distributions.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// Residual sum with columns added to the design, and how many of them counted.
struct Enlarged {
    double rss = 0.0;
    double added = 0.0;
};

Result<Enlarged> enlarge(const CheckInput& in, const MatrixXd& added) {
    ColumnsView X = ColumnsView(in.design.X).of(in.fit.solution.kept);
    for (Index j = 0; j < added.cols(); ++j) {
        X.add(added.col(j).data());
    }
    const auto left =
        remainderOf({X, in.design.y, in.design.weights, in.design.hasConstant}, in.job);
    if (!left) {
        return tl::make_unexpected(left.error());
    }
    return Enlarged{left->squares,
                    left->columns - static_cast<double>(in.fit.solution.kept.size())};
}

VectorXd standardised(const VectorXd& x) {
    const VectorXd d = x.array() - x.mean();
    const double sd = std::sqrt(d.squaredNorm() / static_cast<double>(x.size()));
    return sd > 0.0 ? VectorXd(d / sd) : d;
}

/// The square of each term added alone, where the work is large enough for one pass over the rows;
/// else empty.
std::vector<AddedAlone> squaresInOnePass(const CheckInput& in,
                                         const std::vector<const DesignTerm*>& terms) {
    const auto count = static_cast<Index>(terms.size());
    if (!isWorthAPass(in, count)) {
        return {};
    }
    AddedColumns added;
    added.count = count;
    VectorXd centre = VectorXd::Zero(count);
    VectorXd scale(count);
    for (Index j = 0; j < count; ++j) {
        const auto x = in.design.X.col(terms[static_cast<std::size_t>(j)]->columns.front());
        centre(j) = in.design.hasConstant ? x.mean() : 0.0;
        const double reach = (x.array() - centre(j)).abs().maxCoeff();
        scale(j) = reach > 0.0 ? 1.0 / reach : 0.0;
        added.groups.push_back({j});
    }
    added.fill = [&](Index from, MatrixXd& block) {
        for (Index j = 0; j < count; ++j) {
            const auto x = in.design.X.col(terms[static_cast<std::size_t>(j)]->columns.front());
            block.col(j) =
                ((x.segment(from, block.rows()).array() - centre(j)) * scale(j)).square();
        }
    };
    return addedAlone(in, added, scaledResiduals(in));
}

/// The forms beside the one asked for: the square alone, and powers to the fourth.
void addOtherPowers(const CheckInput& in, const VectorXd& base, CheckResult& result) {
    for (const int last : {2, 4}) {
        MatrixXd added(base.size(), last - 1);
        for (int p = 2; p <= last; ++p) {
            added.col(p - 2) = base.array().pow(p);
        }
        const auto larger = enlarge(in, added);
        const double df2 = larger ? in.fit.dfResidual - larger->added : 0.0;
        if (!larger || larger->added < 1.0 || df2 < 1.0 || larger->rss <= 0.0) {
            continue;
        }
        const double f = std::max(
            (in.fit.statistics.rss - larger->rss) / larger->added / (larger->rss / df2), 0.0);
        const std::string name = last == 2 ? "power 2" : "powers 2-4";
        result.details.emplace_back(name + " F", f);
        result.details.emplace_back(name + " df", larger->added);
        result.details.emplace_back(name + " p", fTail(f, larger->added, df2));
    }
}

}  // namespace

// Ramsey (1969), Journal of the Royal Statistical Society B 31, 350–371.
CheckResult checkReset(const CheckInput& in) {
    if (!fitVaries(in)) {
        return notApplicable("The fit is a constant: it has no shape to ask about.");
    }
    const std::vector<int> powers =
        in.options.powers.empty() ? std::vector<int>{2, 3} : in.options.powers;
    // Powers of the centred fitted values span the same space when a constant and the linear part
    // are in the model, and lose no digits.
    const VectorXd base = in.design.hasConstant
                              ? standardised(in.fit.fitted)
                              : VectorXd(in.fit.fitted / in.fit.fitted.cwiseAbs().maxCoeff());
    MatrixXd added(base.size(), static_cast<Index>(powers.size()));
    for (std::size_t p = 0; p < powers.size(); ++p) {
        added.col(static_cast<Index>(p)) = base.array().pow(powers[p]);
    }
    // Power 3 alone without 2 is not spanned by centring: use what was asked, uncentred.
    if (in.design.hasConstant && powers.front() != 2) {
        const VectorXd raw = in.fit.fitted / in.fit.fitted.cwiseAbs().maxCoeff();
        for (std::size_t p = 0; p < powers.size(); ++p) {
            added.col(static_cast<Index>(p)) = raw.array().pow(powers[p]);
        }
    }
    const auto larger = enlarge(in, added);
    if (!larger) {
        return notApplicable("The work was stopped.");
    }
    const double df2 = in.fit.dfResidual - larger->added;
    if (larger->added < 1.0 || df2 < 1.0 || larger->rss <= 0.0) {
        return notApplicable(
            larger->added < 1.0
                ? "With indicators alone the fit can take any shape: its powers add nothing."
                : "There are too few rows for powers of the fit.");
    }
    CheckResult result;
    const double rss = in.fit.statistics.rss;
    const double f = std::max((rss - larger->rss) / larger->added / (larger->rss / df2), 0.0);
    const double p = fTail(f, larger->added, df2);
    const double share = (rss - larger->rss) / rss;
    result.statistic = f;
    result.statisticName = "RESET F";
    result.df = {larger->added, df2};
    result.distribution = "F";
    result.p = p;
    result.verdict = judge(p, in.alpha, share, 0.002, 0.02);
    result.headline = pClause(p);
    result.details = {{"share of residual variance", share}};
    addOtherPowers(in, base, result);
    const std::string size =
        fixedNumber(100.0 * share, 1) + " % of what the model leaves unexplained";
    if (p >= in.alpha) {
        result.reading = "Powers of the fitted value add nothing that chance would not (" +
                         pClause(p) +
                         "). This gives no sign of a wrong shape; it does not prove the right one.";
    } else if (result.verdict == Verdict::Fine) {
        result.reading = "Powers of the fitted value are detectable (" + pClause(p) +
                         ") but explain only " + size +
                         ": with this many rows even a negligible bend shows.";
    } else {
        result.reading = "Powers of the fitted value explain " + size + " (" + pClause(p) +
                         "): the straight-line shape misses something. Look for a term that bends, "
                         "a missing product, or another scale of the outcome.";
    }
    result.exhibit = residualExhibit(in);
    result.exhibit.title = result.verdict == Verdict::Fine ? "No bend left along the fit"
                                                           : "The residuals bend along the fit";
    result.exhibit.lines.push_back(localLine(result.exhibit.x, result.exhibit.y, 0.5, "smooth"));
    if (result.verdict != Verdict::Fine) {
        offerLogOutcome(in, result);
        offerSquareOfCurved(in, result);
    }
    return result;
}

// Component-plus-residual: Ezekiel (1924); Larsen & McCleary (1972), Technometrics 14.
CheckResult checkComponentResidual(const CheckInput& in) {
    struct Curvature {
        const DesignTerm* term;
        Index column;
        double t;
        double p;
        double share;
    };

    std::vector<Curvature> found;
    const double df = in.fit.dfResidual - 1.0;
    std::vector<const DesignTerm*> terms;
    const auto& kept = in.fit.solution.kept;
    for (const DesignTerm& term : in.design.terms) {
        const bool alone =
            !term.groups && !term.isProduct && !term.yesNo && term.columns.size() == 1 && df >= 1.0;
        if (alone && std::find(kept.begin(), kept.end(), term.columns.front()) != kept.end()) {
            terms.push_back(&term);
        }
    }
    const std::vector<AddedAlone> passed = squaresInOnePass(in, terms);
    const double rss = in.fit.statistics.rss;
    for (std::size_t k = 0; k < terms.size(); ++k) {
        const DesignTerm& term = *terms[k];
        double left = 0.0;
        double added = 0.0;
        if (!passed.empty() && passed[k].sure) {
            left = rss - passed[k].gained;
            added = passed[k].rank;
        } else {
            const VectorXd x = in.design.X.col(term.columns.front());
            const VectorXd base =
                in.design.hasConstant ? standardised(x) : VectorXd(x / x.cwiseAbs().maxCoeff());
            const auto larger = enlarge(in, base.cwiseAbs2());
            if (!larger) {
                return notApplicable("The work was stopped.");
            }
            left = larger->rss;
            added = larger->added;
        }
        if (added < 1.0 || left <= 0.0) {
            continue;
        }
        const double t = std::sqrt(std::max(rss - left, 0.0) / (left / df));
        found.push_back({&term, term.columns.front(), t, twoSidedP(t, df), (rss - left) / rss});
    }
    if (found.empty()) {
        return notApplicable("No term is a quantity on its own that could bend.");
    }
    const auto worst =
        std::min_element(found.begin(), found.end(),
                         [](const Curvature& a, const Curvature& b) { return a.p < b.p; });
    CheckResult result;
    const double p = std::min(1.0, worst->p * static_cast<double>(found.size()));
    result.statistic = worst->t;
    result.statisticName = "largest |t| of an added square";
    result.df = {df};
    result.distribution = "t";
    result.p = p;
    result.verdict = judge(p, in.alpha, worst->share, 0.002, 0.02);
    result.headline = worst->term->name + ", " + pClause(p);
    for (const Curvature& c : found) {
        result.details.emplace_back("t " + c.term->name, c.t);
        result.details.emplace_back("p " + c.term->name, c.p);
    }
    const std::string looks =
        found.size() > 1 ? " after " + std::to_string(found.size()) + " looks" : "";
    result.reading =
        result.verdict == Verdict::Fine
            ? "No term’s square adds anything to speak of (the most curved is " +
                  worst->term->name + ", " + pClause(p) + looks + ")."
            : "The effect of " + worst->term->name + " bends: its square adds to the fit (|t| " +
                  fixedNumber(worst->t, 2) + ", " + pClause(p) + looks +
                  "). A single slope averages over parts of the range where it differs.";
    Exhibit& e = result.exhibit;
    e.title = result.verdict == Verdict::Fine ? worst->term->name + " is close to straight"
                                              : worst->term->name + " bends";
    e.subtitle = "what " + worst->term->name +
                 " adds, plus the residual · n = " + countText(in.design.rows.size());
    e.xTitle = worst->term->label + (worst->term->unit.empty() ? "" : ", " + worst->term->unit);
    e.yTitle = "part of " + in.design.outcome;
    double slope = 0.0;
    for (const Coefficient& c : in.fit.coefficients) {
        slope = c.column == worst->column ? c.estimate : slope;
    }
    const VectorXd x = in.design.X.col(worst->column);
    const double mean = x.mean();
    e.rows = in.design.rows;
    for (Index i = 0; i < x.size(); ++i) {
        e.x.push_back(x(i));
        e.y.push_back(slope * (x(i) - mean) + in.fit.residuals(i));
    }
    e.lines.push_back({"line",
                       {x.minCoeff(), x.maxCoeff()},
                       {slope * (x.minCoeff() - mean), slope * (x.maxCoeff() - mean)},
                       true});
    e.lines.push_back(localLine(e.x, e.y, 0.5, "smooth"));
    if (result.verdict != Verdict::Fine) {
        offerSquare(in, worst->term->name, result);
        if (x.minCoeff() > 0.0 && worst->term->logOf.empty()) {
            Question variant = variantBase(in, "with ln " + worst->term->name);
            for (Term& term : variant.terms) {
                if (term.kind == Term::Kind::Expression &&
                    plainName(canonicalText(term.parts.front())) == plainName(worst->term->name)) {
                    term.parts.front() = "ln(" + term.parts.front() + ")";
                }
            }
            result.remedies.push_back(
                {"Log " + worst->term->name, "each doubling then counts the same", variant});
        }
    }
    return result;
}

}  // namespace rapporto
