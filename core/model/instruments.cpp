#include "core/model/instruments.h"

#include "core/base/format.h"
#include "core/base/large_memory.h"
#include "core/base/parallel.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <cmath>
#include <functional>
#include <limits>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

VectorXd rootsOf(const Design& design) {
    return design.weights.size() > 0 ? VectorXd(design.weights.cwiseSqrt())
                                     : VectorXd::Ones(design.y.size());
}

/// @param first  W as a design without its columns, whose outcome is set here.
/// @param solution  of the outcome on W.
FirstStage stageOf(Design& first, const InstrumentParts& parts, const std::string& name,
                   const Eigen::Ref<const VectorXd>& outcome,
                   const Result<LinearSolution>& solution, const ErrorSpec& errors, double alpha,
                   const Job& job) {
    FirstStage out;
    out.endogenous = name;
    if (!solution) {
        return out;
    }
    first.y = outcome;
    std::vector<Index> excluded;
    for (std::size_t j = 0; j < parts.excluded.size(); ++j) {
        excluded.push_back(static_cast<Index>(parts.exogenous.size() + j));
    }
    GivenSolution given{parts.W, *solution};
    given.likelihood = true;
    const auto fit = fitGiven(first, std::move(given), errors, alpha, job);
    if (!fit || fit->coefficients.size() != parts.columns.size()) {
        return out;
    }
    VectorXd b(static_cast<Index>(excluded.size()));
    for (std::size_t j = 0; j < excluded.size(); ++j) {
        b(static_cast<Index>(j)) =
            fit->coefficients[static_cast<std::size_t>(excluded[j])].estimate;
    }
    const double q = static_cast<double>(excluded.size());
    const auto tested = [&](const MatrixXd& V, double df2) -> std::optional<FTest> {
        const auto f = waldF(b, V(excluded, excluded));
        return f && df2 >= 1.0 ? std::optional(FTest{*f, q, df2, fTail(*f, q, df2)}) : std::nullopt;
    };
    const MatrixXd& F = fit->solution.factor;
    out.coefficients = fit->coefficients;
    out.covariance = fit->covariance;
    out.rSquared = fit->statistics.within.value_or(fit->statistics.rSquared.value_or(0.0));
    out.classicalF =
        tested(fit->statistics.sigma * fit->statistics.sigma * F * F.transpose(), fit->dfResidual);
    if (out.classicalF) {
        // The share of what the exogenous columns leave: qF/(qF + n − k).
        const double gained = q * out.classicalF->value;
        out.partialRSquared = gained / (gained + fit->dfResidual);
    }
    out.f = tested(fit->covariance, fit->coefficients.front().df.value_or(fit->dfResidual));
    return out;
}

std::shared_ptr<InstrumentedFit> toldOf(std::shared_ptr<const InstrumentParts> parts) {
    auto out = std::make_shared<InstrumentedFit>();
    out->excluded = static_cast<int>(parts->excluded.size());
    out->endogenous = static_cast<int>(parts->endogenous.size());
    out->idle = parts->idle;
    out->parts = std::move(parts);
    return out;
}

/// Two-stage least squares: the solution on the projected columns with the residuals of the
/// structural equation.
struct TwoStage {
    MatrixXd projected;   ///< Endogenous columns as the instruments have them, n × g.
    ColumnsView columns;  ///< design.X with these in their places.
    LinearSolution solution;
};

