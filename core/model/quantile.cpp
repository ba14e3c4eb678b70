#include "core/model/quantile.h"

#include "core/base/format.h"
#include "core/base/parallel.h"
#include "core/model/likelihood.h"
#include "core/model/reweighted.h"
#include "core/numerics/distributions.h"
#include "core/numerics/quantile_solution.h"
#include "core/numerics/sample_quantile.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <memory>
#include <numbers>
#include <numeric>
#include <optional>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr Index kProcessRows = 100000;

/// How many rows each one stands for; empty: itself.
VectorXd countsOf(const Design& design) {
    return design.weightKind == WeightKind::Frequency ? design.weights : VectorXd();
}

/// A point solved, with what its errors are made of.
struct Solved {
    QuantileSolution at;
    double tau = 0.5;
    double bandwidth = 0.0;
    double sparsity = 0.0;
    MatrixXd bread;    ///< D⁻¹ of the sandwich, D = Σ w f q q' of orthonormal columns.
    bool few = false;  ///< Under ten rows lie beyond it.
};

class QuantileFitter {
  public:
    QuantileFitter(const Design& design, const ErrorSpec& errors, double alpha, const Job& job)
        : design_(design), errors_(errors), alpha_(alpha), job_(job) {}

    Result<Fit> run(std::vector<double> points) {
        auto columns = independentColumns(design_.X, design_.columns, design_.hasConstant, job_);
        if (!columns) {
            return tl::make_unexpected(columns.error());
        }
        kept_ = columns->kept;
        X_ = design_.X(Eigen::all, kept_);
        if (auto done = turn(); !done) {
            return tl::make_unexpected(done.error());
        }
        const double n = rowsStoodFor(design_);
        const Index k = X_.cols();
        if (X_.rows() <= k) {
            return refuse(ErrorCode::TooFewRows,
                          plural(design_.counts.used, "row", "rows") + " cannot carry " +
                              plural(static_cast<std::size_t>(k), "coefficient", "coefficients"),
                          "sample", "Take terms out or widen the sample.");
        }
        for (const double tau : points) {
            auto one = solved(tau);
            if (!one) {
                return tl::make_unexpected(one.error());
            }
            points_.push_back(*std::move(one));
        }
        auto covariance = jointCovariance();
        if (!covariance) {
            return tl::make_unexpected(covariance.error());
        }
        Fit fit;
        fit.n = n;
        fit.dfResidual = n - static_cast<double>(k);
        fit.dropped = std::move(columns->dropped);
        for (const Solved& one : points_) {
            for (Index j = 0; j < k; ++j) {
                const Index column = kept_[static_cast<std::size_t>(j)];
                const DesignColumn& info = design_.columns[static_cast<std::size_t>(column)];
                Coefficient c;
                c.term = info.name;
                c.label = info.label;
                c.column = column;
                c.designTerm = info.term;
                c.equation = "quantile " + exactNumber(one.tau);
                c.estimate = one.at.coefficients(j);
                fit.coefficients.push_back(std::move(c));
            }
        }
        replaceCovariance(fit, design_, *std::move(covariance), alpha_);
        const Solved& first = points_.front();
        fit.residuals = first.at.residuals;
        fit.fitted = design_.y - fit.residuals;
        fit.leverage = VectorXd::Zero(X_.rows());
        fit.solution.kept = kept_;
        fit.solution.coefficients = first.at.coefficients;
        fit.solution.residuals = fit.residuals;
        fit.solution.factor = MatrixXd::Identity(k, k);
        FitStatistics& s = fit.statistics;
        s.sigma = s.rss = s.tss = std::numeric_limits<double>::quiet_NaN();
        describe(fit);
        return fit;
    }

    /// The effects along the whole distribution, of a fit that run() made.
    QuantileFit::Process process(const Fit& fit) {
        kept_ = fit.solution.kept;
        X_ = design_.X(Eigen::all, kept_);
        return turn() ? wholeProcess() : QuantileFit::Process();
    }

