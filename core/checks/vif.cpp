// Do the terms overlap? Variance inflation, generalised for terms of several columns.
#include "core/base/format.h"
#include "core/checks/common.h"
#include "core/numerics/sparse_factor.h"

#include <algorithm>
#include <cmath>

namespace rapporto {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

/// The slopes that are none of a term's.
std::vector<Index> withoutTerm(const CheckInput& in, int term) {
    std::vector<Index> out;
    for (std::size_t j = 0; j < in.fit.coefficients.size(); ++j) {
        const int of = in.fit.coefficients[j].designTerm;
        if (of >= 0 && of != term) {
            out.push_back(static_cast<Index>(j));
        }
    }
    return out;
}

}  // namespace

// Fox & Monette (1992), Journal of the American Statistical Association 87, 178–183.
CheckResult checkVif(const CheckInput& in) {
    struct Inflation {
        std::string term;
        double value;  // GVIF; the VIF for one column
        double perDf;  // GVIF^(1/df): comparable to a VIF
        double df;
    };

    const MatrixXd inverse = SparseFactor(in.fit.solution.factor).square();
    std::vector<Inflation> found;
    CheckResult result;
    std::size_t slopes = 0;
    for (std::size_t t = 0; t < in.design.terms.size(); ++t) {
        std::vector<Index> at;
        for (std::size_t j = 0; j < in.fit.coefficients.size(); ++j) {
            if (in.fit.coefficients[j].designTerm == static_cast<int>(t)) {
                at.push_back(static_cast<Index>(j));
            }
        }
        if (at.empty()) {
            continue;
        }
        slopes += at.size();
        // det R_tt · det (R⁻¹)_tt equals det(S_tt) · det((X'X)⁻¹_tt) with S the (centred) cross
        // products of the term's own columns; scaling cancels. It is the same number for all other
        // terms together: the fewer columns are taken.
        const auto q = static_cast<Index>(at.size());
        const std::vector<Index> others = withoutTerm(in, static_cast<int>(t));
        const std::vector<Index>& few = q > 1 && others.size() < at.size() ? others : at;
        MatrixXd own(in.design.X.rows(), static_cast<Index>(few.size()));
        VectorXd weight =
            in.design.weights.size() > 0 ? in.design.weights : VectorXd::Ones(own.rows());
        for (std::size_t c = 0; c < few.size(); ++c) {
            own.col(static_cast<Index>(c)) =
                in.design.X.col(in.fit.coefficients[static_cast<std::size_t>(few[c])].column);
        }
        const VectorXd raw = (weight.asDiagonal() * own.cwiseAbs2()).colwise().sum();
        if (in.design.hasConstant) {
            const Eigen::RowVectorXd mean = (weight.transpose() * own) / weight.sum();
            own.rowwise() -= mean;
        }
        MatrixXd S = own.transpose() * weight.asDiagonal() * own;
        MatrixXd V = inverse(few, few);
        const VectorXd d = S.diagonal().cwiseSqrt();
        S = d.cwiseInverse().asDiagonal() * S * d.cwiseInverse().asDiagonal();
        V = d.asDiagonal() * V * d.asDiagonal();
        const double value = few.empty() ? 1.0 : S.determinant() * V.determinant();
        const double df = static_cast<double>(q);
        found.push_back({in.design.terms[t].name, value, std::pow(value, 1.0 / df), df});
        result.details.emplace_back((q > 1 ? "gvif " : "vif ") + in.design.terms[t].name, value);
        if (q == 1) {
            result.details.emplace_back("uncentred " + in.design.terms[t].name,
                                        raw(0) * inverse(at.front(), at.front()));
        }
    }
    if (slopes < 2) {
        return notApplicable("One term alone cannot overlap with others.");
    }
    const auto worst =
        std::max_element(found.begin(), found.end(),
                         [](const Inflation& a, const Inflation& b) { return a.perDf < b.perDf; });
    result.statistic = worst->perDf;
    result.statisticName = "largest variance inflation";
    result.verdict = worst->perDf >= 30.0   ? Verdict::Fails
                     : worst->perDf >= 10.0 ? Verdict::Weigh
                                            : Verdict::Fine;
    result.headline = "largest " + shortNumber(worst->perDf, 3);
    const double wider = std::sqrt(worst->perDf);
    result.reading = worst->perDf < 10.0
                         ? "The terms say different things: the interval of " + worst->term +
                               ", the most entangled, is " + fixedNumber(wider, 1) +
                               " times as wide as it would be without overlap."
                         : "What " + worst->term +
                               " says is largely said by the other terms: its interval is " +
                               fixedNumber(wider, 1) +
                               " times as wide as it would be without overlap. The estimates are "
                               "not wrong, only less sure; a square or a product overlaps with its "
                               "parts by construction, and that is harmless.";
    Exhibit& e = result.exhibit;
    e.title =
        worst->perDf < 10.0 ? "No term repeats the others" : worst->term + " repeats the others";
    e.subtitle = "variance inflation by term; of groups, its root by columns";
    e.xTitle = "variance inflation";
    for (const Inflation& one : found) {
        e.barNames.push_back(one.term);
        e.x.push_back(one.perDf);
    }
    e.lines.push_back({"10", {10.0, 10.0}, {0.0, 1.0}, true});
    if (result.verdict != Verdict::Fine) {
        offerWithoutTerm(in, worst->term, result);
    }
    return result;
}

}  // namespace rapporto
