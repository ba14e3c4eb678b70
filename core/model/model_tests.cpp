#include "core/model/model_tests.h"

#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

std::vector<std::string> namesOf(const Fit& fit) {
    std::vector<std::string> out;
    for (const Coefficient& c : fit.coefficients) {
        out.push_back(c.term);
    }
    std::sort(out.begin(), out.end());
    return out;
}

/// The F of those of the larger model’s coefficients that the smaller one has not.
Result<FTest> added(const Fit& larger, const std::vector<std::string>& smaller) {
    std::vector<Index> extra;
    for (std::size_t c = 0; c < larger.coefficients.size(); ++c) {
        if (!std::binary_search(smaller.begin(), smaller.end(), larger.coefficients[c].term)) {
            extra.push_back(static_cast<Index>(c));
        }
    }
    const auto f = waldF(larger.solution.coefficients(extra), larger.covariance(extra, extra));
    const auto df = larger.coefficients.front().df;
    if (!f) {
        return refuse(ErrorCode::BadSetting,
                      "the errors cannot carry a joint test of what differs");
    }
    const auto q = static_cast<double>(extra.size());
    return FTest{*f, q, df.value_or(0.0), fTail(*f, q, df)};
}

/// Takes the span of a model’s columns out of a vector; rows carry √w.
class Away {
  public:
    Away(const Design& design, const Fit& fit, const VectorXd& root)
        : Q_(root.asDiagonal() * MatrixXd(design.X(Eigen::all, fit.solution.kept)) *
             fit.solution.factor) {}

    [[nodiscard]] VectorXd operator()(const VectorXd& v) const {
        return v - Q_ * (Q_.transpose() * v);
    }

  private:
    MatrixXd Q_;
};

/// What speaks against the first model when the second is the other one.
Result<ModelTest::Side> against(const Design& own, const Fit& fit, const Design& otherDesign,
                                const Fit& other, const ErrorSpec& errors, const Job& job) {
    Design wide = own;
    wide.X.conservativeResize(Eigen::NoChange, own.X.cols() + 1);
    wide.X.col(own.X.cols()) = other.fitted;
    DesignTerm term;
    term.name = "the other’s fit";
    term.columns = {own.X.cols()};
    wide.columns.push_back({term.name, term.name, static_cast<int>(wide.terms.size()), false});
    wide.terms.push_back(std::move(term));
    const auto both = fitLeastSquares(wide, errors, 0.05, job);
    if (!both) {
        return tl::make_unexpected(both.error());
    }
    ModelTest::Side out;
    const Coefficient& last = both->coefficients.back();
    if (last.column != own.X.cols() || !last.statistic || !last.p) {
        return refuse(ErrorCode::BadSetting, "one model’s fit lies in the other’s terms");
    }
    out.t = *last.statistic;
    out.p = *last.p;
    // With X this model’s columns and Z the other’s: the variance Z would leave if X were true.
    const double n = static_cast<double>(own.y.size());
    const VectorXd root =
        own.weights.size() > 0 ? VectorXd(own.weights.cwiseSqrt()) : VectorXd::Ones(own.y.size());
    const Away ownAway(own, fit, root);
    const Away otherAway(otherDesign, other, root);
    const VectorXd left = otherAway(root.cwiseProduct(fit.fitted));
    const double own2 = fit.statistics.rss / n;
    const double other2 = other.statistics.rss / n;
    const double expected = own2 + left.squaredNorm() / n;
    const double variance = own2 / (expected * expected) * ownAway(left).squaredNorm();
    if (!(variance > 0.0)) {
        return refuse(ErrorCode::BadSetting, "one model’s fit lies in the other’s terms");
    }
    out.n = 0.5 * n * std::log(other2 / expected) / std::sqrt(variance);
    out.pCox = twoSidedP(out.n, std::nullopt);
    return out;
}

}  // namespace

bool weightedAlike(const Design& first, const Design& second) {
    return first.weightKind == second.weightKind && first.weights.size() == second.weights.size() &&
           (first.weights.array() == second.weights.array()).all();
}

Result<ModelTest> testModels(const Design& firstDesign, const Fit& first,
                             const Design& secondDesign, const Fit& second, const ErrorSpec& errors,
                             const Job& job) {
    if (firstDesign.outcome != secondDesign.outcome) {
        return refuse(ErrorCode::BadSetting,
                      "models of different outcomes have no test between them");
    }
    if (firstDesign.rows != secondDesign.rows) {
        return refuse(ErrorCode::BadSetting, "a test between models needs the same rows in both",
                      "", "Limit both to the rows that are complete in all their terms.");
    }
    if (first.linearised || second.linearised || first.resampling || second.resampling ||
        !weightedAlike(firstDesign, secondDesign)) {
        return refuse(ErrorCode::BadSetting,
                      "these two are not linear models weighted alike with a law for their errors");
    }
    const auto a = namesOf(first);
    const auto b = namesOf(second);
    ModelTest out;
    if (a == b) {
        return out;
    }
    const bool firstInSecond = std::includes(b.begin(), b.end(), a.begin(), a.end());
    if (firstInSecond || std::includes(a.begin(), a.end(), b.begin(), b.end())) {
        out.kind = ModelTest::Kind::Nested;
        out.firstIsSmaller = firstInSecond;
        auto f = added(firstInSecond ? second : first, firstInSecond ? a : b);
        if (!f) {
            return tl::make_unexpected(f.error());
        }
        out.f = *f;
        return out;
    }
    out.kind = ModelTest::Kind::NonNested;
    auto one = against(firstDesign, first, secondDesign, second, errors, job);
    auto two = against(secondDesign, second, firstDesign, first, errors, job);
    if (!one || !two) {
        return tl::make_unexpected(one ? two.error() : one.error());
    }
    out.first = *one;
    out.second = *two;
    return out;
}

}  // namespace rapporto