  private:
    /// The columns made orthonormal, so that errors do not lose what the place of a term costs.
    Result<void> turn() {
        auto least =
            solveLinear({X_, design_.y, design_.weights, design_.hasConstant}, false, job_);
        if (!least) {
            return tl::make_unexpected(least.error());
        }
        if (static_cast<Index>(least->kept.size()) != X_.cols() ||
            isRounding({X_, design_.y, design_.weights, design_.hasConstant}, *least)) {
            return refuse(ErrorCode::NothingToTell,
                          "the terms tell ‘" + design_.outcome +
                              "’ exactly: all quantiles are one, and none has an error",
                          "terms", "Is one of them the outcome in another form? Take it out.",
                          {design_.outcome});
        }
        Q_ = orthonormalColumns(X_, *least);
        F_ = least->factor;
        return {};
    }

    Result<Solved> solved(double tau) {
        auto at = solveQuantile(X_, design_.y, design_.weights, tau, job_);
        if (!at) {
            return tl::make_unexpected(at.error());
        }
        Solved out;
        out.tau = tau;
        out.at = *std::move(at);
        const double n = rowsStoodFor(design_);
        // Beyond its last rows a sample says nothing of a law.
        constexpr double kFewest = 1.0;
        constexpr double kFew = 10.0;
        const double beyond = n * std::min(tau, 1.0 - tau);
        if (beyond < kFewest - 1e-9) {
            return refuse(ErrorCode::TooFewRows,
                          "beyond the quantile " + shortNumber(tau) + " lie about " +
                              shortNumber(beyond, 2) + " of " +
                              countText(static_cast<std::size_t>(n)) +
                              " rows: its errors would be made up",
                          "method", "Ask for a point that ten rows lie beyond.");
        }
        out.few = beyond < kFew - 1e-9;
        out.bandwidth = hallSheather(n, tau, alpha_);
        // Near an end the band is as wide as there is room.
        const double room = std::min(tau, 1.0 - tau);
        const double h = std::min(out.bandwidth, 0.999 * room);
        const VectorXd& r = out.at.residuals;
        const auto place = [&](double p) { return residualQuantile(r, p); };
        out.sparsity = (place(tau + h) - place(tau - h)) / (2.0 * h);
        const VectorXd counted = design_.weightKind == WeightKind::Frequency
                                     ? design_.weights
                                     : VectorXd(VectorXd::Ones(r.size()));
        const double middle = counted.dot(r) / n;
        const double sd =
            std::sqrt(counted.dot((r.array() - middle).square().matrix()) / (n - 1.0));
        const double spread = (place(0.75) - place(0.25)) / 1.349;
        double c = std::min(sd, spread > 0.0 ? spread : sd) *
                   (normalQuantile(tau + h) - normalQuantile(tau - h));
        const VectorXd w = rowWeights(design_);
        MatrixXd D;
        for (int wider = 0; wider < 30; ++wider, c *= 1.5) {
            VectorXd f = VectorXd::Zero(r.size());
            for (Index i = 0; i < r.size(); ++i) {
                f(i) = std::abs(r(i)) <= c ? w(i) / (2.0 * c) : 0.0;
            }
            D = Q_.transpose() * f.asDiagonal() * Q_;
            const VectorXd unit = D.diagonal().cwiseMax(0.0).cwiseSqrt().unaryExpr(
                [](double v) { return v > 0.0 ? 1.0 / v : 0.0; });
            const Eigen::LDLT<MatrixXd> ldlt(unit.asDiagonal() * D * unit.asDiagonal());
            // Wide enough that the rows within it carry every coefficient.
            if (unit.minCoeff() > 0.0 && ldlt.info() == Eigen::Success &&
                ldlt.vectorD().minCoeff() > 1e-10) {
                out.bread = unit.asDiagonal() * ldlt.solve(MatrixXd::Identity(D.rows(), D.cols())) *
                            unit.asDiagonal();
                break;
            }
        }
        if (out.bread.size() == 0) {
            return refuse(
                ErrorCode::TooFewRows,
                "too few rows lie near the quantile " + shortNumber(tau) + " to tell its errors",
                "errors", "Take a term out that varies in few rows, or draw rows anew.");
        }
        return out;
    }

