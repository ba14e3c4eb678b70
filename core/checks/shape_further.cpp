// Is the shape right? The middle against the whole, a squared index, products of terms.
#include "core/base/format.h"
#include "core/checks/added_alone.h"
#include "core/checks/common.h"
#include "core/checks/outcome_residuals.h"
#include "core/describe/correlation.h"
#include "core/describe/smooth.h"
#include "core/model/likelihood.h"
#include "core/model/outcome_models.h"
#include "core/numerics/distributions.h"
#include "core/numerics/ordering.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

Exhibit bentExhibit(const CheckInput& in, bool fine) {
    Exhibit e = residualExhibit(in);
    e.title = fine ? "No bend left along the fit" : "The residuals bend along the fit";
    e.lines.push_back(localLine(e.x, e.y, 0.5, "smooth"));
    return e;
}

}  // namespace

// Utts (1982), Communications in Statistics, Theory and Methods 11: the half of the rows with the
// smallest leverage against all of them.
CheckResult checkRainbow(const CheckInput& in) {
    if (!fitVaries(in)) {
        return notApplicable("The fit is a constant: it has no shape to ask about.");
    }
    std::vector<double> far(in.fit.leverage.begin(), in.fit.leverage.end());
    sortValues(far);
    // Rows that are as far as the last of the half belong to it, too: which of them would be chosen
    // must not hang on where they stand.
    std::size_t half = far.size() / 2;
    while (half > 0 && half < far.size() && far[half] <= far[half - 1] * (1.0 + 1e-9)) {
        ++half;
    }
    if (half == 0 || half == far.size()) {
        return notApplicable("The rows are all as far from the middle of the terms.");
    }
    std::vector<Index> order;
    order.reserve(half);
    for (Index i = 0; i < in.fit.leverage.size(); ++i) {
        if (in.fit.leverage(i) <= far[half - 1]) {
            order.push_back(i);
        }
    }
    const auto part = fitPart(in, order);
    const double n = static_cast<double>(in.fit.leverage.size());
    if (!part || part->rss <= 0.0 || part->n <= part->columns) {
        return notApplicable("The middle half has too few rows for a model of its own.");
    }
    const double df1 = n - part->n;
    const double df2 = part->n - part->columns;
    const double whole = scaledResiduals(in).squaredNorm();
    const double f = std::max((whole - part->rss) / df1 / (part->rss / df2), 0.0);
    CheckResult result;
    result.statistic = f;
    result.statisticName = "rainbow F";
    result.df = {df1, df2};
    result.distribution = "F";
    result.p = fTail(f, df1, df2);
    result.details = {{"rows in the middle", part->n}};
    result.verdict = judge(*result.p, in.alpha, f, 1.1, 1.5);
    result.headline = pClause(*result.p);
    result.reading =
        *result.p >= in.alpha
            ? "Far from the middle of the terms the fit errs no more than within it (" +
                  pClause(*result.p) + ")."
            : "Far from the middle of the terms the fit errs more than within it (F " +
                  fixedNumber(f, 2) + ", " + pClause(*result.p) +
                  "): the straight shape holds in the middle at best. A spread that grows outward "
                  "looks the same to this test.";
    result.exhibit = bentExhibit(in, result.verdict == Verdict::Fine);
    if (result.verdict != Verdict::Fine) {
        offerLogOutcome(in, result);
        offerSquareOfCurved(in, result);
    }
    return result;
}

