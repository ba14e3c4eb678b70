#include "core/model/likelihood.h"

#include "core/base/format.h"
#include "core/base/parallel.h"
#include "core/model/reweighted.h"
#include "core/numerics/distributions.h"

#include <cblas.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr int kMostSteps = 200;

/// Columns made alike: centred where there is a constant, of length √n. The coefficients of the
/// columns as they are: b = to · b̃.
struct Scaled {
    MatrixXd X;
    MatrixXd to;
};

Scaled scaledPart(const IndexPart& part) {
    const Index k = part.X.cols();
    Scaled out{part.X, MatrixXd::Identity(k, k)};
    for (Index j = part.hasConstant ? 1 : 0; j < k; ++j) {
        const double centre = part.hasConstant ? part.X.col(j).mean() : 0.0;
        const double length = std::sqrt((part.X.col(j).array() - centre).square().mean());
        // A power of two changes no digit.
        const double scale = length > 0.0 ? std::exp2(std::round(std::log2(length))) : 1.0;
        out.X.col(j) = (part.X.col(j).array() - centre) / scale;
        out.to(j, j) = 1.0 / scale;
        if (part.hasConstant) {
            out.to(0, j) = -centre / scale;
        }
    }
    return out;
}

class Maximiser {
  public:
    Maximiser(const std::vector<IndexPart>& parts, const RowModel& model, const VectorXd& weights,
              const Job& job)
        : parts_(parts),
          model_(model),
          weights_(weights),
          job_(job),
          n_(parts.front().X.rows()),
          M_(model.indices()),
          S_(model.extras()),
          chunks_(static_cast<std::size_t>(n_)) {
        Index at = 0;
        for (const IndexPart& part : parts) {
            scaled_.push_back(scaledPart(part));
            starts_.push_back(at);
            at += part.X.cols();
        }
        extrasAt_ = at;
        p_ = at + S_;
    }

    Result<Maximum> run(const VectorXd& start) {
        VectorXd theta = toScaled(start);
        double value = evaluate(theta, true);
        if (!std::isfinite(value)) {
            return refuse(ErrorCode::NotConverged,
                          "the likelihood is not defined where the search begins", "method",
                          "Look for values of the outcome that cannot be.");
        }
        bool done = false;
        int step = 0;
        double decrement = 0.0;
        for (; step < kMostSteps && !done; ++step) {
            if (job_.stopped()) {
                return refuse(ErrorCode::Stopped, "the computation was stopped");
            }
            const VectorXd direction = newton(decrement);
            const double tolerance = 1e-18 * std::max(1.0, std::abs(value));
            // Under this the value itself cannot tell better from worse: go by the gradient.
            const bool close = decrement < 1e-9 * std::max(1.0, std::abs(value)) && !ridged_;
            double length = 1.0;
            VectorXd next;
            double found = -std::numeric_limits<double>::infinity();
            for (int half = 0; half < 60; ++half, length *= 0.5) {
                next = theta + length * direction;
                found = evaluate(next, true);
                const double slack = close ? 1e-12 * std::abs(value) : 0.0;
                if (std::isfinite(found) && found >= value - slack) {
                    break;
                }
            }
            if (!std::isfinite(found)) {
                break;
            }
            done = (decrement < tolerance && !ridged_) || (close && step > 0 && length < 1e-6);
            theta = next;
            value = found;
        }
        newton(decrement);
        if ((!done && decrement > 1e-10 * std::max(1.0, std::abs(value))) || ridged_) {
            return flatOrLost(step, decrement, theta);
        }
        return finished(theta, value, step, decrement);
    }

  private:
    [[nodiscard]] VectorXd toScaled(const VectorXd& theta) const {
        VectorXd out = theta;
        for (std::size_t m = 0; m < parts_.size(); ++m) {
            const Index k = parts_[m].X.cols();
            out.segment(starts_[m], k) =
                scaled_[m].to.partialPivLu().solve(theta.segment(starts_[m], k));
        }
        return out;
    }

    [[nodiscard]] VectorXd fromScaled(const VectorXd& theta) const {
        VectorXd out = theta;
        for (std::size_t m = 0; m < parts_.size(); ++m) {
            const Index k = parts_[m].X.cols();
            out.segment(starts_[m], k) = scaled_[m].to * theta.segment(starts_[m], k);
        }
        return out;
    }

