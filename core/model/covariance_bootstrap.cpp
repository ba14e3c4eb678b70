#include "core/base/format.h"
#include "core/base/parallel.h"
#include "core/model/reweighted.h"
#include "core/numerics/distributions.h"
#include "core/numerics/random.h"
#include "core/numerics/square_sums.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <cstdint>
#include <limits>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr int kBlock = 64;  ///< Draws a task.

/// Runs `work(first, last)` over blocks of draws; false when the person stopped it.
template <class Work>
bool inBlocks(int draws, const Job& job, const Work& work) {
    const int blocks = (draws + kBlock - 1) / kBlock;
    std::atomic<int> done{0};
    inParallel(static_cast<std::size_t>(blocks), [&](std::size_t k) {
        if (!job.stopped()) {
            const int block = static_cast<int>(k);
            work(block * kBlock, std::min(draws, (block + 1) * kBlock));
            job.report(static_cast<double>(++done) / blocks);
        }
    });
    return !job.stopped();
}

/// Interval ends and p of every coefficient from the draws (k × B; failed ones are NaN).
class Intervals {
  public:
    Intervals(const VectorXd& estimate, const MatrixXd& draws, const MatrixXd& influence,
              const ErrorSpec& spec, double alpha)
        : estimate_(estimate), influence_(influence), spec_(spec), alpha_(alpha) {
        for (Index j = 0; j < draws.rows(); ++j) {
            std::vector<double> values;
            for (Index b = 0; b < draws.cols(); ++b) {
                if (std::isfinite(draws(j, b))) {
                    values.push_back(draws(j, b));
                }
            }
            values_.push_back(std::move(values));
        }
    }

    void fill(Resampling& out) {
        const auto k = static_cast<Index>(values_.size());
        out.low.resize(k);
        out.high.resize(k);
        out.p.resize(k);
        for (Index j = 0; j < k; ++j) {
            const auto [z0, a] = corrections(j);
            const double z = normalQuantile(alpha_ / 2.0);
            out.low(j) = quantile(j, shifted(z, z0, a));
            out.high(j) = quantile(j, shifted(-z, z0, a));
            out.p(j) = pOfZero(j, z0, a);
        }
    }

  private:
    static double lower(double z) { return normalTail(-z); }

    /// The share of the draws whose value is the end at z.
    static double shifted(double z, double z0, double a) {
        return lower(z0 + (z0 + z) / (1.0 - a * (z0 + z)));
    }

    [[nodiscard]] std::pair<double, double> corrections(Index j) const {
        if (spec_.interval == "percentile") {
            return {0.0, 0.0};
        }
        const double z0 = normalQuantile(shareBelow(j, estimate_(j)));
        double a = 0.0;
        if (spec_.interval == "bca") {
            const VectorXd u = influence_.col(j).array() - influence_.col(j).mean();
            const double squares = u.squaredNorm();
            a = squares > 0.0 ? u.array().cube().sum() / (6.0 * std::pow(squares, 1.5)) : 0.0;
        }
        return {z0, a};
    }

    /// Kept off 0 and 1 by half a draw.
    [[nodiscard]] double shareBelow(Index j, double value) const {
        const auto& v = values_[static_cast<std::size_t>(j)];
        const auto n = static_cast<double>(v.size());
        std::size_t below = 0;
        std::size_t same = 0;
        for (const double one : v) {
            below += one < value ? 1U : 0U;
            same += one == value ? 1U : 0U;
        }
        const double share = (static_cast<double>(below) + 0.5 * static_cast<double>(same)) / n;
        return std::clamp(share, 0.5 / n, 1.0 - 0.5 / n);
    }

    /// The (B + 1)p-th smallest, between two of them where that is no whole number.
    [[nodiscard]] double quantile(Index j, double p) {
        auto& v = values_[static_cast<std::size_t>(j)];
        if (v.empty()) {
            return std::numeric_limits<double>::quiet_NaN();
        }
        const double place = std::clamp(p * (static_cast<double>(v.size()) + 1.0), 1.0,
                                        static_cast<double>(v.size()));
        const auto below = static_cast<std::size_t>(std::floor(place)) - 1;
        const double part = place - std::floor(place);
        const auto at = v.begin() + static_cast<std::ptrdiff_t>(below);
        std::nth_element(v.begin(), at, v.end());
        return part == 0.0 ? *at : *at + part * (*std::min_element(at + 1, v.end()) - *at);
    }

