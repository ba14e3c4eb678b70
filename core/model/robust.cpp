#include "core/model/robust.h"

#include "core/base/format.h"
#include "core/base/parallel.h"
#include "core/numerics/distributions.h"
#include "core/numerics/random.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr double kHalf = 0.5;            ///< Of the largest ρ: half of the rows may be anything.
constexpr double kStart = 1.5476449809;  ///< c that makes the mean ρ one half under normal errors.

/// ψ and its slope at u, and ψ(u)/u.
struct Curve {
    double psi = 0.0;
    double slope = 0.0;
    double weight = 1.0;
};

Curve huberAt(double u, double k) {
    const double a = std::abs(u);
    return a <= k ? Curve{u, 1.0, 1.0} : Curve{u > 0.0 ? k : -k, 0.0, k / a};
}

Curve bisquareAt(double u, double c) {
    const double t = u / c;
    const double s = 1.0 - t * t;
    return std::abs(t) >= 1.0 ? Curve{0.0, 0.0, 0.0}
                              : Curve{u * s * s, s * (1.0 - 5.0 * t * t), s * s};
}

/// ρ of the bisquare, at most one.
double rhoAt(double u, double c) {
    const double t = u / c;
    const double s = 1.0 - t * t;
    return std::abs(t) >= 1.0 ? 1.0 : 1.0 - s * s * s;
}

double weightedMedian(const VectorXd& values, const VectorXd& weights) {
    std::vector<Index> order(static_cast<std::size_t>(values.size()));
    std::iota(order.begin(), order.end(), Index{0});
    if (weights.size() == 0) {
        const auto n = order.size();
        const auto value = [&](std::size_t at) {
            std::nth_element(order.begin(), order.begin() + static_cast<std::ptrdiff_t>(at),
                             order.end(), [&](Index a, Index b) { return values(a) < values(b); });
            return values(order[at]);
        };
        return n % 2 == 1 ? value(n / 2) : 0.5 * (value(n / 2 - 1) + value(n / 2));
    }
    std::sort(order.begin(), order.end(), [&](Index a, Index b) { return values(a) < values(b); });
    // Where half of the weight ends between two values the middle of them: weights of one are no
    // weights, and rows that stand for several are those rows.
    const double half = 0.5 * weights.sum();
    double sum = 0.0;
    for (std::size_t at = 0; at < order.size(); ++at) {
        sum += weights(order[at]);
        if (at + 1 < order.size() && std::abs(sum - half) <= 1e-12 * half) {
            return 0.5 * (values(order[at]) + values(order[at + 1]));
        }
        if (sum > half) {
            return values(order[at]);
        }
    }
    return values(order.back());
}

double medianScale(const VectorXd& e, const VectorXd& weights) {
    return weightedMedian(e.cwiseAbs(), weights) / 0.6745;
}

/// s with mean ρ(e/s) = one half, found by fixed-point steps from `start`.
double mScale(const VectorXd& e, const VectorXd& weights, double start, int steps) {
    double s = start;
    const double total = weights.size() > 0 ? weights.sum() : static_cast<double>(e.size());
    for (int step = 0; step < steps && s > 0.0; ++step) {
        double sum = 0.0;
        for (Index i = 0; i < e.size(); ++i) {
            sum += (weights.size() > 0 ? weights(i) : 1.0) * rhoAt(e(i) / s, kStart);
        }
        const double next = s * std::sqrt(sum / total / kHalf);
        const bool done = std::abs(next - s) <= 1e-14 * s;
        s = next;
        if (done) {
            break;
        }
    }
    return s;
}