    /// ℓ; with `derivatives` the gradient and the negative Hessian, too.
    double evaluate(const VectorXd& theta, bool derivatives) {
        const auto D = static_cast<std::size_t>(M_ + S_);
        const auto count = chunks_.count();
        std::vector<double> values(count, 0.0);
        std::vector<VectorXd> gradients(derivatives ? count : 0);
        std::vector<MatrixXd> hessians(derivatives ? count : 0);
        chunks_.forEach([&](std::size_t c) {
            const auto [begin, end] = chunks_[c];
            if (derivatives) {
                gradients[c] = VectorXd::Zero(p_);
                hessians[c] = MatrixXd::Zero(p_, p_);
            }
            std::vector<double> at(D);
            std::vector<double> g(D);
            std::vector<double> H(D * D);
            for (int s = 0; s < S_; ++s) {
                at[static_cast<std::size_t>(M_ + s)] = theta(extrasAt_ + s);
            }
            // Blocks of rows that stay near while all is made of them.
            constexpr std::size_t kBlock = 1024;
            for (std::size_t from = begin; from < end; from += kBlock) {
                const std::size_t to = std::min(end, from + kBlock);
                values[c] += evaluateBlock(
                    theta, static_cast<Index>(from), static_cast<Index>(to - from), at, g, H,
                    derivatives ? &gradients[c] : nullptr, derivatives ? &hessians[c] : nullptr);
            }
        });
        double value = 0.0;
        for (const double one : values) {
            value += one;
        }
        if (derivatives) {
            gradient_ = VectorXd::Zero(p_);
            information_ = MatrixXd::Zero(p_, p_);
            for (std::size_t c = 0; c < count; ++c) {
                gradient_ += gradients[c];
                information_ += hessians[c];
            }
        }
        return std::isnan(value) ? -std::numeric_limits<double>::infinity() : value;
    }

    /// ℓ of a block of rows; its gradient and negative Hessian are added where they are wanted.
    double evaluateBlock(const VectorXd& theta, Index from, Index rows, std::vector<double>& at,
                         std::vector<double>& g, std::vector<double>& H, VectorXd* gradient,
                         MatrixXd* hessian) const {
        const bool derivatives = gradient != nullptr;
        const auto D = static_cast<std::size_t>(M_ + S_);
        MatrixXd eta(rows, M_);
        for (int m = 0; m < M_; ++m) {
            const auto part = static_cast<std::size_t>(m);
            const Index k = scaled_[part].X.cols();
            cblas_dgemv(CblasColMajor, CblasNoTrans, static_cast<int>(rows), static_cast<int>(k),
                        1.0, scaled_[part].X.data() + from, static_cast<int>(n_),
                        theta.data() + starts_[part], 1, 0.0, eta.col(m).data(), 1);
            if (parts_[part].offset.size() > 0) {
                eta.col(m) += parts_[part].offset.segment(from, rows);
            }
        }
        MatrixXd first(derivatives ? rows : 0, M_ + S_);
        // Pairs of an index with an index or an extra; extras among themselves are summed.
        MatrixXd second(derivatives ? rows : 0, M_ * (M_ + S_));
        MatrixXd among = MatrixXd::Zero(S_, S_);
        double sum = 0.0;
        for (Index i = 0; i < rows; ++i) {
            const double w = weights_.size() > 0 ? weights_(from + i) : 1.0;
            for (int m = 0; m < M_; ++m) {
                at[static_cast<std::size_t>(m)] = eta(i, m);
            }
            sum += w * model_.row(from + i, at.data(), g.data(), derivatives ? H.data() : nullptr);
            if (!derivatives) {
                continue;
            }
            for (int a = 0; a < M_ + S_; ++a) {
                first(i, a) = w * g[static_cast<std::size_t>(a)];
            }
            for (int a = 0; a < M_; ++a) {
                for (int b = 0; b < M_ + S_; ++b) {
                    second(i, a * (M_ + S_) + b) =
                        -w * H[static_cast<std::size_t>(a) * D + static_cast<std::size_t>(b)];
                }
            }
            for (int a = 0; a < S_; ++a) {
                for (int b = 0; b < S_; ++b) {
                    among(a, b) -=
                        w *
                        H[static_cast<std::size_t>(M_ + a) * D + static_cast<std::size_t>(M_ + b)];
                }
            }
        }
        if (derivatives) {
            combine(from, rows, first, second, among, *gradient, *hessian);
        }
        return sum;
    }

