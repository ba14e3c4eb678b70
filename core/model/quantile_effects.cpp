// Quantiles with effects held fixed, by a line for the middle and a line for the spread.
#include "core/base/format.h"
#include "core/model/likelihood.h"
#include "core/model/panel.h"
#include "core/model/quantile.h"
#include "core/model/reweighted.h"
#include "core/numerics/distributions.h"
#include "core/numerics/sample_quantile.h"
#include "core/numerics/sweep_effects.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr std::size_t kProcessPlaces = 20;

/// y = a + xb + (d + xg)U: R what the middle leaves, D = 2R(1{R ≥ 0} − share) whose mean is the
/// spread.
class SpreadLine {
  public:
    SpreadLine(const Design& design, const ErrorSpec& errors, double alpha, const Job& job)
        : design_(design), errors_(errors), alpha_(alpha), job_(job), w_(rowWeights(design)) {}

    Result<Fit> run(const std::vector<double>& points) {
        if (auto done = solveLines(); !done) {
            return tl::make_unexpected(done.error());
        }
        Fit fit;
        const Index k = middle_.size();
        const auto m = static_cast<Index>(points.size());
        fit.n = rowsStoodFor(design_);
        fit.dfResidual = fit.n - static_cast<double>(k) - design_.effectsRank;
        if (fit.dfResidual < 1.0) {
            return refuse(ErrorCode::TooFewRows,
                          plural(design_.counts.used, "row", "rows") + " cannot carry " +
                              plural(static_cast<std::size_t>(k), "coefficient", "coefficients") +
                              " beside what is held fixed",
                          "sample", "Take terms out or widen the sample.");
        }
        auto told = std::make_shared<QuantileFit>();
        MatrixXd influence(R_.size(), m * k);
        for (Index a = 0; a < m; ++a) {
            const double tau = points[static_cast<std::size_t>(a)];
            QuantileFit::Point point;
            point.at = tau;
            influence.middleCols(a * k, k) = influenceAt(tau, point);
            for (Index j = 0; j < k; ++j) {
                const Index column = kept_[static_cast<std::size_t>(j)];
                const DesignColumn& info = design_.columns[static_cast<std::size_t>(column)];
                Coefficient c;
                c.term = info.name;
                c.label = info.label;
                c.column = column;
                c.designTerm = info.term;
                c.equation = "quantile " + exactNumber(tau);
                c.estimate = point.b(j);
                fit.coefficients.push_back(std::move(c));
            }
            told->points.push_back(std::move(point));
        }
        auto covariance = covarianceOfAll(influence, fit.dfResidual);
        if (!covariance) {
            return tl::make_unexpected(covariance.error());
        }
        replaceCovariance(fit, design_, *std::move(covariance), alpha_);
        fit.dropped = dropped_;
        const double q = placeOf(points.front());
        fit.residuals = R_ - q * spread_;
        fit.fitted = design_.before->y - fit.residuals;
        fit.leverage = VectorXd::Zero(R_.size());
        fit.solution.kept = kept_;
        fit.solution.coefficients = told->points.front().b;
        fit.solution.residuals = fit.residuals;
        fit.solution.factor = MatrixXd::Identity(k, k);
        FitStatistics& s = fit.statistics;
        s.sigma = s.rss = s.tss = std::numeric_limits<double>::quiet_NaN();
        describe(points, *told, fit);
        fit.quantile = std::move(told);
        return fit;
    }

  private:
    Result<void> solveLines() {
        const LinearProblem problem{design_.X, design_.y, design_.weights, design_.hasConstant};
        const auto first = solveLinear(problem, false, job_);
        if (!first) {
            return tl::make_unexpected(first.error());
        }
        kept_ = first->kept;
        for (const RedundantColumn& r : first->redundant) {
            const bool held =
                design_.X.col(r.column).maxCoeff() == design_.X.col(r.column).minCoeff();
            dropped_.push_back({design_.columns[static_cast<std::size_t>(r.column)].name,
                                held ? heldReason(design_) : combinationText(design_.columns, r)});
        }
        middle_ = first->coefficients;
        R_ = first->residuals;
        inverse_ = first->factor * first->factor.transpose();
        const double share = (w_.array() * (R_.array() >= 0.0).cast<double>()).sum() / w_.sum();
        VectorXd D(R_.size());
        for (Index i = 0; i < D.size(); ++i) {
            D(i) = 2.0 * R_(i) * ((R_(i) >= 0.0 ? 1.0 : 0.0) - share);
        }
        std::vector<EffectGroups> groupings;
        for (const SweptGrouping& effects : design_.effects) {
            groupings.push_back({effects.of.all(), effects.count});
        }
        const double mean = w_.dot(D) / w_.sum();
        MatrixXd column = D.array() - mean;
        const auto swept = sweepEffects(column, groupings, design_.weights, job_);
        if (!swept) {
            return tl::make_unexpected(swept.error());
        }
        // What least squares leaves may be rounding: then all quantiles are one.
        if (R_.norm() <= 1e-9 * std::sqrt(centredSquares(design_.y, design_.weights))) {
            return refuse(ErrorCode::NothingToTell,
                          "the terms and what is held fixed tell ‘" + design_.outcome +
                              "’ exactly: all quantiles are one, and none has an error",
                          "terms", "Take out what tells it, or hold less fixed.",
                          {design_.outcome});
        }
        const VectorXd own = column.col(0).array() + (design_.hasConstant ? mean : 0.0);
        const auto second =
            solveLinear({design_.X, own, design_.weights, design_.hasConstant}, false, job_);
        if (!second) {
            return tl::make_unexpected(second.error());
        }
        slopes_ = second->coefficients;
        left_ = second->residuals;
        spread_ = D - left_;
        flat_ = static_cast<std::size_t>((spread_.array() <= 0.0).count());
        total_ = 0.0;
        for (Index i = 0; i < D.size(); ++i) {
            if (spread_(i) > 0.0) {
                order_.push_back(i);
                total_ += w_(i) * spread_(i);
            }
        }
        if (order_.size() < 3) {
            return refuse(ErrorCode::NoVariation,
                          "the terms and what is held fixed leave nothing of the outcome", "method",
                          "Hold less fixed.");
        }
        std::sort(order_.begin(), order_.end(),
                  [&](Index a, Index b) { return R_(a) / spread_(a) < R_(b) / spread_(b); });
        return {};
    }