/// One step of weighted least squares with these weights (times the rows’ own); false where the
/// rows that count do not carry the columns.
bool weightedStep(const MatrixXd& X, const VectorXd& y, const VectorXd& weights, VectorXd& b) {
    const MatrixXd A = X.transpose() * weights.asDiagonal() * X;
    const VectorXd unit = A.diagonal().cwiseMax(0.0).cwiseSqrt();
    if (unit.minCoeff() <= 0.0) {
        return false;
    }
    const VectorXd inverse = unit.cwiseInverse();
    const Eigen::LDLT<MatrixXd> ldlt(inverse.asDiagonal() * A * inverse.asDiagonal());
    if (ldlt.info() != Eigen::Success || ldlt.vectorD().minCoeff() <= 1e-13) {
        return false;
    }
    // Refined once: what is left, not the outcome, is projected again.
    for (int again = 0; again < 2; ++again) {
        const VectorXd g = X.transpose() * weights.cwiseProduct(y - X * b);
        b += inverse.cwiseProduct(ldlt.solve(inverse.cwiseProduct(g)));
    }
    return b.allFinite();
}

VectorXd withRows(const VectorXd& robust, const VectorXd& weights) {
    return weights.size() > 0 ? VectorXd(robust.cwiseProduct(weights)) : robust;
}

enum class Law : std::uint8_t { Huber, Bisquare, Mm };

class RobustFitter {
  public:
    RobustFitter(const Design& design, Law law, double tuning, const ErrorSpec& errors,
                 double alpha, const Job& job)
        : design_(design), law_(law), tuning_(tuning), errors_(errors), alpha_(alpha), job_(job) {}

    Result<Fit> run() {
        auto least =
            solveLinear({design_.X, design_.y, design_.weights, design_.hasConstant}, false, job_);
        if (!least) {
            return tl::make_unexpected(least.error());
        }
        if (least->kept.empty()) {
            return refuse(ErrorCode::NoTerms, "no term is left: every one is zero in the rows used",
                          "terms", "Add a term that varies, or a constant.");
        }
        const auto k = static_cast<double>(least->kept.size());
        const double n = rowsStoodFor(design_);
        if (n - k < 2.0 || design_.y.size() <= static_cast<Index>(least->kept.size())) {
            return refuse(ErrorCode::TooFewRows,
                          plural(design_.counts.used, "row", "rows") + " cannot carry " +
                              plural(least->kept.size(), "coefficient", "coefficients"),
                          "sample", "Take terms out or widen the sample.");
        }
        if (isRounding({design_.X, design_.y, design_.weights, design_.hasConstant}, *least)) {
            return refuse(ErrorCode::NothingToTell,
                          "the terms tell ‘" + design_.outcome +
                              "’ exactly: nothing is left that rows could be held down by",
                          "terms", "Is one of them the outcome in another form? Take it out.",
                          {design_.outcome});
        }
        // On orthonormal columns, b = F c: neither unit nor place of a term costs a digit. The
        // search goes on from least squares, so that c counts from there.
        X_ = orthonormalColumns(design_.X, *least);
        y_ = least->residuals;
        b_ = VectorXd::Zero(X_.cols());
        if (law_ != Law::Huber) {
            const auto start = sEstimate(X_, y_, design_.weights, errors_.seed.value_or(1), job_);
            if (!start) {
                return tl::make_unexpected(start.error());
            }
            b_ = start->coefficients;
            scale_ = start->scale;
        }
        if (auto done = iterate(); !done) {
            return tl::make_unexpected(done.error());
        }
        return finished(*std::move(least), n, k);
    }

  private:
    [[nodiscard]] Curve at(double u) const {
        return law_ == Law::Huber ? huberAt(u, tuning_) : bisquareAt(u, tuning_);
    }