Result<TwoStage> twoStage(const Design& design, const InstrumentParts& parts, const Job& job) {
    TwoStage out;
    const auto g = static_cast<Index>(parts.endogenous.size());
    out.projected = largeMatrix(design.y.size(), g);
    out.columns = ColumnsView(design.X);
    for (Index j = 0; j < g; ++j) {
        const Index column = parts.endogenous[static_cast<std::size_t>(j)];
        out.projected.col(j) = design.X.col(column) - parts.left.col(j);
        out.columns.replace(column, out.projected.col(j).data());
    }
    auto solution =
        solveLinear({out.columns, design.y, design.weights, design.hasConstant}, false, job);
    if (!solution) {
        return tl::make_unexpected(solution.error());
    }
    out.solution = *std::move(solution);
    LinearSolution& s = out.solution;
    for (Index j = 0; j < g; ++j) {
        const Index column = parts.endogenous[static_cast<std::size_t>(j)];
        const auto at = std::find(s.kept.begin(), s.kept.end(), column);
        if (at == s.kept.end()) {
            const std::string name = design.columns[static_cast<std::size_t>(column)].name;
            return refuse(ErrorCode::RankDeficient,
                          "the instruments do not move ‘" + name + "’ apart from the other terms",
                          "instruments", "Find an instrument that moves it, or take a term out.",
                          {name});
        }
        // What the instruments leave of the column belongs to the equation.
        s.residuals -= s.coefficients(at - s.kept.begin()) * parts.left.col(j);
    }
    return out;
}

/// Moves a two-stage solution by F·step where F is its factor, the residuals along.
void moveBy(const Design& design, LinearSolution& s, const VectorXd& step) {
    const VectorXd change = s.factor * step;
    s.coefficients += change;
    for (std::size_t j = 0; j < s.kept.size(); ++j) {
        s.residuals -= change(static_cast<Index>(j)) * design.X.col(s.kept[j]);
    }
}

/// What the columns of the exogenous part leave of a column, times root weights.
VectorXd leftOf(const Design& design, const MatrixXd& exogenous, const VectorXd& y) {
    VectorXd left = y;
    if (exogenous.cols() > 0) {
        const auto solution =
            solveLinear({exogenous, y, design.weights, design.hasConstant}, false, Job());
        left = solution->residuals;
    }
    return left.cwiseProduct(rootsOf(design));
}

/// The smallest root of |Y'M₁Y − κ Y'MY| = 0 for Y = [y, endogenous].
double limlRoot(const Design& design, const InstrumentParts& parts) {
    const auto g = static_cast<Index>(parts.endogenous.size());
    const MatrixXd exogenous = design.X(Eigen::all, parts.exogenous);
    MatrixXd outer(design.y.size(), g + 1);
    MatrixXd inner(design.y.size(), g + 1);
    outer.col(0) = leftOf(design, exogenous, design.y);
    const auto onW =
        solveOther({parts.W, design.y, design.weights, design.hasConstant}, parts.onW, Job());
    inner.col(0) = onW->residuals.cwiseProduct(rootsOf(design));
    for (Index j = 0; j < g; ++j) {
        outer.col(j + 1) =
            leftOf(design, exogenous, design.X.col(parts.endogenous[static_cast<std::size_t>(j)]));
        inner.col(j + 1) = parts.left.col(j).cwiseProduct(rootsOf(design));
    }
    // Units out of the way, then the roots of the pencil.
    const VectorXd unit = outer.colwise().norm().cwiseInverse();
    outer = outer * unit.asDiagonal();
    inner = inner * unit.asDiagonal();
    const MatrixXd A = outer.transpose() * outer;
    const MatrixXd B = inner.transpose() * inner;
    const Eigen::GeneralizedSelfAdjointEigenSolver<MatrixXd> roots(A, B, Eigen::EigenvaluesOnly);
    return std::max(1.0, roots.eigenvalues().minCoeff());
}