    /// q of Σ wσ(τ − 1{R ≤ qσ}) = 0.
    [[nodiscard]] double placeOf(double tau) const {
        double sum = 0.0;
        for (const Index i : order_) {
            sum += w_(i) * spread_(i);
            if (sum >= tau * total_) {
                return R_(i) / spread_(i);
            }
        }
        return R_(order_.back()) / spread_(order_.back());
    }

    /// Density of U = R/σ at q, by a normal kernel with the width of Silverman (1986).
    [[nodiscard]] double densityAt(double q, double& width) const {
        VectorXd u(static_cast<Index>(order_.size()));
        VectorXd counts = VectorXd::Ones(u.size());
        for (Index j = 0; j < u.size(); ++j) {
            const Index i = order_[static_cast<std::size_t>(j)];
            u(j) = R_(i) / spread_(i);
            counts(j) = counted_ ? w_(i) : 1.0;
        }
        const double n = counts.sum();
        const double mean = counts.dot(u) / n;
        const double squares = counts.dot((u.array() - mean).square().matrix()) / (n - 1.0);
        const VectorXd each = counted_ ? counts : VectorXd();
        const double quartiles =
            (countedQuantile(u, each, 0.75) - countedQuantile(u, each, 0.25)) / 1.34;
        width = 0.9 * std::min(std::sqrt(squares), quartiles > 0.0 ? quartiles : 1e300) *
                std::pow(n, -0.2);
        double sum = 0.0;
        double weights = 0.0;
        for (Index j = 0; j < u.size(); ++j) {
            const double z = (u(j) - q) / width;
            const double w = w_(order_[static_cast<std::size_t>(j)]);
            sum += w * std::exp(-0.5 * z * z);
            weights += w;
        }
        return sum / (weights * width * std::sqrt(2.0 * std::numbers::pi));
    }

    /// Coefficients at a point and what each row moves them by (n × k), without its weight.
    MatrixXd influenceAt(double tau, QuantileFit::Point& point) const {
        const double q = placeOf(tau);
        const double f = densityAt(q, point.bandwidth);
        point.b = middle_ + q * slopes_;
        point.sparsity = 1.0 / f;
        const VectorXd weighed = R_ + q * left_;
        VectorXd place(R_.size());
        for (Index i = 0; i < place.size(); ++i) {
            // By the quotient that q itself is one of: no rounding puts its row on the other side.
            const double sign = tau - (R_(i) / spread_(i) <= q ? 1.0 : 0.0);
            const double own = spread_(i) > 0.0 ? spread_(i) * sign / f : 0.0;
            place(i) = (own - weighed(i)) / total_;
        }
        const MatrixXd X = design_.X(Eigen::all, kept_);
        return weighed.asDiagonal() * (X * inverse_) + place * slopes_.transpose();
    }

    Result<Covariance> covarianceOfAll(const MatrixXd& influence, double left) const {
        ErrorSpec errors = errors_;
        // Errors of one spread are what this line of the spread is there to leave behind.
        if (errors.kind == "classical" || errors.kind == "density" || errors.kind == "kernel") {
            errors = ErrorSpec{"robust", "HC1", {}};
        }
        return covarianceOfScores(design_, influence,
                                  MatrixXd::Identity(influence.cols(), influence.cols()), {},
                                  rowsStoodFor(design_), left, errors, alpha_, job_);
    }