    Result<void> iterate() {
        VectorXd e = y_ - X_ * b_;
        const double size = std::max(e.cwiseAbs().maxCoeff(), 1e-300);
        VectorXd weights(e.size());
        for (iterations_ = 0; iterations_ < 2000; ++iterations_) {
            if (job_.stopped()) {
                return refuse(ErrorCode::Stopped, "the computation was stopped");
            }
            if (law_ != Law::Mm) {
                scale_ = medianScale(e, design_.weights);
            }
            if (!(scale_ > 1e-12 * size)) {
                return refuse(ErrorCode::RankDeficient,
                              "half of the rows or more lie on one plane: what is left of them has "
                              "no spread to weigh others by",
                              "method",
                              "Use least squares, or take out what tells the outcome exactly.");
            }
            for (Index i = 0; i < e.size(); ++i) {
                weights(i) = at(e(i) / scale_).weight;
            }
            const VectorXd before = e;
            if (!weightedStep(X_, y_, withRows(weights, design_.weights), b_)) {
                return refuse(ErrorCode::RankDeficient,
                              "the rows that count do not carry every term", "method",
                              "A term varies in odd rows alone: take it out.");
            }
            e = y_ - X_ * b_;
            if ((e - before).cwiseAbs().maxCoeff() <= 1e-13 * scale_) {
                return {};
            }
        }
        const double moved = 1e-9 * scale_;
        VectorXd again = b_;
        if (weightedStep(X_, y_, withRows(weights, design_.weights), again) &&
            (X_ * (again - b_)).cwiseAbs().maxCoeff() <= moved) {
            return {};
        }
        return refuse(ErrorCode::NotConverged,
                      "the weights of the rows did not settle in 2,000 rounds", "method",
                      "Choose Huber’s curve, which has one solution.");
    }

    Result<Fit> finished(LinearSolution least, double n, double k) {
        const VectorXd e = y_ - X_ * b_;
        VectorXd psi(e.size());
        VectorXd slope(e.size());
        auto told = std::make_shared<RobustFit>();
        told->weights.resize(e.size());
        double squares = 0.0;
        double total = 0.0;
        double mean = 0.0;
        for (Index i = 0; i < e.size(); ++i) {
            const Curve c = at(e(i) / scale_);
            const double w = design_.weights.size() > 0 ? design_.weights(i) : 1.0;
            psi(i) = scale_ * c.psi;
            slope(i) = c.slope;
            told->weights(i) = c.weight;
            told->halved += c.weight < 0.5 ? 1 : 0;
            told->out += c.weight < 0.1 ? 1 : 0;
            squares += w * psi(i) * psi(i);
            mean += w * c.slope;
            total += w;
        }
        mean /= total;
        double spread = 0.0;
        for (Index i = 0; i < e.size(); ++i) {
            const double w = design_.weights.size() > 0 ? design_.weights(i) : 1.0;
            spread += w * (slope(i) - mean) * (slope(i) - mean) / total;
        }
        LinearSolution solution = least;
        solution.coefficients = least.coefficients + least.factor * b_;
        solution.meat = {};
        solution.scores = {};
        std::optional<Covariance> covariance;
        if (errors_.kind == "classical") {
            const double factor = 1.0 + k / n * spread / (mean * mean);
            const double variance = factor * factor * squares / (n - k) / (mean * mean);
            covariance =
                Covariance{variance * (least.factor * least.factor.transpose()), n - k, ""};
        } else {
            // Scores ψ x with the slope of ψ in the bread.
            const VectorXd by = withRows(slope, design_.weights);
            const MatrixXd A = X_.transpose() * by.asDiagonal() * X_;
            const VectorXd unit = A.diagonal().cwiseAbs().cwiseSqrt().cwiseInverse();
            const Eigen::SelfAdjointEigenSolver<MatrixXd> solver(
                MatrixXd(unit.asDiagonal() * A * unit.asDiagonal()));
            if (!unit.allFinite() || solver.eigenvalues().minCoeff() <= 1e-10) {
                return refuse(ErrorCode::RankDeficient,
                              "too few rows count in full to tell errors of this kind", "errors",
                              "Use classical errors, or draw rows anew.");
            }
            const MatrixXd turn = unit.asDiagonal() * solver.eigenvectors() *
                                  solver.eigenvalues().cwiseInverse().cwiseSqrt().asDiagonal();
            LinearSolution scores = solution;
            scores.factor = least.factor * turn;
            scores.centredFactor = turn;
            scores.centre = VectorXd::Zero(X_.cols());
            for (std::size_t j = 0; j < scores.kept.size(); ++j) {
                scores.kept[j] = static_cast<Index>(j);
            }
            scores.residuals = psi;
            const VectorXd h = VectorXd::Zero(e.size());
            const LinearProblem problem{X_, y_, design_.weights, false};
            auto found =
                covarianceOf({design_, problem, scores, h, n, n - k, alpha_, job_}, errors_);
            if (!found) {
                return tl::make_unexpected(found.error());
            }
            covariance = *std::move(found);
        }
        solution.centredFactor = least.centredFactor;
        solution.centre = least.centre;
        solution.factor = least.factor;
        solution.residuals = e;
        auto fit = fitGiven(design_, {design_.X, std::move(solution), std::move(covariance)},
                            errors_, alpha_, job_);
        if (fit) {
            fit->statistics.sigma = scale_;
            told->scale = scale_;
            told->tuning = tuning_;
            told->iterations = iterations_;
            if (const auto plain = fitLeastSquares(design_, ErrorSpec{}, alpha_, job_)) {
                told->leastSquares = plain->coefficients;
            }
            fit->notes.push_back(plural(told->halved, "row counts", "rows count") +
                                 " for less than a half, " + std::to_string(told->out) +
                                 " of them for less than a tenth.");
            fit->robust = std::move(told);
        }
        return fit;
    }