Result<Fit> kClass(const Design& design, const ErrorSpec& errors, double alpha, const Job& job,
                   const std::function<double(const InstrumentParts&)>& kappaOf) {
    if (errors.kind == "bootstrap") {
        return refuse(ErrorCode::NotBuilt, "errors by drawing are not built for instruments yet",
                      "errors", "Use robust or clustered errors.");
    }
    auto found = instrumentParts(design, job);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    const auto parts = std::make_shared<const InstrumentParts>(*std::move(found));
    auto stage = twoStage(design, *parts, job);
    if (!stage) {
        return tl::make_unexpected(stage.error());
    }
    LinearSolution& s = stage->solution;
    const double kappa = kappaOf(*parts);
    if (kappa != 1.0) {
        // V'V in the basis of the two-stage solution: only endogenous columns leave something.
        const VectorXd root = rootsOf(design);
        MatrixXd V = MatrixXd::Zero(design.y.size(), static_cast<Index>(s.kept.size()));
        for (std::size_t j = 0; j < s.kept.size(); ++j) {
            const auto at =
                std::find(parts->endogenous.begin(), parts->endogenous.end(), s.kept[j]);
            if (at != parts->endogenous.end()) {
                V.col(static_cast<Index>(j)) = root.cwiseProduct(
                    parts->left.col(static_cast<Index>(at - parts->endogenous.begin())));
            }
        }
        const MatrixXd VF = V * s.factor;
        const double by = 1.0 - kappa;
        const MatrixXd inner =
            MatrixXd::Identity(VF.cols(), VF.cols()) + by * (VF.transpose() * VF);
        const Eigen::LLT<MatrixXd> llt(inner);
        if (llt.info() != Eigen::Success) {
            return refuse(ErrorCode::RankDeficient,
                          "the instruments are too weak for this estimator: its equations have no "
                          "solution",
                          "instruments", "Use two-stage least squares, or other instruments.");
        }
        const VectorXd e = root.cwiseProduct(s.residuals);
        const VectorXd step = llt.solve(by * (VF.transpose() * e));
        moveBy(design, s, step);
        // F L⁻ᵀ for inner = L L'.
        const MatrixXd turn =
            llt.matrixL().solve(MatrixXd::Identity(VF.cols(), VF.cols())).transpose();
        s.factor = s.factor * turn;
        s.centredFactor = s.centredFactor * turn;
    }
    auto fit = fitGiven(design, {stage->columns, std::move(s)}, errors, alpha, job);
    if (fit) {
        auto told = toldOf(parts);
        told->kappa = kappa;
        fit->instrumented = std::move(told);
    }
    return fit;
}

/// GMM on orthonormal instruments P: moments P'e, e = e₀ − X F u.
class Gmm {
  public:
    Gmm(const Design& design, const InstrumentParts& parts, TwoStage start, const ErrorSpec& errors,
        const Job& job)
        : design_(design), parts_(parts), start_(std::move(start)), errors_(errors), job_(job) {
        const MatrixXd P = instrumentBasis(design, parts);
        const VectorXd root = rootsOf(design);
        const LinearSolution& s = start_.solution;
        g0_ = P.transpose() * root.cwiseProduct(s.residuals);
        XF_ = orthonormalColumns(design.X, s);
        N_ = P.transpose() * (root.asDiagonal() * XF_);
        // Residuals of a group held fixed sum to zero: in clusters that hold whole groups the
        // constant’s moment is zero in each, and would leave the weight without an inverse. The
        // constant then takes what the slopes leave.
        const bool whole =
            design.swept && design.hasConstant && !design.clusters.empty() &&
            errors.kind == "clustered" && !parts.exogenous.empty() &&
            parts.exogenous.front() == 0 &&
            std::any_of(design.effects.begin(), design.effects.end(), [&](const SweptGrouping& e) {
                return isNested(e, design.clusters.front());
            });
        if (whole) {
            aside_ = 1;
            g0_ = g0_.tail(g0_.size() - 1).eval();
            XF_ = XF_.rightCols(XF_.cols() - 1).eval();
            N_ = N_.bottomRightCorner(N_.rows() - 1, N_.cols() - 1).eval();
        }
        u_ = VectorXd::Zero(N_.cols());
    }

    [[nodiscard]] VectorXd residualsAt(const VectorXd& u) const {
        return start_.solution.residuals - XF_ * u;
    }

    [[nodiscard]] Result<Eigen::LDLT<MatrixXd>> weightAt(const VectorXd& u) const {
        auto S = momentVariance(design_, parts_, residualsAt(u), errors_, job_);
        if (!S) {
            return tl::make_unexpected(S.error());
        }
        Eigen::LDLT<MatrixXd> ldlt(withoutAside(*S));
        const VectorXd pivots = ldlt.vectorD();
        if (ldlt.info() != Eigen::Success || pivots.minCoeff() <= 1e-12 * pivots.maxCoeff()) {
            return refuse(ErrorCode::RankDeficient,
                          "the moments cannot be weighted: " + whyNot(pivots.size()), "instruments",
                          "Use two-stage least squares, or fewer instruments.");
        }
        return ldlt;
    }