    void combine(Index from, Index rows, const MatrixXd& first, const MatrixXd& second,
                 const MatrixXd& among, VectorXd& gradient, MatrixXd& hessian) const {
        for (int a = 0; a < M_; ++a) {
            const auto ma = static_cast<std::size_t>(a);
            const auto Xa = scaled_[ma].X.middleRows(from, rows);
            const Index ka = Xa.cols();
            cblas_dgemv(CblasColMajor, CblasTrans, static_cast<int>(rows), static_cast<int>(ka),
                        1.0, scaled_[ma].X.data() + from, static_cast<int>(n_), first.col(a).data(),
                        1, 1.0, gradient.data() + starts_[ma], 1);
            for (int b = a; b < M_; ++b) {
                const auto mb = static_cast<std::size_t>(b);
                const auto Xb = scaled_[mb].X.middleRows(from, rows);
                const auto h = second.col(a * (M_ + S_) + b);
                if (a == b && h.size() > 0 && h.minCoeff() >= 0.0) {
                    // Half the work where the curvature has one sign.
                    const MatrixXd root = h.cwiseSqrt().asDiagonal() * Xa;
                    MatrixXd block = MatrixXd::Zero(ka, ka);
                    cblas_dsyrk(CblasColMajor, CblasLower, CblasTrans, static_cast<int>(ka),
                                static_cast<int>(rows), 1.0, root.data(), static_cast<int>(rows),
                                0.0, block.data(), static_cast<int>(ka));
                    block.triangularView<Eigen::Upper>() = block.transpose();
                    hessian.block(starts_[ma], starts_[ma], ka, ka) += block;
                } else {
                    const MatrixXd weighted = h.asDiagonal() * Xb;
                    const MatrixXd block = Xa.transpose() * weighted;
                    hessian.block(starts_[ma], starts_[mb], ka, Xb.cols()) += block;
                    if (a != b) {
                        hessian.block(starts_[mb], starts_[ma], Xb.cols(), ka) += block.transpose();
                    }
                }
            }
            for (int s = 0; s < S_; ++s) {
                const VectorXd cross = Xa.transpose() * second.col(a * (M_ + S_) + M_ + s);
                hessian.block(starts_[ma], extrasAt_ + s, ka, 1) += cross;
                hessian.block(extrasAt_ + s, starts_[ma], 1, ka) += cross.transpose();
            }
        }
        for (int s = 0; s < S_; ++s) {
            gradient(extrasAt_ + s) += first.col(M_ + s).sum();
        }
        hessian.bottomRightCorner(S_, S_) += among;
    }

    /// Newton’s direction; a ridge where the information is not positive.
    VectorXd newton(double& decrement) {
        VectorXd unit = information_.diagonal().cwiseAbs().cwiseSqrt();
        unit = unit.unaryExpr([](double u) { return u > 0.0 ? u : 1.0; });
        const VectorXd inverse = unit.cwiseInverse();
        const MatrixXd scaled = inverse.asDiagonal() * information_ * inverse.asDiagonal();
        const VectorXd g = inverse.cwiseProduct(gradient_);
        ridged_ = false;
        for (double ridge = 0.0; ridge < 1e8; ridge = std::max(ridge * 8.0, 1e-4)) {
            const Eigen::LLT<MatrixXd> llt(
                scaled + ridge * MatrixXd::Identity(scaled.rows(), scaled.cols()));
            const VectorXd pivots = llt.info() == Eigen::Success
                                        ? VectorXd(MatrixXd(llt.matrixL()).diagonal().cwiseAbs2())
                                        : VectorXd();
            if (llt.info() == Eigen::Success && pivots.minCoeff() > 1e-13) {
                const VectorXd d = llt.solve(g);
                decrement = g.dot(d);
                ridged_ = ridge > 0.0;
                return inverse.cwiseProduct(d);
            }
        }
        decrement = std::numeric_limits<double>::infinity();
        ridged_ = true;
        return VectorXd::Zero(p_);
    }