    /// The smallest alpha whose interval leaves zero out; at least 1/(B + 1).
    [[nodiscard]] double pOfZero(Index j, double z0, double a) const {
        const double u = normalQuantile(shareBelow(j, 0.0)) - z0;
        const double z = u / (1.0 + a * u) - z0;
        const double least =
            1.0 / (static_cast<double>(values_[static_cast<std::size_t>(j)].size()) + 1.0);
        return std::clamp(2.0 * std::min(lower(z), lower(-z)), least, 1.0);
    }

    const VectorXd& estimate_;
    const MatrixXd& influence_;
    const ErrorSpec& spec_;
    double alpha_;
    std::vector<std::vector<double>> values_;  ///< In no order.
};

class Bootstrap {
  public:
    Bootstrap(const CovarianceInput& in, const ErrorSpec& spec)
        : in_(in), spec_(spec), F_(in.solution.factor), seed_(spec.seed.value_or(1)) {
        // Orthonormal columns √w X F and the residuals √w e: draws estimate what is left to add.
        Q_ = orthonormalColumns(in.design.X, in.solution);
        e_ = in.solution.residuals;
        if (in.problem.weights.size() > 0) {
            const VectorXd root = in.problem.weights.cwiseSqrt();
            Q_ = root.asDiagonal() * Q_;
            e_ = root.cwiseProduct(e_);
        }
    }

    Result<Covariance> run() {
        if (in_.design.weightKind == WeightKind::Frequency) {
            return refuse(ErrorCode::BadSetting, "a row that stands for several cannot be drawn",
                          "errors", "Take the frequency weights out.");
        }
        const bool clustered = spec_.scheme == "clusters" || spec_.scheme == "wild-clusters";
        if (clustered &&
            (in_.design.clusterCounts.size() != 1 || in_.design.clusterCounts[0] < 2)) {
            return refuse(ErrorCode::BadSetting,
                          "a bootstrap of clusters needs two clusters or more", "errors",
                          "Name a variable to cluster by.");
        }
        if (spec_.scheme == "wild-clusters") {
            return wildClusters();
        }
        const Index k = Q_.cols();
        deltas_ = MatrixXd::Constant(k, spec_.draws, std::numeric_limits<double>::quiet_NaN());
        const bool done = spec_.scheme == "wild"       ? drawSigns()
                          : spec_.scheme == "clusters" ? drawClusters()
                                                       : drawRows();
        if (!done) {
            return stopped();
        }
        return finished();
    }

  private:
    static tl::unexpected<Refusal> stopped() {
        return refuse(ErrorCode::Stopped, "the computation was stopped", "",
                      "Change anything to start it again.");
    }

    /// Solves (Q'DQ) δ = Q'De given the sums of a draw; leaves NaN where that fails.
    void solve(const MatrixXd& sums, int draw) {
        const Index k = Q_.cols();
        const Eigen::LDLT<MatrixXd> ldlt(sums.topLeftCorner(k, k).selfadjointView<Eigen::Lower>());
        const VectorXd pivots = ldlt.vectorD();
        if (ldlt.info() == Eigen::Success && pivots.minCoeff() > 1e-12 * pivots.maxCoeff()) {
            deltas_.col(draw) = ldlt.solve(sums.row(k).head(k).transpose());
        }
    }