    [[nodiscard]] VectorXd solveWith(const Eigen::LDLT<MatrixXd>& weight) const {
        const MatrixXd SN = weight.solve(N_);
        return (N_.transpose() * SN).ldlt().solve(SN.transpose() * g0_);
    }

    [[nodiscard]] double criterion(const VectorXd& u, const Eigen::LDLT<MatrixXd>& weight) const {
        const VectorXd g = g0_ - N_ * u;
        return g.dot(weight.solve(g));
    }

    /// @param steps  two, iterated or continuous.
    Result<void> run(const std::string& steps) {
        auto weight = weightAt(u_);
        if (!weight) {
            return tl::make_unexpected(weight.error());
        }
        u_ = solveWith(*weight);
        j_ = criterion(u_, *weight);
        rounds_ = 1;
        if (steps == "two") {
            return {};
        }
        constexpr int kMostRounds = 500;
        for (; rounds_ < kMostRounds; ++rounds_) {
            weight = weightAt(u_);
            if (!weight) {
                return tl::make_unexpected(weight.error());
            }
            const VectorXd next = solveWith(*weight);
            j_ = criterion(next, *weight);
            const double change = (next - u_).norm();
            u_ = next;
            if (change <= 1e-10 * scale()) {
                break;
            }
        }
        if (rounds_ == kMostRounds && steps == "iterated") {
            return refuse(ErrorCode::NotConverged,
                          "the weights and the estimates did not settle in 500 rounds", "method",
                          "Use two steps, or stronger instruments.");
        }
        return steps == "continuous" ? minimise() : Result<void>();
    }

    /// (X'ZS⁻¹Z'X)⁻¹ with S at the estimate and the factor of the kind of errors.
    Result<Covariance> covariance() const {
        const LinearProblem problem{parts_.W, design_.y, design_.weights, design_.hasConstant};
        LinearSolution s = parts_.onW;
        s.residuals = residualsAt(u_);
        s.scores = {};
        s.meat = {};
        s.residualSquares = rootsOf(design_).cwiseProduct(s.residuals).squaredNorm();
        s.factor = MatrixXd::Identity(s.centredFactor.rows(), s.centredFactor.cols());
        const double n = rowsStoodFor(design_);
        const VectorXd none = VectorXd::Zero(design_.y.size());
        auto V = covarianceOf(
            {design_, problem, s, none, n,
             n - static_cast<double>(N_.cols() + aside_) - design_.effectsRank, 0.05, job_},
            errors_);
        if (!V) {
            return V;
        }
        const MatrixXd S = withoutAside(V->matrix);
        const MatrixXd inner = (N_.transpose() * S.ldlt().solve(N_)).inverse();
        const MatrixXd F = start_.solution.factor.rightCols(inner.cols());
        V->matrix = F * inner * F.transpose();
        return V;
    }

    [[nodiscard]] double j() const { return j_; }

    [[nodiscard]] int rounds() const { return rounds_; }

    [[nodiscard]] VectorXd step() const {
        VectorXd all = VectorXd::Zero(u_.size() + aside_);
        all.tail(u_.size()) = u_;
        return all;
    }

    [[nodiscard]] TwoStage& start() { return start_; }

  private:
    [[nodiscard]] MatrixXd withoutAside(const MatrixXd& S) const {
        return S.bottomRightCorner(S.rows() - aside_, S.cols() - aside_);
    }

    /// Why the variance of the moments has no inverse.
    [[nodiscard]] std::string whyNot(Index moments) const {
        if (errors_.kind == "clustered" && design_.clusterCounts.size() > 1) {
            return "their covariance by two clusterings is not positive on these rows";
        }
        if (errors_.kind == "clustered" && design_.clusterCounts.front() <= moments) {
            return plural(static_cast<std::size_t>(design_.clusterCounts.front()), "cluster is",
                          "clusters are") +
                   " too few for " + plural(static_cast<std::size_t>(moments), "moment", "moments");
        }
        return "some of them vary together, or hardly at all";
    }

