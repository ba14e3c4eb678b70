#include "core/base/format.h"
#include "core/model/fit.h"
#include "core/model/panel.h"
#include "core/numerics/distributions.h"
#include "core/numerics/sparse_factor.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

double squares(const VectorXd& x, const VectorXd& w) {
    return w.size() > 0 ? x.cwiseAbs2().dot(w) : x.squaredNorm();
}

class Fitter {
  public:
    Fitter(const Design& design, const ErrorSpec& errors, double alpha,
           const VectorXd* at = nullptr)
        : at_(at),
          design_(design),
          errors_(errors),
          alpha_(alpha),
          problem_{design.X, design.y, design.weights, design.hasConstant} {}

    Fitter(const Design& design, const ErrorSpec& errors, double alpha, const GivenSolution& given)
        : at_(nullptr),
          given_(&given),
          design_(design),
          errors_(errors),
          alpha_(alpha),
          problem_{given.columns, design.y, design.weights, design.hasConstant} {}

    Result<Fit> run(const Job& job) {
        job_ = job;
        fit_.n = rowsStoodFor(design_);
        WantedSums wanted;
        wanted.meat = at_ == nullptr && errors_.kind == "robust" &&
                      (errors_.type == "HC0" || errors_.type == "HC1");
        if (at_ == nullptr && errors_.kind == "clustered" && !design_.clusters.empty()) {
            wanted.groups = design_.clusters.front();
            wanted.groupCount = design_.clusterCounts.front();
        }
        if (given_ != nullptr) {
            fit_.solution = given_->solution;
            fit_.solution.residualSquares = squares(fit_.solution.residuals, design_.weights);
        } else {
            auto solution = solveLinear(problem_, wanted, job);
            if (!solution) {
                return tl::make_unexpected(solution.error());
            }
            fit_.solution = *std::move(solution);
        }
        if (fit_.solution.kept.empty() && design_.X.cols() > 0 && !design_.swept) {
            return refuse(ErrorCode::NoTerms, "no term is left: every one is zero in the rows used",
                          "terms", "Add a term that varies, or a constant.");
        }
        if (at_ != nullptr) {
            fit_.solution.coefficients = (*at_)(fit_.solution.kept);
            fit_.solution.residuals = design_.y - design_.X * *at_;
            fit_.solution.residualSquares = squares(fit_.solution.residuals, design_.weights);
        }
        recogniseExact();
        const auto k = static_cast<double>(fit_.solution.kept.size());
        fit_.dfResidual = fit_.n - k - design_.effectsRank;
        if (fit_.dfResidual < 1.0) {
            return refuse(
                ErrorCode::TooFewRows,
                fmt::format("{} cannot carry {}", plural(design_.counts.used, "row", "rows"),
                            plural(fit_.solution.kept.size(), "coefficient", "coefficients")),
                "sample", "Take terms out or widen the sample.");
        }
        nameRedundant();
        // With effects swept out the fit is of the outcome as it is.
        fit_.fitted = (design_.swept ? design_.before->y : design_.y) - fit_.solution.residuals;
        if (auto done = fillLeverage(); !done) {
            return tl::make_unexpected(done.error());
        }
        if (auto done = fillCovariance(); !done) {
            return tl::make_unexpected(done.error());
        }
        fit_.residuals = std::move(fit_.solution.residuals);
        fillStatistics();
        fillCoefficients();
        fillOverallF();
        if (isLeastSquares()) {
            fillVarianceSplit();
        }
        return std::move(fit_);
    }

  private:
    /// What is left of a perfect fit is rounding, and is not analysed like data.
    void recogniseExact() {
        // Sweeping leaves up to 1e-8 of a spread behind where it is iterative.
        const double blurred = design_.swept ? 1e-9 : 0.0;
        const double size =
            design_.swept && design_.before != nullptr
                ? 8.0 * std::numeric_limits<double>::epsilon() * design_.before->y.stableNorm()
                : 0.0;
        fit_.exact = isRounding(problem_, fit_.solution, blurred) ||
                     fit_.solution.residuals.stableNorm() <= size;
        if (fit_.exact) {
            fit_.solution.residuals.setZero();
            fit_.solution.residualSquares = 0.0;
            if (fit_.solution.meat.size() > 0) {
                fit_.solution.meat.setZero();
            }
            if (fit_.solution.scores.size() > 0) {
                fit_.solution.scores.setZero();
            }
            fit_.notes.emplace_back(
                "The terms tell the outcome exactly: nothing is left to judge them by, and there "
                "is "
                "no standard error and no test.");
        }
    }