    void describe(const std::vector<double>& points, QuantileFit& told, Fit& fit) const {
        const auto check = [&](double tau, const VectorXd& r) {
            double sum = 0.0;
            for (Index i = 0; i < r.size(); ++i) {
                sum += w_(i) * r(i) * (tau - (r(i) < 0.0 ? 1.0 : 0.0));
            }
            return sum;
        };
        const VectorXd& y = design_.before->y;
        for (std::size_t p = 0; p < points.size(); ++p) {
            QuantileFit::Point& point = told.points[p];
            point.objective = check(point.at, R_ - placeOf(point.at) * spread_);
            const double alone = countedQuantile(y, counted_ ? w_ : VectorXd(), point.at);
            const double none = check(point.at, y.array() - alone);
            point.goodness = none > 0.0 ? 1.0 - point.objective / none : 0.0;
        }
        told.crossing = points.size() > 1 ? flat_ : 0;
        const Index k = middle_.size();
        const double critical = criticalValue(alpha_, std::nullopt);
        std::vector<VectorXd> b;
        std::vector<VectorXd> se;
        for (std::size_t t = 1; t < kProcessPlaces && !job_.stopped(); ++t) {
            QuantileFit::Point one;
            const double tau = static_cast<double>(t) / kProcessPlaces;
            const auto V = covarianceOfAll(influenceAt(tau, one), fit.dfResidual);
            if (V) {
                told.process.at.push_back(tau);
                b.push_back(one.b);
                se.push_back(V->matrix.diagonal().cwiseMax(0.0).cwiseSqrt());
            }
        }
        const auto m = static_cast<Index>(told.process.at.size());
        told.process.b.resize(m, k);
        told.process.low.resize(m, k);
        told.process.high.resize(m, k);
        for (Index t = 0; t < m; ++t) {
            const auto at = static_cast<std::size_t>(t);
            told.process.b.row(t) = b[at].transpose();
            told.process.low.row(t) = (b[at] - critical * se[at]).transpose();
            told.process.high.row(t) = (b[at] + critical * se[at]).transpose();
        }
        std::vector<Index> terms;
        for (Index j = 0; j < k; ++j) {
            if (design_.columns[static_cast<std::size_t>(kept_[static_cast<std::size_t>(j)])]
                    .term >= 0) {
                terms.push_back(j);
            }
        }
        // Slopes are the same at all points where the terms do not move the spread.
        const MatrixXd X = design_.X(Eigen::all, kept_);
        const auto V = covarianceOfAll(left_.asDiagonal() * (X * inverse_), fit.dfResidual);
        if (V && !terms.empty() && points.size() > 1) {
            if (const auto f = waldF(slopes_(terms), V->matrix(terms, terms))) {
                const auto df = static_cast<double>(terms.size());
                told.equal = FTest{*f, df, std::numeric_limits<double>::infinity(),
                                   fTail(*f, df, std::nullopt)};
            }
        }
        if (const auto least = fitLeastSquares(design_, ErrorSpec{}, alpha_, job_)) {
            told.leastSquares = least->coefficients;
        }
        fit.statistics.rSquared.reset();
        fit.notes.emplace_back(
            "With effects held fixed each quantile is the mean moved by its place in the spread "
            "(Machado & Santos Silva 2019): a term moves all quantiles by one line for the middle "
            "and one for the spread. It rests on many rows in each group.");
        if (flat_ > 0) {
            fit.notes.push_back("In " + plural(flat_, "row", "rows") +
                                " the line of the spread is not above zero: they do not tell the "
                                "place of a quantile, and quantiles cross there.");
        }
        if (errors_.kind == "classical" || errors_.kind == "density" || errors_.kind == "kernel") {
            fit.errorNote = "robust: both lines together";
        }
    }

    const Design& design_;
    const ErrorSpec& errors_;
    double alpha_;
    const Job& job_;
    VectorXd w_;
    bool counted_ = design_.weightKind == WeightKind::Frequency;  ///< A row stands for w rows.
    std::vector<Index> kept_;
    std::vector<DroppedTerm> dropped_;
    VectorXd middle_;  ///< Coefficients of the mean …
    VectorXd slopes_;  ///< … and of the spread.
    VectorXd R_;       ///< What the mean leaves.
    VectorXd left_;    ///< What the spread leaves of D.
    VectorXd spread_;
    MatrixXd inverse_;          ///< (X'WX)⁻¹ of the swept columns.
    std::vector<Index> order_;  ///< Rows with a spread above zero, by R/σ.
    double total_ = 0.0;        ///< Σ wσ over them.
    std::size_t flat_ = 0;
};

}  // namespace

Result<Fit> fitQuantileWithEffects(const Design& design, const std::vector<double>& points,
                                   const ErrorSpec& errors, double alpha, const Job& job) {
    for (const SweptGrouping& effects : design.effects) {
        if (effects.slopes.cols() > 0) {
            return refuse(ErrorCode::NotBuilt,
                          "slopes of their own are not built for quantiles yet", "held fixed",
                          "Leave the slopes out.");
        }
    }
    return SpreadLine(design, errors, alpha, job).run(points);
}

}  // namespace rapporto