// Pregibon (1980), Applied Statistics 29, 15–24; Tukey (1949), Biometrics 5.
namespace {

/// The same of a likelihood of one index: the estimator itself on the index and its square.
CheckResult linkOfLikelihood(const CheckInput& in) {
    const LikelihoodFit& told = *in.fit.likelihood;
    if (told.index.cols() != 1 || !in.question.fixedEffects.empty() ||
        told.family->zeros == Family::Zeros::Absent) {
        return notApplicable("It is made for one index.");
    }
    const VectorXd own = in.design.offset.size() > 0
                             ? VectorXd(told.index.col(0) - in.design.offset)
                             : VectorXd(told.index.col(0));
    const VectorXd index = own.array() - own.mean();
    const double reach = index.cwiseAbs().maxCoeff();
    constexpr double kUnits = 64.0 * std::numeric_limits<double>::epsilon();
    if (!(reach > kUnits * own.cwiseAbs().maxCoeff())) {
        return notApplicable("The fitted values do not differ.");
    }
    Design both = in.design;
    both.X.resize(index.size(), 3);
    both.X.col(0).setOnes();
    both.X.col(1) = index / reach;
    both.X.col(2) = (index / reach).cwiseAbs2();
    both.columns = {
        {"(constant)", "", -1, false}, {"index", "", 0, false}, {"square", "", 1, false}};
    both.hasConstant = true;
    both.terms.clear();
    const auto fit = findEstimator(in.question.method)
                         ->estimate(both, in.question.settings, ErrorSpec{}, in.alpha, in.job);
    const Coefficient* square = nullptr;
    for (std::size_t j = 0; fit && j < fit->coefficients.size(); ++j) {
        const Coefficient& c = fit->coefficients[j];
        square = c.term == "square" && c.equation == "main" && c.statistic && c.p ? &c : square;
    }
    if (square == nullptr) {
        return notApplicable("The squared index adds nothing of its own.");
    }
    CheckResult result;
    result.statistic = *square->statistic;
    result.statisticName = "z of the squared index";
    result.distribution = "normal";
    result.p = *square->p;
    // Of levels −2ℓ is the deviance; a law behind ends has none: what z stands for in its place.
    const double gain = std::max(fit->likelihood->logLikelihood - told.logLikelihood, 0.0);
    const double deviance = told.family->outcome == Family::Outcome::Ordered
                                ? -2.0 * told.logLikelihood
                                : told.deviance;
    const double z2 = *result.statistic * *result.statistic;
    const double share =
        deviance > 0.0 ? 2.0 * gain / deviance : z2 / (z2 + static_cast<double>(index.size()));
    const std::string ofWhat = deviance > 0.0 ? "of the deviance" : "of what is left";
    result.details = {{"share " + ofWhat, share}};
    result.verdict = judge(*result.p, in.alpha, share, 0.002, 0.02);
    result.headline = pClause(*result.p);
    result.reading = *result.p >= in.alpha
                         ? "The square of the index adds nothing beside it (" + pClause(*result.p) +
                               "): no sign that the terms reach the outcome another way."
                         : "The square of the index adds to it (" + pClause(*result.p) + ", " +
                               fixedNumber(100.0 * share, 1) + " % " + ofWhat +
                               "): the outcome may want another curve, or a term is missing.";
    auto pictures = quantileResidualPictures(in.design, in.fit, in.question.settings, in.alpha);
    result.exhibit = pictures.empty() ? residualExhibit(in) : std::move(pictures.front());
    result.exhibit.title = result.verdict == Verdict::Fine
                               ? "The curve from terms to outcome fits"
                               : "The curve from terms to outcome bends";
    if (result.verdict != Verdict::Fine) {
        for (const DesignTerm& term : in.design.terms) {
            if (term.columns.size() == 1 && !term.groups && !term.yesNo && !term.isProduct &&
                term.factors.size() == 1) {
                offerSquare(in, term.name, result);
                break;
            }
        }
    }
    return result;
}

}  // namespace

CheckResult checkLink(const CheckInput& in) {
    if (hasTrait(in.question.method, trait::kUnseen)) {
        return notApplicable("It is made for one index.");
    }
    if (in.fit.likelihood) {
        return linkOfLikelihood(in);
    }
    // The centred index spans the same with a constant and loses no digits.
    const VectorXd& fitted = in.fit.fitted;
    const VectorXd index =
        in.design.hasConstant ? VectorXd(fitted.array() - fitted.mean()) : fitted;
    const double reach = index.cwiseAbs().maxCoeff();
    const double columns = in.design.hasConstant ? 3.0 : 2.0;
    const double df = static_cast<double>(fitted.size()) - columns;
    if (!(reach > 0.0) || df < 1.0 || !fitVaries(in)) {
        return notApplicable("The fitted values do not differ.");
    }
    MatrixXd X(index.size(), static_cast<Index>(columns));
    X.col(0).setOnes();
    X.col(static_cast<Index>(columns) - 2) = index / reach;
    X.col(static_cast<Index>(columns) - 1) = (index / reach).cwiseAbs2();
    const auto solution =
        solveLinear({X, in.design.y, in.design.weights, in.design.hasConstant}, true, in.job);
    if (!solution || solution->kept.size() < static_cast<std::size_t>(columns)) {
        return notApplicable("The squared index adds nothing of its own.");
    }
    const double sigma2 = solution->residualSquares / df;
    const Index last = static_cast<Index>(columns) - 1;
    const double se = std::sqrt(sigma2 * solution->factor.row(last).squaredNorm());
    CheckResult result;
    result.statistic = solution->coefficients(last) / se;
    result.statisticName = "t of the squared index";
    result.df = {df};
    result.distribution = "t";
    result.p = twoSidedP(*result.statistic, df);
    const double t2 = *result.statistic * *result.statistic;
    const double share = t2 / (t2 + df);
    result.details = {{"share of residual variance", share}};
    result.verdict = judge(*result.p, in.alpha, share, 0.002, 0.02);
    result.headline = pClause(*result.p);
    result.reading =
        *result.p >= in.alpha
            ? "The square of the fitted value adds nothing beside it (" + pClause(*result.p) +
                  "): no sign that the outcome wants another scale."
            : "The square of the fitted value adds to it (" + pClause(*result.p) + ", " +
                  fixedNumber(100.0 * share, 1) +
                  " % of what is left): the outcome may want another scale, or a term is missing.";
    result.exhibit = bentExhibit(in, result.verdict == Verdict::Fine);
    if (result.verdict != Verdict::Fine) {
        offerLogOutcome(in, result);
        offerSquareOfCurved(in, result);
    }
    return result;
}