    /// Of the terms and of what is held fixed together; NaN where the latter’s is not worked out
    /// and nobody needs it.
    Result<void> fillLeverage() {
        fit_.leverage = leverages(problem_, fit_.solution);
        if (design_.effectsLeverage.size() > 0) {
            fit_.leverage += design_.effectsLeverage;
        } else if (design_.swept) {
            const bool needed =
                (errors_.kind == "robust" && errors_.type != "HC0" && errors_.type != "HC1") ||
                (errors_.kind == "bootstrap" && errors_.scheme == "wild");
            auto own = needed ? heldLeverage(*design_.before, job_) : Result<VectorXd>(VectorXd());
            if (!own) {
                return tl::make_unexpected(own.error());
            }
            if (needed) {
                fit_.leverage += *own;
            } else {
                fit_.leverage.setConstant(std::numeric_limits<double>::quiet_NaN());
            }
        }
        return {};
    }

    void nameRedundant() {
        for (const RedundantColumn& redundant : fit_.solution.redundant) {
            const bool held = design_.swept && design_.X.col(redundant.column).maxCoeff() ==
                                                   design_.X.col(redundant.column).minCoeff();
            fit_.dropped.push_back(
                {design_.columns[static_cast<std::size_t>(redundant.column)].name,
                 held ? heldReason(design_) : combinationText(design_.columns, redundant)});
        }
    }

    Result<void> fillCovariance() {
        auto covariance = given_ != nullptr && given_->covariance
                              ? Result<Covariance>(*given_->covariance)
                              : covarianceOf({design_, problem_, fit_.solution, fit_.leverage,
                                              fit_.n, fit_.dfResidual, alpha_, job_},
                                             errors_);
        if (!covariance) {
            return tl::make_unexpected(covariance.error());
        }
        fit_.covariance = std::move(covariance->matrix);
        if (fit_.exact) {
            fit_.covariance.setZero();
        }
        df_ = given_ != nullptr && given_->df ? *given_->df : covariance->df;
        fit_.errorNote = std::move(covariance->note);
        fit_.resampling = std::move(covariance->resampling);
        designEffects_ = std::move(covariance->designEffects);
        fit_.levelHasNoError =
            design_.swept && errors_.kind == "clustered" &&
            std::any_of(design_.effects.begin(), design_.effects.end(),
                        [&](const SweptGrouping& effects) {
                            return std::any_of(
                                design_.clusters.begin(), design_.clusters.end(),
                                [&](const auto& clusters) { return isNested(effects, clusters); });
                        });
        if (fit_.levelHasNoError && design_.hasConstant) {
            fit_.notes.emplace_back(
                "The constant is the mean level of what is held fixed; with errors clustered by it "
                "that level has no error of its own.");
        }
        return {};
    }

    [[nodiscard]] bool isLeastSquares() const { return given_ == nullptr || given_->likelihood; }

    /// Absent where the law is normal.
    [[nodiscard]] std::optional<double> law() const {
        return std::isfinite(df_) ? std::optional(df_) : std::nullopt;
    }

    void fillStatistics() {
        FitStatistics& s = fit_.statistics;
        const auto k = static_cast<double>(fit_.solution.kept.size());
        s.uncentred = !design_.hasConstant;
        s.rss = fit_.solution.residualSquares;
        s.tss = s.uncentred ? squares(design_.y, design_.weights)
                            : centredSquares(design_.y, design_.weights);  // Of what effects leave.
        s.sigma = std::sqrt(s.rss / fit_.dfResidual);
        if (!isLeastSquares()) {
            return;
        }
        fillRSquared();
        if (design_.weightKind == WeightKind::Sampling) {
            fit_.notes.emplace_back(
                "With sampling weights there is no likelihood, so no AIC or BIC.");
            return;
        }
        if (s.rss <= 0.0) {
            return;
        }
        // Normal likelihood at the maximum: −n/2 (ln 2π + ln(RSS/n) + 1), plus ½Σ ln w.
        double logWeights = 0.0;
        if (design_.weightKind == WeightKind::Precision) {
            logWeights = 0.5 * design_.weights.array().log().sum();
        }
        const double n = fit_.n;
        s.logLikelihood =
            logWeights - 0.5 * n * (std::log(2.0 * std::numbers::pi) + std::log(s.rss / n) + 1.0);
        const double p = k + design_.effectsRank + 1.0;
        s.aic = -2.0 * *s.logLikelihood + 2.0 * p;
        s.bic = -2.0 * *s.logLikelihood + p * std::log(n);
    }

    /// With effects swept out R² is that of the model with them, and the terms’ own is `within`.
    void fillRSquared() {
        FitStatistics& s = fit_.statistics;
        double tss = s.tss;
        if (design_.swept && design_.before != nullptr && design_.hasConstant) {
            s.within = 1.0 - s.rss / s.tss;
            tss = centredSquares(design_.before->y, design_.weights);
        }
        s.rSquared = 1.0 - s.rss / tss;
        const double dfTotal = fit_.n - (s.uncentred ? 0.0 : 1.0);
        s.adjustedRSquared = 1.0 - (s.rss / fit_.dfResidual) / (tss / dfTotal);
    }