    const Design& design_;
    Law law_;
    double tuning_;
    const ErrorSpec& errors_;
    double alpha_;
    const Job& job_;
    MatrixXd X_;  ///< Orthonormal under the rows’ weights.
    VectorXd y_;  ///< What least squares leaves of the outcome.
    VectorXd b_;
    double scale_ = 0.0;
    int iterations_ = 0;
};

Result<Fit> fitRobust(const Design& design, Law law, double tuning, const ErrorSpec& errors,
                      double alpha, const Job& job) {
    if (!design.effects.empty()) {
        return refuse(ErrorCode::NotBuilt,
                      "effects held fixed are not swept out of a fit that holds rows down: a "
                      "group’s own level would not be robust",
                      "held fixed", "Put the grouping among the terms.");
    }
    if (!(tuning > 0.0)) {
        return refuse(ErrorCode::BadSetting, "the tuning constant is not above zero", "method",
                      "Usual are 1.345 (Huber) and 4.685 (bisquare).");
    }
    return RobustFitter(design, law, tuning, errors, alpha, job).run();
}

}  // namespace

double bisquareConstant(double efficiency) {
    // Efficiency (Eψ')²/Eψ² under the normal law, by Simpson’s rule on [−c, c].
    const auto efficiencyOf = [](double c) {
        constexpr int kParts = 2000;
        double slope = 0.0;
        double square = 0.0;
        for (int i = 0; i <= kParts; ++i) {
            const double u = -c + 2.0 * c * i / kParts;
            const double w = (i == 0 || i == kParts ? 1.0
                              : i % 2 == 1          ? 4.0
                                                    : 2.0) *
                             normalDensity(u) * 2.0 * c / kParts / 3.0;
            const Curve at = bisquareAt(u, c);
            slope += w * at.slope;
            square += w * at.psi * at.psi;
        }
        return slope * slope / square;
    };
    double low = 1.0;
    double high = 40.0;
    for (int i = 0; i < 200; ++i) {
        const double middle = 0.5 * (low + high);
        (efficiencyOf(middle) < efficiency ? low : high) = middle;
    }
    return 0.5 * (low + high);
}

std::vector<Index> rowsInOrder(const MatrixXd& X, const VectorXd& y) {
    std::vector<Index> order(static_cast<std::size_t>(y.size()));
    std::iota(order.begin(), order.end(), Index{0});
    std::stable_sort(order.begin(), order.end(), [&](Index a, Index b) {
        if (y(a) != y(b)) {
            return y(a) < y(b);
        }
        for (Index j = 0; j < X.cols(); ++j) {
            if (X(a, j) != X(b, j)) {
                return X(a, j) < X(b, j);
            }
        }
        return false;
    });
    return order;
}