    Result<Maximum> flatOrLost(int steps, double decrement, const VectorXd& theta) const {
        if (ridged_) {
            return refuse(ErrorCode::RankDeficient,
                          "the likelihood is flat: other values of the coefficients do as well "
                          "(after " +
                              plural(static_cast<std::size_t>(steps), "step", "steps") + ")",
                          "method",
                          "Take a term out, merge rare levels, or choose a simpler estimator.");
        }
        static_cast<void>(theta);
        return refuse(
            ErrorCode::NotConverged,
            "the search did not settle in " +
                plural(static_cast<std::size_t>(steps), "step", "steps") +
                "; the likelihood could still gain about " + shortNumber(0.5 * decrement, 2),
            "method", "Scale or log terms with a long tail, or choose a simpler estimator.");
    }

    Maximum finished(const VectorXd& theta, double value, int steps, double decrement) const {
        Maximum out;
        out.theta = fromScaled(theta);
        out.logLikelihood = value;
        out.iterations = steps;
        out.gradient = decrement;
        VectorXd unit = information_.diagonal().cwiseSqrt();
        const VectorXd inverse = unit.cwiseInverse();
        const MatrixXd scaled = inverse.asDiagonal() * information_ * inverse.asDiagonal();
        const Eigen::LLT<MatrixXd> llt(scaled);
        // (LL')⁻¹ = L⁻ᵀ L⁻¹.
        MatrixXd F = llt.matrixU().solve(MatrixXd::Identity(p_, p_));
        F = (inverse.asDiagonal() * F).eval();
        for (std::size_t m = 0; m < parts_.size(); ++m) {
            const Index k = parts_[m].X.cols();
            F.middleRows(starts_[m], k) = (scaled_[m].to * F.middleRows(starts_[m], k)).eval();
        }
        out.factor = std::move(F);
        fillScores(theta, out);
        return out;
    }

    /// Scores of rows in the coordinates of the columns as they are.
    void fillScores(const VectorXd& theta, Maximum& out) const {
        const auto D = static_cast<std::size_t>(M_ + S_);
        out.index.resize(n_, M_);
        out.scores.resize(n_, p_);
        for (int m = 0; m < M_; ++m) {
            const auto at = static_cast<std::size_t>(m);
            out.index.col(m) = scaled_[at].X * theta.segment(starts_[at], scaled_[at].X.cols());
            if (parts_[at].offset.size() > 0) {
                out.index.col(m) += parts_[at].offset;
            }
        }
        std::vector<double> at(D);
        std::vector<double> g(D);
        std::vector<double> H(D * D);
        for (int s = 0; s < S_; ++s) {
            at[static_cast<std::size_t>(M_ + s)] = theta(extrasAt_ + s);
        }
        MatrixXd first(n_, M_ + S_);
        for (Index i = 0; i < n_; ++i) {
            for (int m = 0; m < M_; ++m) {
                at[static_cast<std::size_t>(m)] = out.index(i, m);
            }
            model_.row(i, at.data(), g.data(), H.data());
            for (int a = 0; a < M_ + S_; ++a) {
                first(i, a) = g[static_cast<std::size_t>(a)];
            }
        }
        for (std::size_t m = 0; m < parts_.size(); ++m) {
            const Index k = parts_[m].X.cols();
            out.scores.middleCols(starts_[m], k) =
                first.col(static_cast<Index>(m)).asDiagonal() * parts_[m].X;
        }
        out.scores.rightCols(S_) = first.rightCols(S_);
    }

    const std::vector<IndexPart>& parts_;
    const RowModel& model_;
    const VectorXd& weights_;
    const Job& job_;
    Index n_;
    int M_;
    int S_;
    RowChunks chunks_;
    std::vector<Scaled> scaled_;
    std::vector<Index> starts_;
    Index extrasAt_ = 0;
    Index p_ = 0;
    VectorXd gradient_;
    MatrixXd information_;
    bool ridged_ = false;
};

}  // namespace

Result<Maximum> maximise(const std::vector<IndexPart>& parts, const RowModel& model,
                         const VectorXd& start, const VectorXd& weights, const Job& job) {
    return Maximiser(parts, model, weights, job).run(start);
}

VectorXd rowWeights(const Design& design) {
    return design.weights.size() > 0 ? design.weights : VectorXd(VectorXd::Ones(design.y.size()));
}