    /// The quantile of residuals, of the rows they stand for under frequency weights.
    [[nodiscard]] double residualQuantile(const VectorXd& r, double p) const {
        return countedQuantile(r, countsOf(design_), p);
    }

    /// Covariance of all points together.
    Result<Covariance> jointCovariance() {
        const Index k = X_.cols();
        const auto m = static_cast<Index>(points_.size());
        const VectorXd w = rowWeights(design_);
        Covariance out;
        out.df = std::numeric_limits<double>::infinity();
        const bool independent = errors_.kind == "classical" || errors_.kind == "density";
        const bool sandwich = errors_.kind == "kernel" || errors_.kind == "robust";
        if (independent || sandwich) {
            out.matrix.resize(m * k, m * k);
            // Q is orthonormal under the weights. A row that counts for w rows adds w, another w².
            const VectorXd by =
                design_.weightKind == WeightKind::Frequency ? w : VectorXd(w.cwiseAbs2());
            const MatrixXd meat = Q_.transpose() * by.asDiagonal() * Q_;
            for (Index a = 0; a < m; ++a) {
                for (Index b = 0; b < m; ++b) {
                    const Solved& s = points_[static_cast<std::size_t>(a)];
                    const Solved& t = points_[static_cast<std::size_t>(b)];
                    const double both = std::min(s.tau, t.tau) - s.tau * t.tau;
                    out.matrix.block(a * k, b * k, k, k) =
                        independent
                            ? MatrixXd(both * s.sparsity * t.sparsity *
                                       (F_ * meat * F_.transpose()))
                            : MatrixXd(both * (F_ * (s.bread * meat * t.bread) * F_.transpose()));
                }
            }
            return out;
        }
        if (errors_.kind != "clustered" && errors_.kind != "survey" &&
            errors_.kind != "panel-autocorrelation") {
            return refuse(ErrorCode::BadSetting,
                          "errors " + errors_.shown() + " do not go with quantiles", "errors",
                          "Choose the sandwich, clusters, or draws.");
        }
        // Scores x ψ of all points side by side, for the formulas of least squares.
        MatrixXd scores(X_.rows(), m * k);
        MatrixXd factor = MatrixXd::Zero(m * k, m * k);
        MatrixXd outer = MatrixXd::Zero(m * k, m * k);
        for (Index a = 0; a < m; ++a) {
            const Solved& s = points_[static_cast<std::size_t>(a)];
            VectorXd psi(X_.rows());
            for (Index i = 0; i < psi.size(); ++i) {
                psi(i) = s.tau - (s.at.residuals(i) < 0.0 ? 1.0 : 0.0);
            }
            scores.middleCols(a * k, k) = psi.asDiagonal() * Q_;
            // bread = L L': V = F L (L' meat L) L' F'.
            const MatrixXd L = Eigen::LLT<MatrixXd>(s.bread).matrixL();
            factor.block(a * k, a * k, k, k) = L;
            outer.block(a * k, a * k, k, k) = F_ * L;
        }
        LinearSolution s;
        s.factor = outer;
        s.centredFactor = factor;
        s.centre = VectorXd::Zero(m * k);
        s.residuals = VectorXd::Ones(X_.rows());
        for (Index j = 0; j < m * k; ++j) {
            s.kept.push_back(j);
        }
        const VectorXd none = VectorXd::Zero(X_.rows());
        const LinearProblem problem{scores, design_.y, design_.weights, false};
        const double n = rowsStoodFor(design_);
        auto found = covarianceOf(
            {design_, problem, s, none, n, n - static_cast<double>(k), alpha_, job_}, errors_);
        if (found) {
            found->df = std::numeric_limits<double>::infinity();
        }
        return found;
    }