    /// A standard error along F, so that steps are measured by what can be told apart.
    [[nodiscard]] double scale() const {
        return std::sqrt(residualsAt(u_).squaredNorm() / static_cast<double>(design_.y.size()));
    }

    [[nodiscard]] double moving(const VectorXd& u) const {
        const auto weight = weightAt(u);
        return weight ? criterion(u, *weight) : std::numeric_limits<double>::infinity();
    }

    [[nodiscard]] VectorXd gradientAt(const VectorXd& u, double h) const {
        VectorXd gradient(u.size());
        for (Index j = 0; j < u.size(); ++j) {
            const auto at = [&](double by) {
                VectorXd moved = u;
                moved(j) += by * h;
                return moving(moved);
            };
            gradient(j) = (at(-2.0) - 8.0 * at(-1.0) + 8.0 * at(1.0) - at(2.0)) / (12.0 * h);
        }
        return gradient;
    }

    /// The criterion whose weight moves along, by a quasi-Newton method (Broyden, Fletcher,
    /// Goldfarb & Shanno 1970) that begins with the curvature of a fixed weight; slopes by five
    /// points.
    Result<void> minimise() {
        const double h = 1e-3 * scale();
        const Index k = u_.size();
        const auto weight = weightAt(u_);
        if (!weight) {
            return tl::make_unexpected(weight.error());
        }
        MatrixXd H = (2.0 * (N_.transpose() * weight->solve(N_))).inverse();
        const MatrixXd first = H;
        double here = moving(u_);
        VectorXd gradient = gradientAt(u_, h);
        for (rounds_ = 0; rounds_ < 500; ++rounds_) {
            if (job_.stopped()) {
                return refuse(ErrorCode::Stopped, "the computation was stopped");
            }
            VectorXd step = -(H * gradient);
            if (!(gradient.dot(step) < 0.0)) {
                H = first;
                step = -(H * gradient);
            }
            const double slope = gradient.dot(step);
            double by = 1.0;
            double next = moving(u_ + step);
            while (!(next <= here + 1e-4 * by * slope) && by > 1e-10) {
                by *= 0.5;
                next = moving(u_ + by * step);
            }
            // In the measure of the moments what is left of the slope is far under a chance event.
            if (!(next < here) || -slope < 1e-15) {
                if (-slope > 1e-8 ||
                    u_.norm() > 1e4 * scale() * std::sqrt(static_cast<double>(k))) {
                    break;
                }
                j_ = here;
                return {};
            }
            const VectorXd moved = by * step;
            u_ += moved;
            here = next;
            const VectorXd after = gradientAt(u_, h);
            const VectorXd turn = after - gradient;
            gradient = after;
            if (const double sy = moved.dot(turn); sy > 1e-14 * moved.norm() * turn.norm()) {
                const MatrixXd left = MatrixXd::Identity(k, k) - moved * turn.transpose() / sy;
                H = left * H * left.transpose() + moved * moved.transpose() / sy;
            }
        }
        return refuse(ErrorCode::NotConverged, "the moving weight led to no smallest criterion",
                      "method", "Use two steps, or stronger instruments.");
    }

    const Design& design_;
    const InstrumentParts& parts_;
    TwoStage start_;
    const ErrorSpec& errors_;
    const Job& job_;
    VectorXd g0_;
    MatrixXd XF_;
    MatrixXd N_;
    VectorXd u_;
    double j_ = 0.0;
    int rounds_ = 0;
    Index aside_ = 0;  ///< 1: the constant’s moment is left out.
};

}  // namespace