Result<KeptColumns> independentColumns(const MatrixXd& X, const std::vector<DesignColumn>& columns,
                                       bool hasConstant, const Job& job) {
    KeptColumns out;
    const VectorXd none;
    const auto solution = solveLinear({X, VectorXd::Zero(X.rows()), none, hasConstant}, false, job);
    if (!solution) {
        return tl::make_unexpected(solution.error());
    }
    out.kept = solution->kept;
    for (const RedundantColumn& redundant : solution->redundant) {
        out.dropped.push_back({columns[static_cast<std::size_t>(redundant.column)].name,
                               combinationText(columns, redundant)});
    }
    return out;
}

std::optional<Separation> findSeparation(const MatrixXd& X, const VectorXd& signs, const Job& job) {
    // Coordinates in an orthonormal basis of the columns.
    const Eigen::HouseholderQR<MatrixXd> qr(X);
    MatrixXd Q = qr.householderQ() * MatrixXd::Identity(X.rows(), X.cols());
    VectorXd u = VectorXd::Ones(X.rows());
    for (Index i = 0; i < u.size(); ++i) {
        Q.row(i) *= signs(i) == 0.0 ? 1.0 : signs(i);
        u(i) = signs(i) == 0.0 ? 0.0 : 1.0;
    }
    VectorXd inside;
    bool reached = false;
    for (int step = 0; step < 20000 && !reached; ++step) {
        if (job.stopped()) {
            return std::nullopt;
        }
        inside = Q * (Q.transpose() * u);
        double least = 0.0;
        for (Index i = 0; i < u.size(); ++i) {
            least = std::min(least, signs(i) == 0.0 ? -std::abs(inside(i)) : inside(i));
            u(i) = signs(i) == 0.0 ? 0.0 : std::max(inside(i), 0.0);
        }
        const double largest = u.maxCoeff();
        if (largest < 1e-9) {
            return std::nullopt;
        }
        reached = least > -1e-7 * largest;
    }
    const double largest = u.maxCoeff();
    // Where the cone is the origin alone the steps shrink for ever and nothing is reached.
    if (!reached || !(largest > 1e-9)) {
        return std::nullopt;
    }
    Separation out;
    for (Index i = 0; i < u.size(); ++i) {
        if (u(i) > 1e-4 * largest) {
            out.rows.push_back(i);
        }
    }
    const VectorXd combination =
        qr.matrixQR().topRows(X.cols()).triangularView<Eigen::Upper>().solve(
            VectorXd(Q.transpose() * u));
    VectorXd part = combination.cwiseAbs();
    for (Index j = 0; j < part.size(); ++j) {
        part(j) *= (X.col(j).array() - X.col(j).mean()).matrix().norm();
    }
    std::vector<Index> order(static_cast<std::size_t>(part.size()));
    std::iota(order.begin(), order.end(), Index{0});
    std::sort(order.begin(), order.end(), [&](Index a, Index b) { return part(a) > part(b); });
    for (const Index j : order) {
        if (part(j) > 1e-3 * part.maxCoeff()) {
            out.columns.push_back(j);
        }
    }
    return out;
}

namespace {

/// Covariance of all parameters by the kind of errors, from the scores of the rows.
Result<Covariance> likelihoodCovariance(const LikelihoodInput& in, const ErrorSpec& errors,
                                        double n, double left, double alpha, const Job& job) {
    const MatrixXd& F = in.maximum.factor;
    if (errors.kind == "classical") {
        return Covariance{F * F.transpose(), std::numeric_limits<double>::infinity(), ""};
    }
    if (errors.kind == "robust" && errors.type != "HC0" && errors.type != "HC1" &&
        in.leverage.size() == 0) {
        return refuse(ErrorCode::BadSetting,
                      "errors of type " + errors.type + " need a row’s leverage in one equation",
                      "errors", "Choose HC1, or cluster.");
    }
    // A row’s score is what least squares calls column times residual: the same formulas hold with
    // the scores for columns and ones for residuals.
    LinearSolution s;
    s.factor = F;
    s.centredFactor = F;
    s.centre = VectorXd::Zero(F.rows());
    s.residuals = VectorXd::Ones(in.maximum.scores.rows());
    s.coefficients = in.maximum.theta;
    for (Index j = 0; j < F.rows(); ++j) {
        s.kept.push_back(j);
    }
    const VectorXd& h =
        in.leverage.size() > 0 ? in.leverage : VectorXd(VectorXd::Zero(s.residuals.size()));
    const LinearProblem problem{in.maximum.scores, in.design.y, in.design.weights, false};
    return covarianceOf({in.design, problem, s, h, n, left, alpha, job}, errors);
}

}  // namespace