    /// [Q e]' [Q e] of the rows drawn.
    bool drawRows() {
        const Index n = Q_.rows();
        const Index k = Q_.cols();
        MatrixXd M(n, k + 1);
        M << Q_, e_;
        // A row left out: its coefficients move by (X'X)⁻¹x e/(1 − h).
        influence_ = Q_.array().colwise() * (e_.array() / (1.0 - in_.leverage.array()).max(1e-12));
        return inBlocks(spec_.draws, in_.job, [&](int first, int last) {
            // Counted first: rows looked up as they are drawn would come from all over the memory.
            // A few draws share each pass, so that a block of rows is read once for all of them.
            constexpr int kTogether = 4;
            for (int d = first; d < last && !in_.job.stopped(); d += kTogether) {
                addDraws(M, d, std::min(kTogether, last - d));
            }
        });
    }

    void addDraws(const MatrixXd& M, int first, int draws) {
        constexpr Index kRows = 512;
        const Index n = M.rows();
        // A row drawn 256 times among n ≥ 256 has a chance of n · 1e-507.
        std::vector<std::vector<std::uint8_t>> counts(
            static_cast<std::size_t>(draws),
            std::vector<std::uint8_t>(static_cast<std::size_t>(n)));
        for (int g = 0; g < draws; ++g) {
            RandomStream random(seed_, static_cast<std::uint64_t>(first + g));
            auto& own = counts[static_cast<std::size_t>(g)];
            for (Index i = 0; i < n; ++i) {
                ++own[random.below(static_cast<std::uint64_t>(n))];
            }
        }
        std::vector<SquareSums> sums(static_cast<std::size_t>(draws), SquareSums(M.cols()));
        VectorXd times(kRows);
        for (Index at = 0; at < n; at += kRows) {
            const Index rows = std::min(kRows, n - at);
            for (std::size_t g = 0; g < counts.size(); ++g) {
                for (Index i = 0; i < rows; ++i) {
                    times(i) = counts[g][static_cast<std::size_t>(at + i)];
                }
                sums[g].add(M.data() + at, n, rows, times.data());
            }
        }
        for (int g = 0; g < draws; ++g) {
            MatrixXd sum = MatrixXd::Zero(M.cols(), M.cols());
            sums[static_cast<std::size_t>(g)].moveTo(sum);
            solve(sum.transpose(), first + g);
        }
    }

    bool drawClusters() {
        const Index k = Q_.cols();
        const auto& of = in_.design.clusters[0];
        const auto G = static_cast<std::size_t>(in_.design.clusterCounts[0]);
        std::vector<MatrixXd> sums(G, MatrixXd::Zero(k + 1, k + 1));
        VectorXd row(k + 1);
        for (Index i = 0; i < Q_.rows(); ++i) {
            row << Q_.row(i).transpose(), e_(i);
            sums[static_cast<std::size_t>(of[static_cast<std::size_t>(i)])]
                .selfadjointView<Eigen::Lower>()
                .rankUpdate(row);
        }
        MatrixXd all = MatrixXd::Zero(k + 1, k + 1);
        for (const MatrixXd& one : sums) {
            all += one;
        }
        influence_ = MatrixXd::Zero(static_cast<Index>(G), k);
        for (std::size_t g = 0; g < G; ++g) {
            const MatrixXd without = all - sums[g];
            const Eigen::LDLT<MatrixXd> ldlt(
                without.topLeftCorner(k, k).selfadjointView<Eigen::Lower>());
            const VectorXd d = ldlt.solve(without.row(k).head(k).transpose());
            if (d.allFinite()) {
                influence_.row(static_cast<Index>(g)) = -d.transpose();
            }
        }
        return inBlocks(spec_.draws, in_.job, [&](int first, int last) {
            for (int d = first; d < last; ++d) {
                RandomStream random(seed_, static_cast<std::uint64_t>(d));
                MatrixXd total = MatrixXd::Zero(k + 1, k + 1);
                for (std::size_t g = 0; g < G; ++g) {
                    total += sums[random.below(G)];
                }
                solve(total, d);
            }
        });
    }