void describeInstruments(Fit& fit, const Design& design, const ErrorSpec& errors, double alpha,
                         const Job& job) {
    if (!fit.instrumented || !fit.instrumented->parts) {
        return;
    }
    const InstrumentParts& parts = *fit.instrumented->parts;
    auto out = std::make_shared<InstrumentedFit>(*fit.instrumented);
    Design first = sameRows(design);
    first.columns = parts.columns;
    const auto onW = [&](const Eigen::Ref<const VectorXd>& y) {
        return solveOther({parts.W, y, design.weights, design.hasConstant}, parts.onW, job);
    };
    for (std::size_t j = 0; j < parts.endogenous.size(); ++j) {
        const Index column = parts.endogenous[j];
        const auto x = design.X.col(column);
        out->firstStages.push_back(
            stageOf(first, parts, design.columns[static_cast<std::size_t>(column)].name, x,
                    j == 0 ? Result<LinearSolution>(parts.onW) : onW(x), errors, alpha, job));
    }
    if (const auto least = fitLeastSquares(design, errors, alpha, job)) {
        for (const Coefficient& c : least->coefficients) {
            if (std::find(parts.endogenous.begin(), parts.endogenous.end(), c.column) !=
                parts.endogenous.end()) {
                out->leastSquares.push_back(c);
            }
        }
    }
    out->reducedForm =
        stageOf(first, parts, design.outcome, design.y, onW(design.y), errors, alpha, job);
    out->parts.reset();
    fit.instrumented = std::move(out);
}

Design sameRows(const Design& design) {
    Design out;
    out.hasConstant = design.hasConstant;
    out.weightKind = design.weightKind;
    out.weights = design.weights;
    out.rows = design.rows;
    out.clusters = design.clusters;
    out.clusterCounts = design.clusterCounts;
    out.effects = design.effects;
    out.effectsRank = design.effectsRank;
    out.effectsLeverage = design.effectsLeverage;
    out.units = design.units;
    out.unitCount = design.unitCount;
    out.unitMoments = design.unitMoments;
    out.survey = design.survey;
    out.layout = design.layout;
    out.time = design.time;
    out.moments = design.moments;
    out.counts = design.counts;
    return out;
}

MatrixXd instrumentBasis(const Design& design, const InstrumentParts& parts) {
    const LinearSolution& s = parts.onW;
    MatrixXd W = parts.W.matrix();  // Centred first: no digits are lost to the size of a column.
    const Index first = design.hasConstant ? 1 : 0;
    for (Index j = first; j < W.cols(); ++j) {
        W.col(j).array() -= s.centre(j);
    }
    return rootsOf(design).asDiagonal() * (W * s.centredFactor);
}