    void describe(Fit& fit) {
        auto told = std::make_shared<QuantileFit>();
        const MatrixXd one = MatrixXd::Ones(X_.rows(), 1);
        for (const Solved& s : points_) {
            QuantileFit::Point point;
            point.at = s.tau;
            point.objective = s.at.objective;
            point.bandwidth = s.bandwidth;
            point.sparsity = s.sparsity;
            point.pivots = s.at.pivots;
            point.manifold = s.at.manifold;
            point.b = s.at.coefficients;
            const auto alone = solveQuantile(one, design_.y, design_.weights, s.tau, job_);
            point.goodness =
                alone && alone->objective > 0.0 ? 1.0 - s.at.objective / alone->objective : 0.0;
            told->points.push_back(std::move(point));
        }
        for (const Solved& s : points_) {
            if (s.few) {
                fit.notes.push_back("Under ten rows lie beyond the quantile " + shortNumber(s.tau) +
                                    ": its interval may hold the truth half as often as it says.");
            }
        }
        fit.statistics.rSquared.reset();
        countCrossings(*told);
        testEquality(fit, *told);
        if (told->crossing > 0) {
            fit.notes.push_back("In " + plural(told->crossing, "row", "rows") +
                                " a lower quantile lies above a higher one: predictions are put in "
                                "order (Chernozhukov, Fernández-Val & Galichon 2010).");
        }
        if (told->points.front().manifold) {
            fit.notes.emplace_back(
                "Other lines do as well on these rows: the one shown is one of "
                "several that are best.");
        }
        fit.quantile = std::move(told);
    }

    void countCrossings(QuantileFit& told) const {
        std::vector<const Solved*> order;
        for (const Solved& s : points_) {
            order.push_back(&s);
        }
        std::sort(order.begin(), order.end(),
                  [](const Solved* a, const Solved* b) { return a->tau < b->tau; });
        const double unit = 1e-9 * (design_.y.cwiseAbs().maxCoeff() + 1e-300);
        for (Index i = 0; i < X_.rows(); ++i) {
            bool crosses = false;
            for (std::size_t q = 1; q < order.size(); ++q) {
                crosses =
                    crosses || order[q]->at.residuals(i) > order[q - 1]->at.residuals(i) + unit;
            }
            told.crossing += crosses ? 1 : 0;
        }
    }

    void testEquality(const Fit& fit, QuantileFit& told) const {
        const Index k = X_.cols();
        const auto m = static_cast<Index>(points_.size());
        std::vector<Index> slopes;
        for (Index j = 0; j < k; ++j) {
            if (design_.columns[static_cast<std::size_t>(kept_[static_cast<std::size_t>(j)])]
                    .term >= 0) {
                slopes.push_back(j);
            }
        }
        if (m < 2 || slopes.empty()) {
            return;
        }
        const auto q = static_cast<Index>(slopes.size());
        MatrixXd D = MatrixXd::Zero((m - 1) * q, m * k);
        VectorXd b(m * k);
        for (Index a = 0; a < m; ++a) {
            b.segment(a * k, k) = points_[static_cast<std::size_t>(a)].at.coefficients;
        }
        for (Index a = 1; a < m; ++a) {
            for (Index j = 0; j < q; ++j) {
                D((a - 1) * q + j, slopes[static_cast<std::size_t>(j)]) = 1.0;
                D((a - 1) * q + j, a * k + slopes[static_cast<std::size_t>(j)]) = -1.0;
            }
        }
        if (const auto f = waldF(D * b, D * fit.covariance * D.transpose())) {
            const auto df = static_cast<double>(D.rows());
            told.equal =
                FTest{*f, df, std::numeric_limits<double>::infinity(), fTail(*f, df, std::nullopt)};
        }
    }