Result<Fit> fitOfLikelihood(LikelihoodInput in, const ErrorSpec& errors, double alpha,
                            const Job& job) {
    const Design& design = in.design;
    const auto p = static_cast<double>(in.maximum.theta.size()) + in.effectsRank;
    Fit fit;
    fit.n = design.weightKind == WeightKind::Frequency ? design.weights.sum()
                                                       : static_cast<double>(design.y.size());
    fit.dfResidual = fit.n - p;
    if (fit.dfResidual < 1.0) {
        return refuse(ErrorCode::TooFewRows,
                      plural(design.counts.used, "row", "rows") + " cannot carry " +
                          plural(static_cast<std::size_t>(p), "coefficient", "coefficients"),
                      "sample", "Take terms out or widen the sample.");
    }
    auto covariance = likelihoodCovariance(in, errors, fit.n, fit.dfResidual, alpha, job);
    if (!covariance) {
        return tl::make_unexpected(covariance.error());
    }
    VectorXd slope = VectorXd::Ones(in.maximum.theta.size());
    const auto kept = static_cast<Index>(in.kept.size());
    for (Index j = 0; j < in.maximum.theta.size(); ++j) {
        Coefficient c;
        c.estimate = in.maximum.theta(j);
        if (in.shown) {
            std::tie(c.estimate, slope(j)) = in.shown(j, c.estimate);
        }
        if (j < kept) {
            const Index column = in.kept[static_cast<std::size_t>(j)];
            const DesignColumn& info = design.columns[static_cast<std::size_t>(column)];
            c.term = info.name;
            c.label = info.label;
            c.column = column;
            c.designTerm = info.term;
        } else {
            const ExtraName& name = in.further[static_cast<std::size_t>(j - kept)];
            c.equation = name.equation;
            c.term = name.term;
            c.label = name.term;
            c.column = -1;
        }
        fit.coefficients.push_back(std::move(c));
    }
    covariance->matrix = slope.asDiagonal() * covariance->matrix * slope.asDiagonal();
    covariance->df = std::numeric_limits<double>::infinity();
    replaceCovariance(fit, *std::move(covariance), alpha);
    fit.dropped = std::move(in.dropped);
    fit.fitted = std::move(in.fitted);
    fit.residuals = design.y - fit.fitted;
    fit.leverage = in.leverage.size() > 0 ? in.leverage : VectorXd(VectorXd::Zero(design.y.size()));
    fit.solution.kept = in.kept;
    fit.solution.coefficients = in.maximum.theta.head(kept);
    fit.solution.residuals = fit.residuals;
    const MatrixXd inverse = in.maximum.factor * in.maximum.factor.transpose();
    fit.solution.factor = Eigen::LLT<MatrixXd>(inverse.topLeftCorner(kept, kept)).matrixL();
    fit.solution.centredFactor = fit.solution.factor;
    fit.solution.centre = VectorXd::Zero(kept);
    in.told->iterations = in.maximum.iterations;
    in.told->gradient = in.maximum.gradient;
    in.told->logLikelihood = in.maximum.logLikelihood;
    in.told->parameters = p;
    in.told->index = std::move(in.maximum.index);
    in.told->inverse = inverse;
    FitStatistics& s = fit.statistics;
    s.sigma = s.rss = s.tss = std::numeric_limits<double>::quiet_NaN();
    if (design.weightKind == WeightKind::Sampling) {
        fit.notes.emplace_back("With sampling weights there is no likelihood, so no AIC or BIC.");
    } else {
        s.logLikelihood = in.told->logLikelihood;
        s.aic = -2.0 * *s.logLikelihood + 2.0 * p;
        s.bic = -2.0 * *s.logLikelihood + p * std::log(fit.n);
    }
    fit.likelihood = std::move(in.told);
    return fit;
}

}  // namespace rapporto