Result<InstrumentParts> instrumentParts(const Design& design, const Job& job) {
    InstrumentParts out;
    std::vector<Index> exogenous;
    for (std::size_t c = 0; c < design.columns.size(); ++c) {
        const int term = design.columns[c].term;
        const bool endogenous =
            term >= 0 && design.terms[static_cast<std::size_t>(term)].endogenous;
        (endogenous ? out.endogenous : exogenous).push_back(static_cast<Index>(c));
    }
    for (const Index column : out.endogenous) {
        if (design.X.col(column).maxCoeff() == design.X.col(column).minCoeff()) {
            const std::string& name = design.columns[static_cast<std::size_t>(column)].name;
            return refuse(ErrorCode::NoVariation,
                          "‘" + name +
                              "’, which the instruments are to move, does not vary in the "
                              "rows used",
                          "instruments", "Take it out, or widen the sample.", {name});
        }
    }
    if (out.endogenous.empty()) {
        return refuse(ErrorCode::BadSetting, "no term is said to be moved by instruments",
                      "instruments", "Name the term whose effect is asked for after “where”.");
    }
    const auto tooFew = [&](std::size_t found) {
        const std::string names =
            plural(out.endogenous.size(), "endogenous column", "endogenous columns");
        return refuse(ErrorCode::BadSetting,
                      "there " + std::string(found == 1 ? "is " : "are ") +
                          plural(found, "independent instrument", "independent instruments") +
                          " for " + names,
                      "instruments",
                      "Each term that is moved needs an instrument of its own at least.");
    };
    if (static_cast<std::size_t>(design.Z.cols()) < out.endogenous.size()) {
        return tooFew(static_cast<std::size_t>(design.Z.cols()));
    }
    const auto all = static_cast<Index>(exogenous.size()) + design.Z.cols();
    if (rowsStoodFor(design) <= static_cast<double>(all)) {
        return refuse(ErrorCode::TooFewRows,
                      "there are fewer rows than instruments and terms together", "sample",
                      "Take instruments out or widen the sample.");
    }
    ColumnsView W = ColumnsView(design.X).of(exogenous);
    std::vector<DesignColumn> columns;
    for (const Index column : exogenous) {
        columns.push_back(design.columns[static_cast<std::size_t>(column)]);
    }
    for (Index j = 0; j < design.Z.cols(); ++j) {
        W.add(design.Z.col(j).data());
    }
    for (const DesignColumn& column : design.instrumentColumns) {
        columns.push_back(column);
        // A first stage knows its instruments as terms of their own.
        columns.back().term += static_cast<int>(design.terms.size());
    }
    // The first endogenous column is the outcome: its residuals are wanted anyway.
    auto solution = solveLinear(
        {W, design.X.col(out.endogenous.front()), design.weights, design.hasConstant}, false, job);
    if (!solution) {
        return tl::make_unexpected(solution.error());
    }
    for (const RedundantColumn& r : solution->redundant) {
        const auto at = static_cast<std::size_t>(r.column);
        (at < exogenous.size() ? out.redundant : out.idle)
            .push_back({columns[at].name, combinationText(columns, r)});
    }
    for (const Index c : solution->kept) {
        const auto at = static_cast<std::size_t>(c);
        out.columns.push_back(columns[at]);
        if (at < exogenous.size()) {
            out.exogenous.push_back(exogenous[at]);
        } else {
            out.excluded.push_back(c - static_cast<Index>(exogenous.size()));
        }
    }
    if (out.excluded.size() < out.endogenous.size()) {
        return tooFew(out.excluded.size());
    }
    out.W = W.of(solution->kept);
    out.onW = *std::move(solution);
    out.onW.kept.resize(static_cast<std::size_t>(out.W.cols()));
    for (std::size_t j = 0; j < out.onW.kept.size(); ++j) {
        out.onW.kept[j] = static_cast<Index>(j);
    }
    out.onW.redundant.clear();
    const auto g = static_cast<Index>(out.endogenous.size());
    out.left = largeMatrix(design.y.size(), g);
    // What an exact first stage leaves is rounding, and is not taken for anything else.
    const double blurred = design.swept ? 1e-9 : 0.0;
    const auto leave = [&](Index j, const LinearSolution& stage) {
        const LinearProblem problem{out.W,
                                    design.X.col(out.endogenous[static_cast<std::size_t>(j)]),
                                    design.weights, design.hasConstant};
        isRounding(problem, stage, blurred) ? out.left.col(j).setZero()
                                            : out.left.col(j) = stage.residuals;
    };
    leave(0, out.onW);
    for (Index j = 1; j < g; ++j) {
        const auto stage =
            solveOther({out.W, design.X.col(out.endogenous[static_cast<std::size_t>(j)]),
                        design.weights, design.hasConstant},
                       out.onW, job);
        if (!stage) {
            return tl::make_unexpected(stage.error());
        }
        leave(j, *stage);
    }
    return out;
}

PartialledOut partialledOut(const Design& design, const InstrumentParts& parts) {
    const MatrixXd exogenous = design.X(Eigen::all, parts.exogenous);
    PartialledOut out;
    out.y = leftOf(design, exogenous, design.y);
    out.endogenous.resize(design.y.size(), static_cast<Index>(parts.endogenous.size()));
    for (std::size_t j = 0; j < parts.endogenous.size(); ++j) {
        out.endogenous.col(static_cast<Index>(j)) =
            leftOf(design, exogenous, design.X.col(parts.endogenous[j]));
    }
    MatrixXd Z(design.y.size(), static_cast<Index>(parts.excluded.size()));
    for (std::size_t j = 0; j < parts.excluded.size(); ++j) {
        VectorXd z = leftOf(design, exogenous, design.Z.col(parts.excluded[j]));
        Z.col(static_cast<Index>(j)) = z / z.norm();
    }
    const Eigen::HouseholderQR<MatrixXd> qr(Z);
    out.excluded = qr.householderQ() * MatrixXd::Identity(Z.rows(), Z.cols());
    return out;
}