    bool drawSigns() {
        const Index n = Q_.rows();
        const VectorXd u = e_.array() / (1.0 - in_.leverage.array()).max(1e-12).sqrt();
        influence_ = Q_.array().colwise() * (e_.array() / (1.0 - in_.leverage.array()).max(1e-12));
        const MatrixXd scores = (u.asDiagonal() * Q_).transpose();
        return inBlocks(spec_.draws, in_.job, [&](int first, int last) {
            MatrixXd signs(n, last - first);
            for (int d = first; d < last; ++d) {
                RandomStream random(seed_, static_cast<std::uint64_t>(d));
                std::uint64_t bits = 0;
                for (Index i = 0; i < n; ++i) {
                    bits = i % 64 == 0 ? random.next() : bits >> 1U;
                    signs(i, d - first) = (bits & 1U) != 0 ? 1.0 : -1.0;
                }
            }
            deltas_.middleCols(first, last - first) = scores * signs;
        });
    }

    Result<Covariance> finished() {
        const MatrixXd shifts = F_ * deltas_;
        std::vector<Index> good;
        for (Index d = 0; d < shifts.cols(); ++d) {
            if (shifts.col(d).allFinite()) {
                good.push_back(d);
            }
        }
        Resampling r;
        r.asked = spec_.draws;
        r.failed = spec_.draws - static_cast<int>(good.size());
        if (good.size() < 20 || r.failed * 2 > r.asked) {
            return refuse(ErrorCode::TooFewRows,
                          fmt::format("{} of {} draws had no solution", r.failed, r.asked),
                          "errors",
                          "Some term varies in too few rows: merge levels, or use robust errors.");
        }
        const MatrixXd sample = shifts(Eigen::all, good);
        const VectorXd centre = sample.rowwise().mean();
        const MatrixXd centred = sample.colwise() - centre;
        Covariance out;
        out.matrix = centred * centred.transpose() / (static_cast<double>(good.size()) - 1.0);
        out.df = spec_.scheme == "clusters" ? in_.design.clusterCounts[0] - 1.0 : in_.dfResidual;
        const VectorXd& b = in_.solution.coefficients;
        const MatrixXd byRow = influence_ * F_.transpose();
        Intervals(b, sample.colwise() + b, byRow, spec_, in_.alpha).fill(r);
        r.together = steppedDown(centred, b, out.matrix.diagonal().cwiseSqrt());
        out.note = drawsNote(r);
        out.resampling = std::move(r);
        return out;
    }

    /// p of each slope such that any false finding among all of them is as rare as it says: the
    /// largest |t| of those that are not clearer than itself, over the draws.
    [[nodiscard]] VectorXd steppedDown(const MatrixXd& centred, const VectorXd& b,
                                       const VectorXd& se) const {
        VectorXd p = VectorXd::Constant(b.size(), std::numeric_limits<double>::quiet_NaN());
        std::vector<Index> order;
        for (Index j = 0; j < b.size(); ++j) {
            const auto column =
                static_cast<std::size_t>(in_.solution.kept[static_cast<std::size_t>(j)]);
            if (in_.design.columns[column].term >= 0 && se(j) > 0.0) {
                order.push_back(j);
            }
        }
        std::sort(order.begin(), order.end(), [&](Index x, Index y) {
            return std::abs(b(x)) / se(x) < std::abs(b(y)) / se(y);
        });
        // From the least clear up: the maximum over it and all before it grows with each.
        Eigen::RowVectorXd most = Eigen::RowVectorXd::Zero(centred.cols());
        for (const Index j : order) {
            most = most.cwiseMax(centred.row(j).cwiseAbs() / se(j));
            const auto beyond = (most.array() >= std::abs(b(j)) / se(j)).count();
            p(j) = (static_cast<double>(beyond) + 1.0) / (static_cast<double>(most.size()) + 1.0);
        }
        // A clearer effect has no larger p than a less clear one.
        double least = 0.0;
        for (auto j = order.rbegin(); j != order.rend(); ++j) {
            least = std::max(least, p(*j));
            p(*j) = least;
        }
        return p;
    }

    [[nodiscard]] std::string drawsNote(const Resampling& r) const {
        return countText(static_cast<std::size_t>(r.asked)) + " draws" +
               (spec_.scheme == "clusters" || spec_.scheme == "wild-clusters"
                    ? " of " + std::to_string(in_.design.clusterCounts[0]) + " clusters"
                    : "") +
               (r.failed > 0 ? ", " + std::to_string(r.failed) + " without a solution" : "");
    }