    [[nodiscard]] QuantileFit::Process wholeProcess() const {
        constexpr int kGrid = 20;

        struct Place {
            VectorXd b;
            VectorXd se;
        };

        std::vector<std::optional<Place>> places(kGrid - 1);
        inParallel(places.size(), [&](std::size_t t) {
            if (job_.stopped()) {
                return;
            }
            QuantileFitter own = *this;
            auto one = own.solved(static_cast<double>(t + 1) / kGrid);
            if (!one) {
                return;
            }
            own.points_ = {*std::move(one)};
            if (const auto V = own.jointCovariance()) {
                places[t] = Place{own.points_.front().at.coefficients,
                                  V->matrix.diagonal().cwiseMax(0.0).cwiseSqrt()};
            }
        });
        QuantileFit::Process out;
        const double critical = criticalValue(alpha_, std::nullopt);
        const auto m = std::count_if(places.begin(), places.end(),
                                     [](const auto& p) { return p.has_value(); });
        out.b.resize(m, X_.cols());
        out.low.resize(m, X_.cols());
        out.high.resize(m, X_.cols());
        for (std::size_t t = 0; t < places.size(); ++t) {
            if (places[t]) {
                const auto at = static_cast<Index>(out.at.size());
                out.at.push_back(static_cast<double>(t + 1) / kGrid);
                out.b.row(at) = places[t]->b.transpose();
                out.low.row(at) = (places[t]->b - critical * places[t]->se).transpose();
                out.high.row(at) = (places[t]->b + critical * places[t]->se).transpose();
            }
        }
        return out;
    }

    const Design& design_;
    const ErrorSpec& errors_;
    double alpha_;
    const Job& job_;
    std::vector<Index> kept_;
    MatrixXd X_;
    MatrixXd Q_;  ///< The same columns, orthonormal under the weights: X = Q F⁻¹.
    MatrixXd F_;
    std::vector<Solved> points_;
};

}  // namespace

void describeQuantiles(Fit& fit, const Design& design, const ErrorSpec& errors, double alpha,
                       const Job& job) {
    if (!fit.quantile || !design.effects.empty()) {
        return;
    }
    auto told = std::make_shared<QuantileFit>(*fit.quantile);
    if (const auto least = fitLeastSquares(design, ErrorSpec{}, alpha, job)) {
        told->leastSquares = least->coefficients;
    }
    if (design.y.size() <= kProcessRows) {
        told->process = QuantileFitter(design, errors, alpha, job).process(fit);
    } else {
        fit.notes.push_back("Effects along the whole distribution are worked out for up to " +
                            countText(static_cast<std::size_t>(kProcessRows)) +
                            " rows: ask for several points here.");
    }
    fit.quantile = std::move(told);
}

double hallSheather(double n, double tau, double alpha) {
    const double z = normalQuantile(tau);
    const double f = normalDensity(z);
    return std::pow(n, -1.0 / 3.0) * std::pow(normalQuantile(1.0 - alpha / 2.0), 2.0 / 3.0) *
           std::pow(1.5 * f * f / (2.0 * z * z + 1.0), 1.0 / 3.0);
}

Result<Fit> fitQuantile(const Design& design, const EstimatorSettings& settings,
                        const ErrorSpec& errors, double alpha, const Job& job) {
    std::vector<double> points = settings.at.empty() ? std::vector<double>{0.5} : settings.at;
    for (const double tau : points) {
        if (!(tau > 0.0 && tau < 1.0)) {
            return refuse(ErrorCode::BadSetting, shortNumber(tau) + " is no quantile", "method",
                          "Points lie between 0 and 1: .5 is the median.");
        }
    }
    return design.effects.empty() ? QuantileFitter(design, errors, alpha, job).run(points)
                                  : fitQuantileWithEffects(design, points, errors, alpha, job);
}

}  // namespace rapporto