Result<MatrixXd> momentVariance(const Design& design, const InstrumentParts& parts,
                                const VectorXd& residuals, const ErrorSpec& errors, const Job& job,
                                std::optional<double> left) {
    const LinearProblem problem{parts.W, design.y, design.weights, design.hasConstant};
    LinearSolution s = parts.onW;
    s.residuals = residuals;
    s.scores = {};
    s.meat = {};
    s.residualSquares = rootsOf(design).cwiseProduct(residuals).squaredNorm();
    // F S F' with F the identity: S itself, in the basis W F.
    s.factor = MatrixXd::Identity(s.centredFactor.rows(), s.centredFactor.cols());
    const double n = rowsStoodFor(design);
    const VectorXd none = VectorXd::Zero(design.y.size());
    const auto V = covarianceOf(
        {design, problem, s, none, n, left.value_or(n), 0.05, job, !left.has_value()}, errors);
    if (!V) {
        return tl::make_unexpected(V.error());
    }
    return MatrixXd(0.5 * (V->matrix + V->matrix.transpose()));
}

Result<double> hansenJ(const Design& design, const InstrumentParts& parts, const ErrorSpec& errors,
                       const Job& job) {
    auto start = twoStage(design, parts, job);
    if (!start) {
        return tl::make_unexpected(start.error());
    }
    Gmm gmm(design, parts, *std::move(start), errors, job);
    if (auto done = gmm.run("two"); !done) {
        return tl::make_unexpected(done.error());
    }
    return gmm.j();
}

Result<Fit> fitTwoStage(const Design& design, const EstimatorSettings& /*settings*/,
                        const ErrorSpec& errors, double alpha, const Job& job) {
    return kClass(design, errors, alpha, job, [](const InstrumentParts&) { return 1.0; });
}

namespace {

double limlKappa(const Design& design, const InstrumentParts& parts) {
    // With as many instruments as endogenous columns LIML is two-stage.
    return parts.excluded.size() == parts.endogenous.size() ? 1.0 : limlRoot(design, parts);
}

}  // namespace

Result<Fit> fitLiml(const Design& design, const EstimatorSettings& /*settings*/,
                    const ErrorSpec& errors, double alpha, const Job& job) {
    return kClass(design, errors, alpha, job,
                  [&](const InstrumentParts& parts) { return limlKappa(design, parts); });
}

Result<Fit> fitFuller(const Design& design, const EstimatorSettings& settings,
                      const ErrorSpec& errors, double alpha, const Job& job) {
    return kClass(design, errors, alpha, job, [&](const InstrumentParts& parts) {
        const double left =
            rowsStoodFor(design) - static_cast<double>(parts.W.cols()) - design.effectsRank;
        return limlKappa(design, parts) - settings.a / left;
    });
}

Result<Fit> fitGmm(const Design& design, const EstimatorSettings& settings, const ErrorSpec& errors,
                   double alpha, const Job& job) {
    if (errors.kind == "bootstrap") {
        return refuse(ErrorCode::NotBuilt, "errors by drawing are not built for instruments yet",
                      "errors", "Use robust or clustered errors.");
    }
    auto found = instrumentParts(design, job);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    const auto parts = std::make_shared<const InstrumentParts>(*std::move(found));
    auto start = twoStage(design, *parts, job);
    if (!start) {
        return tl::make_unexpected(start.error());
    }
    Gmm gmm(design, *parts, *std::move(start), errors, job);
    if (auto done = gmm.run(settings.steps); !done) {
        return tl::make_unexpected(done.error());
    }
    auto covariance = gmm.covariance();
    if (!covariance) {
        return tl::make_unexpected(covariance.error());
    }
    TwoStage& stage = gmm.start();
    moveBy(design, stage.solution, gmm.step());
    auto fit = fitGiven(design,
                        {stage.columns, std::move(stage.solution), *std::move(covariance),
                         std::numeric_limits<double>::infinity()},
                        errors, alpha, job);
    if (fit) {
        auto told = toldOf(parts);
        told->rounds = gmm.rounds();
        told->j = gmm.j();
        fit->instrumented = std::move(told);
    }
    return fit;
}

}  // namespace rapporto