Result<SEstimate> sEstimate(const MatrixXd& X, const VectorXd& y, const VectorXd& weights,
                            std::uint64_t seed, const Job& job) {
    const Index n = X.rows();
    const Index k = X.cols();
    constexpr int kDraws = 500;
    constexpr int kBest = 10;

    struct Candidate {
        VectorXd b;
        double scale = std::numeric_limits<double>::infinity();
    };

    const auto refine = [&](VectorXd b, double scale, int steps, bool settle) {
        Candidate out{b, scale};
        VectorXd e = y - X * b;
        for (int step = 0; step < steps; ++step) {
            out.scale = mScale(e, weights, out.scale, settle ? 400 : 1);
            if (!(out.scale > 0.0)) {
                break;
            }
            VectorXd robust(n);
            for (Index i = 0; i < n; ++i) {
                robust(i) = bisquareAt(e(i) / out.scale, kStart).weight;
            }
            const VectorXd before = e;
            if (!weightedStep(X, y, withRows(robust, weights), out.b)) {
                out.scale = std::numeric_limits<double>::infinity();
                return out;
            }
            e = y - X * out.b;
            if (settle && (e - before).cwiseAbs().maxCoeff() <= 1e-13 * out.scale) {
                break;
            }
        }
        out.scale = mScale(e, weights, out.scale, settle ? 400 : 1);
        return out;
    };
    // Drawn by what the rows hold, not by where they stand.
    const std::vector<Index> order = rowsInOrder(X, y);
    std::vector<Candidate> drawn(kDraws);
    inParallel(kDraws, [&](std::size_t d) {
        if (job.stopped()) {
            return;
        }
        RandomStream random(seed, d);
        for (int attempt = 0; attempt < 20; ++attempt) {
            std::vector<Index> rows;
            while (static_cast<Index>(rows.size()) < k) {
                const Index row = order[random.below(static_cast<std::uint64_t>(n))];
                if (std::find(rows.begin(), rows.end(), row) == rows.end()) {
                    rows.push_back(row);
                }
            }
            const Eigen::FullPivLU<MatrixXd> lu(MatrixXd(X(rows, Eigen::all)));
            if (lu.rank() < k) {
                continue;
            }
            const VectorXd b = lu.solve(VectorXd(y(rows)));
            const double start = medianScale(y - X * b, weights);
            if (start > 0.0) {
                drawn[d] = refine(b, start, 2, false);
                break;
            }
        }
    });
    if (job.stopped()) {
        return refuse(ErrorCode::Stopped, "the computation was stopped");
    }
    std::stable_sort(drawn.begin(), drawn.end(),
                     [](const Candidate& a, const Candidate& b) { return a.scale < b.scale; });
    Candidate best;
    for (int c = 0; c < kBest; ++c) {
        const Candidate& start = drawn[static_cast<std::size_t>(c)];
        if (!std::isfinite(start.scale)) {
            break;
        }
        const Candidate settled = refine(start.b, start.scale, 500, true);
        best = settled.scale < best.scale ? settled : best;
    }
    if (!std::isfinite(best.scale) || !(best.scale > 0.0)) {
        return refuse(ErrorCode::RankDeficient,
                      "half of the rows or more lie on one plane, or a term varies in few rows "
                      "alone: no start that odd rows cannot carry away was found",
                      "method", "Choose Huber’s curve, or take such a term out.");
    }
    return SEstimate{best.b, best.scale};
}

Result<Fit> fitHuber(const Design& design, const EstimatorSettings& settings,
                     const ErrorSpec& errors, double alpha, const Job& job) {
    return fitRobust(design, Law::Huber, settings.tuning.value_or(1.345), errors, alpha, job);
}

Result<Fit> fitBisquare(const Design& design, const EstimatorSettings& settings,
                        const ErrorSpec& errors, double alpha, const Job& job) {
    return fitRobust(design, Law::Bisquare, settings.tuning.value_or(4.685), errors, alpha, job);
}

Result<Fit> fitMm(const Design& design, const EstimatorSettings& settings, const ErrorSpec& errors,
                  double alpha, const Job& job) {
    const double efficiency = settings.tuning.value_or(0.95);
    if (!(efficiency > 0.3 && efficiency < 0.999)) {
        return refuse(ErrorCode::BadSetting,
                      "the efficiency " + shortNumber(efficiency) + " is out of reach", "method",
                      "It lies between .3 and .999; .95 is usual.");
    }
    return fitRobust(design, Law::Mm, bisquareConstant(efficiency), errors, alpha, job);
}

}  // namespace rapporto
