// Do the terms overlap? Condition indices of the scaled columns with their variance shares.
#include "core/base/format.h"
#include "core/checks/common.h"

#include <algorithm>
#include <cmath>

namespace rapporto {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

std::string withoutConstant(std::vector<std::string> terms) {
    std::erase(terms, "(constant)");
    return joinedNames(terms);
}

}  // namespace

// Belsley, Kuh & Welsch (1980), Regression Diagnostics, chapter 3: columns with the constant,
// uncentred, scaled to one length.
CheckResult checkCondition(const CheckInput& in) {
    MatrixXd X = withColumns(in, MatrixXd(in.design.X.rows(), 0));
    // With effects held fixed the constant is one of theirs, not a column of its own.
    const Index first = in.design.swept && in.design.hasConstant && X.cols() > 0 ? 1 : 0;
    X = MatrixXd(X.rightCols(X.cols() - first));
    if (X.cols() < 2) {
        return notApplicable("A single column overlaps with none.");
    }
    constexpr Index kMost = 500;
    if (X.cols() > kMost) {
        return notApplicable("With " + countText(static_cast<std::size_t>(X.cols())) +
                             " columns it takes too long to stand beside every answer: the "
                             "inflation of each term says what overlaps.");
    }
    if (in.design.weights.size() > 0) {
        X = in.design.weights.cwiseSqrt().asDiagonal() * X;
    }
    const VectorXd lengths = X.colwise().norm();
    X = X * lengths.cwiseInverse().asDiagonal();
    // The singular values of the triangle are those of the columns.
    const MatrixXd R = Eigen::HouseholderQR<MatrixXd>(X)
                           .matrixQR()
                           .topRows(X.cols())
                           .template triangularView<Eigen::Upper>();
    const Eigen::JacobiSVD<MatrixXd> svd(R, Eigen::ComputeFullV);
    const VectorXd& d = svd.singularValues();
    const VectorXd index = d(0) * d.cwiseInverse();
    const Index last = d.size() - 1;
    // Share of each estimate’s variance that hangs on the weakest direction.
    const MatrixXd parts = svd.matrixV().cwiseAbs2() * d.cwiseAbs2().cwiseInverse().asDiagonal();
    const VectorXd shares = parts.col(last).cwiseQuotient(parts.rowwise().sum());
    CheckResult result;
    result.statistic = index(last);
    result.statisticName = "condition number";
    std::vector<std::string> involved;
    std::size_t slopes = 0;
    const auto coefficient = [&](Index j) -> const Coefficient& {
        return in.fit.coefficients[static_cast<std::size_t>(j + first)];
    };
    for (Index j = 0; j < d.size(); ++j) {
        const std::string& term = coefficient(j).term;
        result.details.emplace_back("share " + term, shares(j));
        if (shares(j) > 0.5) {
            involved.push_back(term);
            slopes += coefficient(j).designTerm >= 0 ? 1U : 0U;
        }
    }
    for (Index j = 0; j < d.size(); ++j) {
        result.details.emplace_back("index " + std::to_string(j + 1), index(j));
    }
    // A slope that hangs together with the constant says that zero lies far from the data: that
    // touches the constant alone.
    const bool two = slopes >= 2;
    result.verdict = index(last) >= 100.0 && two  ? Verdict::Fails
                     : index(last) >= 30.0 && two ? Verdict::Weigh
                                                  : Verdict::Fine;
    result.headline = fixedNumber(index(last), 1);
    result.reading =
        "The condition number of the columns is " + fixedNumber(index(last), 1) +
        (result.verdict == Verdict::Fine
             ? (index(last) >= 30.0
                    ? (slopes < involved.size() && slopes > 0
                           ? ": a weak direction there is, between the constant and " +
                                 withoutConstant(involved) +
                                 ", whose zero lies far from the data. It burdens the constant; "
                                 "no two effects hang together."
                           : std::string(
                                 ": a weak direction there is, but it burdens one estimate alone."))
                    : std::string(": below 30, the columns are far enough apart."))
             : ": in one direction the data say little, and " + joinedNames(involved) +
                   " hang on it with more than half of their variance. Their separate effects are "
                   "hard to tell apart; what they say together is not touched.");
    Exhibit& e = result.exhibit;
    e.title =
        result.verdict == Verdict::Fine ? "No direction is too weak" : "One direction is weak";
    e.subtitle = "share of each estimate’s variance on the weakest direction";
    for (Index j = 0; j < d.size(); ++j) {
        e.barNames.push_back(coefficient(j).term);
        e.x.push_back(shares(j));
    }
    e.lines.push_back({".5", {0.5, 0.5}, {0.0, 1.0}, true});
    if (result.verdict != Verdict::Fine) {
        // Of the terms that hang on it, the one whose own effect is least clear.
        const DesignTerm* least = nullptr;
        double size = 0.0;
        for (Index j = 0; j < d.size(); ++j) {
            const Coefficient& c = coefficient(j);
            if (shares(j) > 0.5 && c.designTerm >= 0 &&
                (least == nullptr || std::abs(c.statistic.value_or(0.0)) < size)) {
                least = &in.design.terms[static_cast<std::size_t>(c.designTerm)];
                size = std::abs(c.statistic.value_or(0.0));
            }
        }
        if (least != nullptr) {
            offerWithoutTerm(in, least->name, result);
        }
    }
    return result;
}

}  // namespace rapporto