    // ---- Wild draws by clusters, the hypothesis imposed ---------------------------------------

    /// Weights of the clusters, G × B: ±1, or Webb’s six points.
    [[nodiscard]] MatrixXd clusterSigns() const {
        const Index G = in_.design.clusterCounts[0];
        static const double kWebb[6] = {-std::sqrt(1.5), -1.0, -std::sqrt(0.5),
                                        std::sqrt(0.5),  1.0,  std::sqrt(1.5)};
        MatrixXd V(G, spec_.draws);
        for (Index d = 0; d < V.cols(); ++d) {
            RandomStream random(seed_, static_cast<std::uint64_t>(d));
            for (Index g = 0; g < G; ++g) {
                V(g, d) = G < 12                        ? kWebb[random.below(6)]
                          : (random.next() >> 63U) != 0 ? 1.0
                                                        : -1.0;
            }
        }
        return V;
    }

    /// One coefficient: the draws’ t as a function of the value that is imposed on it. With a_i the
    /// weight of row i in b_j and ũ(r) the residuals when b_j = r is imposed (linear in r), the
    /// draw’s numerator is S(r)'v and its cluster scores are K(r)v.
    struct Curve {
        double numerator[2];    ///< S₀'v, S₁'v.
        double denominator[3];  ///< |K₀v|², (K₀v)'(K₁v), |K₁v|².
    };

    Result<Covariance> wildClusters() {
        ErrorSpec plain = spec_;
        plain.kind = "clustered";
        auto clustered = clusteredCovariance(in_, plain);
        if (!clustered) {
            return clustered;
        }
        const Index k = Q_.cols();
        const Index G = in_.design.clusterCounts[0];
        const auto& of = in_.design.clusters[0];
        const MatrixXd V = clusterSigns();
        Resampling r;
        r.asked = spec_.draws;
        r.low.resize(k);
        r.high.resize(k);
        r.p.resize(k);
        const double g = static_cast<double>(G);
        const double factor = g / (g - 1.0) * (in_.n - 1.0) / in_.dfResidual;
        // √w X without its scale: X = Q F⁻¹, so b_j’s weights are Q F_j'.
        for (Index j = 0; j < k; ++j) {
            if (in_.job.stopped()) {
                return stopped();
            }
            const VectorXd f = F_.row(j).transpose();
            const VectorXd a = Q_ * f;
            // Along a: what is left of column j when the other columns are taken out, scaled so
            // that the restricted residuals are e + (b_j − r) a/|a|².
            const VectorXd away = a / a.squaredNorm();
            MatrixXd A = MatrixXd::Zero(G, k);   // Σ a q by cluster
            MatrixXd U0 = MatrixXd::Zero(k, G);  // Σ q e
            MatrixXd U1 = MatrixXd::Zero(k, G);  // Σ q away
            VectorXd S0 = VectorXd::Zero(G);
            VectorXd S1 = VectorXd::Zero(G);
            for (Index i = 0; i < Q_.rows(); ++i) {
                const Index c = of[static_cast<std::size_t>(i)];
                A.row(c) += a(i) * Q_.row(i);
                U0.col(c) += e_(i) * Q_.row(i).transpose();
                U1.col(c) += away(i) * Q_.row(i).transpose();
                S0(c) += a(i) * e_(i);
                S1(c) += a(i) * away(i);
            }
            MatrixXd K0 = -(A * U0);
            MatrixXd K1 = -(A * U1);
            K0.diagonal() += S0;
            K1.diagonal() += S1;
            std::vector<Curve> curves(static_cast<std::size_t>(V.cols()));
            const bool done = inBlocks(spec_.draws, in_.job, [&](int first, int last) {
                const auto v = V.middleCols(first, last - first);
                const MatrixXd k0 = K0 * v;
                const MatrixXd k1 = K1 * v;
                for (int d = first; d < last; ++d) {
                    const Index c = d - first;
                    curves[static_cast<std::size_t>(d)] = {
                        {S0.dot(v.col(c)), S1.dot(v.col(c))},
                        {k0.col(c).squaredNorm(), k0.col(c).dot(k1.col(c)),
                         k1.col(c).squaredNorm()}};
                }
            });
            if (!done) {
                return stopped();
            }
            const double b = in_.solution.coefficients(j);
            const double se = std::sqrt(clustered->matrix(j, j));
            // s is how far the imposed value lies under the estimate.
            const auto pAt = [&](double s) {
                const double t = std::abs(s) / se;
                std::size_t beyond = 0;
                for (const Curve& c : curves) {
                    const double top = c.numerator[0] + s * c.numerator[1];
                    const double square = factor * (c.denominator[0] + 2.0 * s * c.denominator[1] +
                                                    s * s * c.denominator[2]);
                    // Ties count: a draw of all signs alike is the data themselves.
                    beyond += top * top >= t * t * square * (1.0 - 1e-10) ? 1U : 0U;
                }
                return static_cast<double>(beyond) / static_cast<double>(curves.size());
            };
            r.p(j) = pAt(b);
            r.low(j) = b - endOf(pAt, se);
            r.high(j) = b - endOf(pAt, -se);
        }
        clustered->note = drawsNote(r) + ", the hypothesis imposed";
        clustered->resampling = std::move(r);
        return clustered;
    }