    void fillCoefficients() {
        const double sdOutcome =
            std::sqrt(fit_.statistics.uncentred ? centredSquares(design_.y, design_.weights)
                                                : fit_.statistics.tss);
        const double critical = criticalValue(alpha_, law());
        const VectorXd spread =
            isLeastSquares()
                ? centredSquares(problem_, fit_.solution)
                : centredSquares({design_.X, design_.y, design_.weights, design_.hasConstant},
                                 fit_.solution);
        for (std::size_t j = 0; j < fit_.solution.kept.size(); ++j) {
            const Index column = fit_.solution.kept[j];
            const DesignColumn& info = design_.columns[static_cast<std::size_t>(column)];
            const auto at = static_cast<Index>(j);
            Coefficient c;
            c.term = info.name;
            c.label = info.label;
            c.column = column;
            c.designTerm = info.term;
            c.estimate = fit_.solution.coefficients(at);
            c.se = std::sqrt(std::max(fit_.covariance(at, at), 0.0));
            c.df = law();
            const bool real = isError(c.se, c.estimate);
            if (real) {
                c.statistic = c.estimate / c.se;
                c.p = twoSidedP(*c.statistic, law());
            }
            // Without an error there is no interval either: none is of no width.
            c.low = real ? c.estimate - critical * c.se : std::numeric_limits<double>::quiet_NaN();
            c.high = real ? c.estimate + critical * c.se : std::numeric_limits<double>::quiet_NaN();
            if (designEffects_.size() > at) {
                c.designEffect = designEffects_(at);
            }
            if (fit_.resampling) {
                c.low = fit_.resampling->low(at);
                c.high = fit_.resampling->high(at);
                c.p = fit_.resampling->p(at);
            }
            if (fit_.levelHasNoError && info.term < 0) {
                c.se = c.low = c.high = std::numeric_limits<double>::quiet_NaN();
                c.statistic.reset();
                c.p.reset();
            }
            if (info.term >= 0 && sdOutcome > 0.0) {
                c.standardised = c.estimate * std::sqrt(spread(at)) / sdOutcome;
            }
            fit_.coefficients.push_back(std::move(c));
        }
    }

    /// Positions among the kept coefficients of the columns that belong to a term (all: −1 left
    /// out).
    [[nodiscard]] std::vector<Index> positions(int term) const {
        std::vector<Index> found;
        for (std::size_t j = 0; j < fit_.coefficients.size(); ++j) {
            const int of = fit_.coefficients[j].designTerm;
            if (term < 0 ? of >= 0 : of == term) {
                found.push_back(static_cast<Index>(j));
            }
        }
        return found;
    }

    void fillOverallF() {
        const auto slopes = jointEffects(design_, fit_.coefficients);
        if (slopes.empty() || fit_.statistics.rss <= 0.0) {
            return;
        }
        const double q = static_cast<double>(slopes.size());
        std::optional<double> f;
        if (errors_.kind == "classical" && isLeastSquares()) {
            const FitStatistics& s = fit_.statistics;
            f = ((s.tss - s.rss) / q) / (s.rss / fit_.dfResidual);
        } else {
            f = waldF(fit_.solution.coefficients(slopes), fit_.covariance(slopes, slopes));
        }
        if (f && df_ > 0.0) {
            fit_.statistics.f = FTest{*f, q, df_, fTail(*f, q, law())};
        } else {
            fit_.notes.emplace_back("There are too few clusters for a joint test of all terms.");
        }
    }

    void fillVarianceSplit() {
        const FitStatistics& s = fit_.statistics;
        const double slopes = static_cast<double>(positions(-1).size());
        const double residualMs = s.rss / fit_.dfResidual;
        const auto row = [&](std::string source, double df, double ss) {
            VarianceSource out{std::move(source), df, ss, {}, {}, {}};
            out.ms = df > 0.0 ? std::optional(ss / df) : std::nullopt;
            return out;
        };
        const auto withF = [&](VarianceSource out) {
            if (out.ms && residualMs > 0.0) {
                out.f = *out.ms / residualMs;
                out.p = fTail(*out.f, out.df, fit_.dfResidual);
            }
            return out;
        };
        fit_.varianceSplit.push_back(withF(row("model", slopes, s.tss - s.rss)));
        fit_.varianceSplit.push_back(row("residual", fit_.dfResidual, s.rss));
        fit_.varianceSplit.push_back(row("total", slopes + fit_.dfResidual, s.tss));
        const MatrixXd inverse = SparseFactor(fit_.solution.factor).square();
        for (std::size_t t = 0; t < design_.terms.size(); ++t) {
            const auto own = positions(static_cast<int>(t));
            if (own.empty()) {
                continue;
            }
            // What the residual sum would grow by without the term: b_t' ((X'X)⁻¹_tt)⁻¹ b_t.
            const auto partial = waldF(fit_.solution.coefficients(own), inverse(own, own));
            const double q = static_cast<double>(own.size());
            if (partial) {
                fit_.varianceSplit.push_back(withF(row(design_.terms[t].name, q, *partial * q)));
            }
        }
    }