// Each product of two terms added alone; Holm (1979) over all of them.
CheckResult checkInteractions(const CheckInput& in) {
    constexpr std::size_t kMostPairs = 300;
    const VectorXd e = scaledResiduals(in);
    const double rss = e.squaredNorm();
    const auto& kept = in.fit.solution.kept;
    const auto columnsOf = [&](const DesignTerm& term) {
        std::vector<Index> out;
        for (const Index c : term.columns) {
            if (std::find(kept.begin(), kept.end(), c) != kept.end()) {
                out.push_back(c);
            }
        }
        return out;
    };

    struct Pair {
        std::string name;
        double f = 0.0;
        double df1 = 0.0;
        double p = 1.0;
        double share = 0.0;
        std::size_t first = 0;
        std::size_t second = 0;
    };

    /// A pair with the columns of its product.
    struct Candidate {
        std::size_t first;
        std::size_t second;
        std::vector<std::pair<Index, Index>> products;
    };

    std::vector<Candidate> candidates;
    Index columns = 0;
    for (std::size_t a = 0; a < in.design.terms.size(); ++a) {
        for (std::size_t b = 0; b < a && candidates.size() < kMostPairs; ++b) {
            const DesignTerm& first = in.design.terms[b];
            const DesignTerm& second = in.design.terms[a];
            if (first.isProduct || second.isProduct || first.names == second.names) {
                continue;
            }
            Candidate one{b, a, {}};
            for (const Index l : columnsOf(first)) {
                for (const Index r : columnsOf(second)) {
                    one.products.emplace_back(l, r);
                }
            }
            if (!one.products.empty() && one.products.size() <= 30) {
                columns += static_cast<Index>(one.products.size());
                candidates.push_back(std::move(one));
            }
        }
    }
    const VectorXd means = in.design.X.colwise().mean();
    std::vector<AddedAlone> passed;
    if (isWorthAPass(in, columns)) {
        AddedColumns added;
        added.count = columns;
        Index at = 0;
        for (const Candidate& one : candidates) {
            added.groups.emplace_back();
            for (std::size_t j = 0; j < one.products.size(); ++j) {
                added.groups.back().push_back(at++);
            }
        }
        added.fill = [&](Index from, MatrixXd& block) {
            Index c = 0;
            const Index rows = block.rows();
            for (const Candidate& one : candidates) {
                for (const auto& [l, r] : one.products) {
                    block.col(c++) = (in.design.X.col(l).segment(from, rows).array() - means(l)) *
                                     (in.design.X.col(r).segment(from, rows).array() - means(r));
                }
            }
        };
        passed = addedAlone(in, added, e);
    }
    MatrixXd Q;
    VectorXd root;
    /// By orthogonalising, where sums over rows cannot tell.
    const auto alone = [&](const Candidate& one) {
        if (Q.size() == 0) {
            root = in.design.weights.size() > 0 ? VectorXd(in.design.weights.cwiseSqrt())
                                                : VectorXd::Ones(in.design.X.rows());
            // X A has orthonormal columns for (X'WX)⁻¹ = A A'.
            Q = root.asDiagonal() * withColumns(in, MatrixXd(in.design.X.rows(), 0)) *
                in.fit.solution.factor;
        }
        const auto q = static_cast<Index>(one.products.size());
        MatrixXd Z(in.design.X.rows(), q);
        Index at = 0;
        for (const auto& [l, r] : one.products) {
            const VectorXd u = in.design.X.col(l).array() - means(l);
            const VectorXd v = in.design.X.col(r).array() - means(r);
            Z.col(at++) = root.cwiseProduct(u.cwiseProduct(v));
        }
        const VectorXd before = Z.colwise().norm();
        Z -= Q * (Q.transpose() * Z);
        Z -= Q * (Q.transpose() * Z);  // What rounding left.
        for (Index j = 0; j < q; ++j) {
            Z.col(j) *= before(j) > 0.0 ? 1.0 / before(j) : 0.0;
        }
        const Eigen::ColPivHouseholderQR<MatrixXd> qr(Z);
        Index rank = 0;
        for (Index j = 0; j < std::min(q, Z.rows()); ++j) {
            rank += std::abs(qr.matrixR()(j, j)) > 1e-8 ? 1 : 0;
        }
        const VectorXd effects = (qr.householderQ().adjoint() * e).head(rank);
        return AddedAlone{effects.squaredNorm(), static_cast<double>(rank), true};
    };
    std::vector<Pair> pairs;
    for (std::size_t c = 0; c < candidates.size() && !in.job.stopped(); ++c) {
        const AddedAlone found =
            !passed.empty() && passed[c].sure ? passed[c] : alone(candidates[c]);
        const double df2 = in.fit.dfResidual - found.rank;
        if (found.rank == 0.0 || df2 < 1.0) {
            continue;
        }
        const DesignTerm& first = in.design.terms[candidates[c].first];
        const DesignTerm& second = in.design.terms[candidates[c].second];
        Pair pair{first.name + " × " + second.name};
        pair.first = candidates[c].first;
        pair.second = candidates[c].second;
        pair.df1 = found.rank;
        pair.share = found.gained / rss;
        pair.f = found.gained / pair.df1 / (std::max(rss - found.gained, 1e-300) / df2);
        pair.p = fTail(pair.f, pair.df1, df2);
        pairs.push_back(std::move(pair));
    }
    if (pairs.empty() || rss <= 0.0) {
        return notApplicable("There are no two terms whose product could be added.");
    }
    std::vector<double> ps;
    for (const Pair& pair : pairs) {
        ps.push_back(pair.p);
    }
    const std::vector<double> adjusted = holm(ps);
    const auto worst =
        static_cast<std::size_t>(std::min_element(ps.begin(), ps.end()) - ps.begin());
    CheckResult result;
    result.statistic = pairs[worst].f;
    result.statisticName = "largest F of an added product";
    result.df = {pairs[worst].df1, in.fit.dfResidual - pairs[worst].df1};
    result.distribution = "F";
    result.p = adjusted[worst];
    result.details = {{"products tried", static_cast<double>(pairs.size())},
                      {"p alone", pairs[worst].p}};
    for (std::size_t k = 0; k < pairs.size(); ++k) {
        result.details.emplace_back("p " + pairs[k].name, pairs[k].p);
    }
    result.verdict = judge(*result.p, in.alpha, pairs[worst].share, 0.002, 0.02);
    result.headline = pairs[worst].name + ", " + pClause(*result.p);
    result.reading =
        result.verdict == Verdict::Fine
            ? "Of " + plural(pairs.size(), "product", "products") +
                  " of two terms none adds anything to speak of (the best is " + pairs[worst].name +
                  ", " + pClause(*result.p) + " after that many looks)."
            : "The effect of one term hangs on another: the product " + pairs[worst].name +
                  " adds to the fit (" + pClause(*result.p) + " after " +
                  plural(pairs.size(), "look", "looks") +
                  "). It was found by looking at all products: say so where it is reported.";
    Exhibit& x = result.exhibit;
    x.title =
        result.verdict == Verdict::Fine ? "No product adds much" : pairs[worst].name + " adds";
    x.subtitle = "what each product would explain of the rest, %";
    std::vector<std::size_t> order(pairs.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::sort(order.begin(), order.end(),
              [&](std::size_t a, std::size_t b) { return pairs[a].share > pairs[b].share; });
    for (std::size_t k = 0; k < std::min<std::size_t>(order.size(), 14); ++k) {
        x.barNames.push_back(pairs[order[k]].name);
        x.x.push_back(100.0 * pairs[order[k]].share);
    }
    if (result.verdict != Verdict::Fine) {
        offerProduct(in, in.design.terms[pairs[worst].first], in.design.terms[pairs[worst].second],
                     result);
    }
    return result;
}

}  // namespace rapporto