    /// Where p falls to alpha, going from the estimate in steps of `step`.
    template <class P>
    [[nodiscard]] double endOf(const P& pAt, double step) const {
        double inside = 0.0;
        double outside = step;
        for (int i = 0; i < 60 && pAt(outside) > in_.alpha; ++i) {
            inside = outside;
            outside *= 1.5;
        }
        for (int i = 0; i < 50; ++i) {
            const double middle = 0.5 * (inside + outside);
            (pAt(middle) > in_.alpha ? inside : outside) = middle;
        }
        return outside;
    }

    const CovarianceInput& in_;
    const ErrorSpec& spec_;
    const MatrixXd& F_;
    std::uint64_t seed_;
    MatrixXd Q_;
    VectorXd e_;
    MatrixXd deltas_;     ///< k × B in the coordinates of Q.
    MatrixXd influence_;  ///< One row a unit: what the coefficients lose without it.
};

}  // namespace

Resampling intervalsOf(const VectorXd& estimate, const MatrixXd& draws, const ErrorSpec& spec,
                       double alpha) {
    return intervalsOf(estimate, draws, MatrixXd(), spec, alpha);
}

Resampling intervalsOf(const VectorXd& estimate, const MatrixXd& draws, const MatrixXd& influence,
                       const ErrorSpec& spec, double alpha) {
    Resampling out;
    Intervals(estimate, draws, influence, spec, alpha).fill(out);
    return out;
}

Result<Covariance> bootstrapCovariance(const CovarianceInput& in, const ErrorSpec& spec) {
    // Once effects are swept out, or changes taken, the rows of a unit hang together: they may be
    // drawn together where their effects lie within what is drawn, or their signs may be.
    const Design& design = in.design;
    const bool means = static_cast<std::int32_t>(design.rows.size()) == design.unitCount;
    const bool apart = spec.scheme == "rows" && (design.swept || (design.before && !means));
    const bool across =
        spec.scheme == "clusters" && design.swept &&
        std::any_of(design.effects.begin(), design.effects.end(), [&](const SweptGrouping& e) {
            return design.clusters.empty() || !isNested(e, design.clusters.front());
        });
    if (apart || across) {
        return refuse(ErrorCode::BadSetting,
                      apart ? "rows that share what is held fixed cannot be drawn apart"
                            : "what is held fixed reaches across the clusters that are drawn",
                      "errors",
                      "Draw clusters that hold whole groups, or signs (wild), or use clustered "
                      "errors.");
    }
    return Bootstrap(in, spec).run();
}

}  // namespace rapporto