    const VectorXd* at_;  ///< Where the fit stands; null: at the solution.
    const GivenSolution* given_ = nullptr;
    const Design& design_;
    const ErrorSpec& errors_;
    double alpha_;
    LinearProblem problem_;
    Fit fit_;
    double df_ = 0.0;
    VectorXd designEffects_;
    Job job_;
};

}  // namespace

std::string combinationText(const std::vector<DesignColumn>& columns,
                            const RedundantColumn& redundant) {
    // A sentence of hundreds of levels is read by nobody.
    constexpr std::size_t kMost = 8;
    constexpr std::size_t kShown = 4;
    const std::size_t all = redundant.of.size();
    const std::size_t shown = all > kMost ? kShown : all;
    std::string text;
    for (std::size_t j = 0; j < shown; ++j) {
        const double by = redundant.by[j];
        const std::string name = columns[static_cast<std::size_t>(redundant.of[j])].name;
        const bool constant = name == "(constant)";
        const double size = std::round(std::abs(by) * 1e9) / 1e9;
        std::string part = constant ? shortNumber(size, 6)
                                    : (size == 1.0 ? name : shortNumber(size, 6) + " " + name);
        text += text.empty() ? (by < 0.0 ? "−" : "") + part : (by < 0.0 ? " − " : " + ") + part;
    }
    if (shown < all) {
        text += ", with " + countText(all - shown) + " columns more";
    }
    return text.empty() ? "is zero in every row used" : "is " + text;
}

bool isError(double se, double estimate) {
    return se > 4.0 * std::numeric_limits<double>::epsilon() * std::abs(estimate);
}

std::optional<double> waldF(const VectorXd& b, const MatrixXd& V) {
    const VectorXd d = V.diagonal().cwiseMax(0.0).cwiseSqrt();
    for (Index j = 0; j < d.size(); ++j) {
        if (!isError(d(j), b(j))) {
            return std::nullopt;
        }
    }
    if (d.size() == 0 || d.minCoeff() <= 0.0) {
        return std::nullopt;
    }
    const MatrixXd scaled = d.cwiseInverse().asDiagonal() * V * d.cwiseInverse().asDiagonal();
    const VectorXd t = b.cwiseQuotient(d);
    constexpr Index kLarge = 200;
    if (b.size() >= kLarge) {
        // By blocks; the other way takes ten times as long where there are many.
        const Eigen::LLT<MatrixXd> root(scaled);
        const VectorXd pivots = root.matrixLLT().diagonal().cwiseAbs2();
        if (root.info() == Eigen::Success && pivots.minCoeff() > 1e-13 * pivots.maxCoeff()) {
            return t.dot(root.solve(t)) / static_cast<double>(b.size());
        }
        return std::nullopt;
    }
    const Eigen::LDLT<MatrixXd> ldlt(scaled);
    const VectorXd pivots = ldlt.vectorD();
    if (ldlt.info() != Eigen::Success || pivots.minCoeff() <= 1e-13 * pivots.maxCoeff()) {
        return std::nullopt;
    }
    return t.dot(ldlt.solve(t)) / static_cast<double>(b.size());
}

Result<Fit> fitLeastSquares(const Design& design, const ErrorSpec& errors, double alpha,
                            const Job& job) {
    return Fitter(design, errors, alpha).run(job);
}

Result<Fit> fitLinearised(const Design& design, const VectorXd& coefficients,
                          const ErrorSpec& errors, double alpha, const Job& job) {
    return Fitter(design, errors, alpha, &coefficients).run(job);
}

Result<Fit> fitGiven(const Design& design, GivenSolution given, const ErrorSpec& errors,
                     double alpha, const Job& job) {
    return Fitter(design, errors, alpha, given).run(job);
}

Result<Covariance> covarianceOf(const CovarianceInput& in, const ErrorSpec& errors) {
    for (const CovarianceKind& kind : allCovariances()) {
        if (errors.kind == kind.kind) {
            return kind.compute(in, errors);
        }
    }
    return refuse(ErrorCode::BadSetting, "errors " + errors.shown() + " belong to quantiles",
                  "errors", "Use classical, robust or clustered errors.");
}

}  // namespace rapporto
