#include "core/paths/draws.h"

#include "core/base/parallel.h"
#include "core/model/likelihood.h"
#include "core/numerics/distributions.h"
#include "core/numerics/random.h"
#include "core/study/answer.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <limits>
#include <numbers>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr double kNone = std::numeric_limits<double>::quiet_NaN();

/// Normal numbers, two from two uniform ones. Source: Box & Muller (1958).
class Normals {
  public:
    explicit Normals(RandomStream& random) : random_(random) {}

    double next() {
        if (has_) {
            has_ = false;
            return kept_;
        }
        const double radius = std::sqrt(-2.0 * std::log(1.0 - random_.uniform()));
        const double angle = 2.0 * std::numbers::pi * random_.uniform();
        kept_ = radius * std::sin(angle);
        has_ = true;
        return radius * std::cos(angle);
    }

  private:
    RandomStream& random_;
    double kept_ = 0.0;
    bool has_ = false;
};

/// Chi-square with `df` degrees of freedom. Source: Marsaglia & Tsang (2000), ACM TOMS 26.
double chiSquareDraw(RandomStream& random, Normals& normals, double df) {
    const double shape = 0.5 * df;
    const double d = (shape < 1.0 ? shape + 1.0 : shape) - 1.0 / 3.0;
    const double c = 1.0 / std::sqrt(9.0 * d);
    while (true) {
        const double x = normals.next();
        const double root = 1.0 + c * x;
        if (root <= 0.0) {
            continue;
        }
        const double v = root * root * root;
        const double u = 1.0 - random.uniform();
        if (std::log(u) < 0.5 * x * x + d - d * v + d * std::log(v)) {
            // A shape under one by way of the next larger.
            const double boost = shape < 1.0 ? std::pow(1.0 - random.uniform(), 1.0 / shape) : 1.0;
            return 2.0 * d * v * boost;
        }
    }
}

/// Solves A x = b in place of b for a symmetric positive A (k × k, its lower triangle, by columns);
/// false where a pivot is nothing beside its diagonal.
bool solveInPlace(double* A, double* b, int k) {
    for (int j = 0; j < k; ++j) {
        double* column = A + static_cast<std::ptrdiff_t>(j) * k;
        const double before = column[j];
        double pivot = before;
        for (int l = 0; l < j; ++l) {
            const double a = A[static_cast<std::ptrdiff_t>(l) * k + j];
            pivot -= a * a;
        }
        if (!(pivot > 1e-11 * before)) {
            return false;
        }
        const double root = std::sqrt(pivot);
        column[j] = root;
        for (int i = j + 1; i < k; ++i) {
            double value = column[i];
            for (int l = 0; l < j; ++l) {
                value -= A[static_cast<std::ptrdiff_t>(l) * k + i] *
                         A[static_cast<std::ptrdiff_t>(l) * k + j];
            }
            column[i] = value / root;
        }
    }
    for (int i = 0; i < k; ++i) {
        double value = b[i];
        for (int l = 0; l < i; ++l) {
            value -= A[static_cast<std::ptrdiff_t>(l) * k + i] * b[l];
        }
        b[i] = value / A[static_cast<std::ptrdiff_t>(i) * k + i];
    }
    for (int i = k - 1; i >= 0; --i) {
        double value = b[i];
        for (int l = i + 1; l < k; ++l) {
            value -= A[static_cast<std::ptrdiff_t>(i) * k + l] * b[l];
        }
        b[i] = value / A[static_cast<std::ptrdiff_t>(i) * k + i];
    }
    return true;
}

/// The columns of all linear equations and their outcomes, each once, centred and scaled; which of
/// them each equation uses.
class Columns {
  public:
    explicit Columns(const PathSystem& system) : system_(system) {
        const Index n = system.values.front().size();
        std::vector<VectorXd> made;
        std::vector<std::string> names;
        const double weight = system.weights.size() > 0 ? system.weights.sum() : 0.0;
        const auto add = [&](const std::string& name, const VectorXd& x) {
            const auto at = std::find(names.begin(), names.end(), name);
            if (at != names.end()) {
                return static_cast<int>(at - names.begin());
            }
            const double mean = weight > 0.0 ? x.dot(system.weights) / weight : x.mean();
            VectorXd z = x.array() - mean;
            const double scale = z.norm() / std::sqrt(static_cast<double>(n));
            z = scale > 0.0 ? VectorXd(z / scale) : VectorXd(VectorXd::Zero(n));
            names.push_back(name);
            scales.push_back(scale > 0.0 ? scale : 1.0);
            made.push_back(std::move(z));
            return static_cast<int>(names.size()) - 1;
        };
        for (std::size_t e = 0; e < system.equations.size(); ++e) {
            const TraceEquation& equation = system.equations[e];
            Use use;
            use.outcome = add(equation.to, equation.design->y);
            for (Index j = system.first[e]; j < system.first[e + 1]; ++j) {
                const ColumnFactors& column = system.columns[static_cast<std::size_t>(j)];
                // The constant is centred away.
                if (!column.factors.empty()) {
                    std::string name =
                        equation.design->columns[static_cast<std::size_t>(column.column)].name;
                    if (column.factors.size() == 1) {
                        name = system.nodes[static_cast<std::size_t>(column.factors[0])].name;
                    }
                    use.columns.push_back(add(name, equation.design->X.col(column.column)));
                    use.parameters.push_back(j);
                }
            }
            uses.push_back(std::move(use));
        }
        Z.resize(static_cast<Index>(made.size()) + 1, n);
        for (std::size_t c = 0; c < made.size(); ++c) {
            Z.row(static_cast<Index>(c)) = made[c].transpose();
        }
        Z.bottomRows(1).setOnes();
    }

    struct Use {
        int outcome = 0;
        std::vector<int> columns;
        std::vector<Index> parameters;
    };

    /// Products of two columns, lower triangle by columns.
    [[nodiscard]] Index pairs() const { return Z.rows() * (Z.rows() + 1) / 2; }

    [[nodiscard]] Index pairOf(int a, int b) const {
        const auto p = static_cast<int>(Z.rows());
        const int i = std::max(a, b);
        const int j = std::min(a, b);
        return static_cast<Index>(j) * p - static_cast<Index>(j) * (j - 1) / 2 + (i - j);
    }

    /// Products of all pairs in `rows` rows from `from` on, times the rows’ weights (pairs × rows).
    void products(Index from, Index rows, MatrixXd& out) const {
        const Index p = Z.rows();
        for (Index i = 0; i < rows; ++i) {
            const double w = system_.weights.size() > 0 ? system_.weights(from + i) : 1.0;
            const double* z = Z.col(from + i).data();
            double* into = out.col(i).data();
            for (Index a = 0; a < p; ++a) {
                const double wa = w * z[a];
                for (Index b = a; b < p; ++b) {
                    *into++ = wa * z[b];
                }
            }
        }
    }

    /// θ from sums of products; NaN throughout where an equation has no solution.
    void solve(const double* sums, VectorXd& theta) const {
        const auto last = static_cast<int>(Z.rows()) - 1;
        const double count = sums[pairOf(last, last)];
        const auto cross = [&](int a, int b) {
            // Centred once more: a draw has other means.
            return sums[pairOf(a, b)] - sums[pairOf(a, last)] * sums[pairOf(b, last)] / count;
        };
        constexpr int kSmall = 24;
        double small[kSmall * kSmall];
        double right[kSmall];
        std::vector<double> large;
        std::vector<double> largeRight;
        for (std::size_t e = 0; e < uses.size(); ++e) {
            const Use& use = uses[e];
            const auto k = static_cast<int>(use.columns.size());
            double* A = small;
            double* b = right;
            if (k > kSmall) {
                large.resize(static_cast<std::size_t>(k) * static_cast<std::size_t>(k));
                largeRight.resize(static_cast<std::size_t>(k));
                A = large.data();
                b = largeRight.data();
            }
            for (int j = 0; j < k; ++j) {
                const int cj = use.columns[static_cast<std::size_t>(j)];
                for (int i = j; i < k; ++i) {
                    A[j * k + i] = cross(use.columns[static_cast<std::size_t>(i)], cj);
                }
                b[j] = cross(cj, use.outcome);
            }
            if (!solveInPlace(A, b, k)) {
                theta.setConstant(kNone);
                return;
            }
            const double scale = scales[static_cast<std::size_t>(use.outcome)];
            for (int j = 0; j < k; ++j) {
                const auto c = static_cast<std::size_t>(use.columns[static_cast<std::size_t>(j)]);
                theta(use.parameters[static_cast<std::size_t>(j)]) = b[j] * scale / scales[c];
            }
        }
    }

    MatrixXd Z;  ///< Columns × rows, the last all ones.
    std::vector<double> scales;
    std::vector<Use> uses;

  private:
    const PathSystem& system_;
};

/// The maximum of a likelihood of one index near a start, rows weighted; false where there is none.
bool nearMaximum(const RowModel& model, const MatrixXd& X, const VectorXd& weights,
                 VectorXd& beta) {
    const Index k = X.cols();
    for (int step = 0; step < 30; ++step) {
        MatrixXd H = MatrixXd::Zero(k, k);
        VectorXd g = VectorXd::Zero(k);
        for (Index i = 0; i < X.rows(); ++i) {
            if (weights(i) > 0.0) {
                const double index = X.row(i).dot(beta);
                double first = 0.0;
                double second = 0.0;
                model.row(i, &index, &first, &second);
                g += (weights(i) * first) * X.row(i).transpose();
                H.selfadjointView<Eigen::Lower>().rankUpdate(X.row(i).transpose(),
                                                             -weights(i) * second);
            }
        }
        const Eigen::LDLT<MatrixXd> ldlt(H.selfadjointView<Eigen::Lower>());
        const VectorXd pivots = ldlt.vectorD();
        if (ldlt.info() != Eigen::Success || !(pivots.minCoeff() > 1e-11 * pivots.maxCoeff())) {
            return false;
        }
        const VectorXd move = ldlt.solve(g);
        if (!move.allFinite() || move.cwiseAbs().maxCoeff() > 1e3) {
            return false;
        }
        beta += move;
        if (move.dot(g) < 1e-14 * weights.sum()) {
            return true;
        }
    }
    return false;
}

class Drawer {
  public:
    Drawer(const PathSystem& system, const EffectPlan& plan, const TraceSpec& spec,
           const MatrixXd& covariance, const SummaryMatrix* moments, const Job& job)
        : system_(system),
          plan_(plan),
          spec_(spec),
          covariance_(covariance),
          moments_(moments),
          job_(job),
          columns_(system),
          seed_(spec.seed.value_or(1)) {}

    Result<TraceDraws> run() {
        const auto E = static_cast<Index>(plan_.size());
        values_ = MatrixXd::Constant(E, spec_.draws, kNone);
        const bool done = spec_.resampling == "parametric"
                              ? (moments_ != nullptr ? drawSummary() : drawNormal())
                          : system_.isLinear() ? drawSums()
                                               : drawFits();
        if (!done) {
            return stoppedWork();
        }
        TraceDraws out;
        out.asked = spec_.draws;
        std::vector<Index> good;
        for (Index d = 0; d < values_.cols(); ++d) {
            // A share of nothing is no failure of the draw.
            if (values_.col(d).head(static_cast<Index>(plan_.effects().size())).allFinite()) {
                good.push_back(d);
            }
        }
        out.failed = out.asked - static_cast<int>(good.size());
        if (good.size() < 20 || out.failed * 2 > out.asked) {
            return refuse(ErrorCode::TooFewRows,
                          fmt::format("{} of {} draws had no solution", out.failed, out.asked),
                          "draws",
                          "Some term varies in too few rows: merge levels, widen the sample, or "
                          "ask for delta intervals.");
        }
        out.values = values_(Eigen::all, good);
        if (spec_.interval == "bca") {
            out.influence = influence();
        }
        return out;
    }

  private:
    /// Runs `work(first, last)` over blocks of draws; false when it was stopped.
    template <class Work>
    bool inBlocks(int size, const Work& work) {
        const int blocks = (spec_.draws + size - 1) / size;
        std::atomic<int> done{0};
        inParallel(static_cast<std::size_t>(blocks), [&](std::size_t k) {
            if (!job_.stopped()) {
                const int first = static_cast<int>(k) * size;
                work(first, std::min(spec_.draws, first + size));
                job_.report(static_cast<double>(++done) / blocks);
            }
        });
        return !job_.stopped();
    }

    /// Units that are drawn: rows, those that a frequency counts as often, or clusters.
    [[nodiscard]] bool clustered() const { return spec_.resampling == "clusters"; }

    [[nodiscard]] bool counted() const {
        return system_.equations.front().design->weightKind == WeightKind::Frequency &&
               moments_ == nullptr;
    }

    /// How often each row (or cluster) comes up in a draw.
    template <class Counts>
    void drawCounts(int draw, Index units, Counts&& counts) const {
        RandomStream random(seed_, static_cast<std::uint64_t>(draw));
        if (counted() && !clustered()) {
            const auto total = static_cast<std::uint64_t>(system_.n);
            for (std::uint64_t i = 0; i < total; ++i) {
                counts(rowOfCount(random.below(total)));
            }
            return;
        }
        for (Index i = 0; i < units; ++i) {
            counts(static_cast<Index>(random.below(static_cast<std::uint64_t>(units))));
        }
    }

    [[nodiscard]] Index rowOfCount(std::uint64_t place) const {
        const auto at =
            std::upper_bound(cumulated_.begin(), cumulated_.end(), static_cast<double>(place));
        return at - cumulated_.begin();
    }

    void prepareCounts() {
        if (counted()) {
            double sum = 0.0;
            for (Index i = 0; i < system_.weights.size(); ++i) {
                sum += system_.weights(i);
                cumulated_.push_back(sum);
            }
        }
    }

    bool drawSums() {
        prepareCounts();
        const Index n = columns_.Z.cols();
        const Index q = columns_.pairs();
        const bool summed = clustered();
        const Index units = summed ? system_.drawnCount : n;
        // Products of clusters are few: they are summed once.
        MatrixXd byCluster;
        if (summed) {
            byCluster = clusterSums();
        }
        // Under frequency weights a row that is drawn counts once.
        const Columns& columns = columns_;
        const bool once = counted() && !summed;
        constexpr Index kRows = 256;
        const int size = std::clamp(static_cast<int>(3e6 / static_cast<double>(units * q)), 8, 64);
        return inBlocks(size, [&](int first, int last) {
            const Index count = last - first;
            MatrixXd drawn = MatrixXd::Zero(units, count);
            for (int d = first; d < last; ++d) {
                double* column = drawn.col(d - first).data();
                drawCounts(d, units, [&](Index unit) { column[unit] += 1.0; });
            }
            MatrixXd sums = MatrixXd::Zero(q, count);
            if (summed) {
                sums.noalias() = byCluster * drawn;
            } else {
                MatrixXd products(q, std::min(kRows, n));
                for (Index from = 0; from < n; from += kRows) {
                    const Index rows = std::min(kRows, n - from);
                    columns.products(from, rows, products);
                    if (once) {
                        products.leftCols(rows).array().rowwise() /=
                            system_.weights.segment(from, rows).transpose().array();
                    }
                    sums.noalias() += products.leftCols(rows) * drawn.middleRows(from, rows);
                }
            }
            VectorXd theta = system_.theta;
            for (int d = first; d < last; ++d) {
                columns.solve(sums.col(d - first).data(), theta);
                if (theta.allFinite()) {
                    values_.col(d) = plan_.at(theta, {});
                } else {
                    theta = system_.theta;
                }
            }
        });
    }

    [[nodiscard]] MatrixXd clusterSums() const {
        const Index n = columns_.Z.cols();
        MatrixXd out = MatrixXd::Zero(columns_.pairs(), system_.drawnCount);
        MatrixXd products(columns_.pairs(), 256);
        for (Index from = 0; from < n; from += 256) {
            const Index rows = std::min<Index>(256, n - from);
            columns_.products(from, rows, products);
            for (Index i = 0; i < rows; ++i) {
                out.col(system_.drawn[static_cast<std::size_t>(from + i)]) += products.col(i);
            }
        }
        return out;
    }

    /// Coefficients from their joint normal law.
    bool drawNormal() {
        const Eigen::SelfAdjointEigenSolver<MatrixXd> parts(covariance_);
        const MatrixXd root =
            parts.eigenvectors() * parts.eigenvalues().cwiseMax(0.0).cwiseSqrt().asDiagonal();
        const RowFacts rows = rowFacts(system_);
        return inBlocks(64, [&](int first, int last) {
            VectorXd z(root.cols());
            for (int d = first; d < last && !job_.stopped(); ++d) {
                RandomStream random(seed_, static_cast<std::uint64_t>(d));
                Normals normals(random);
                for (double& one : z) {
                    one = normals.next();
                }
                values_.col(d) = plan_.at(system_.theta + root * z, rows);
            }
        });
    }

    /// Covariance matrices from their Wishart law, by Bartlett’s decomposition, each refitted.
    bool drawSummary() {
        // The stand-in rows have the summary’s moments: their products are its covariances.
        const Index p = columns_.Z.rows() - 1;
        MatrixXd S(p, p);
        for (Index a = 0; a < p; ++a) {
            for (Index b = 0; b < p; ++b) {
                S(a, b) = (columns_.Z.row(a).cwiseProduct(columns_.Z.row(b))).dot(system_.weights) /
                          (system_.n - 1.0);
            }
        }
        const Eigen::SelfAdjointEigenSolver<MatrixXd> parts(S);
        const MatrixXd L =
            parts.eigenvectors() * parts.eigenvalues().cwiseMax(0.0).cwiseSqrt().asDiagonal();
        const double df = system_.n - 1.0;
        return inBlocks(64, [&](int first, int last) {
            VectorXd theta = system_.theta;
            VectorXd sums(columns_.pairs());
            MatrixXd A = MatrixXd::Zero(p, p);
            for (int d = first; d < last; ++d) {
                RandomStream random(seed_, static_cast<std::uint64_t>(d));
                Normals normals(random);
                for (Index j = 0; j < p; ++j) {
                    A(j, j) =
                        std::sqrt(chiSquareDraw(random, normals, df - static_cast<double>(j)));
                    for (Index i = j + 1; i < p; ++i) {
                        A(i, j) = normals.next();
                    }
                }
                const MatrixXd root = L * A;
                const MatrixXd W = root * root.transpose();
                sums.setZero();
                for (int a = 0; a < static_cast<int>(p); ++a) {
                    for (int b = a; b < static_cast<int>(p); ++b) {
                        sums(columns_.pairOf(a, b)) = W(a, b);
                    }
                }
                sums(columns_.pairs() - 1) = system_.n;
                columns_.solve(sums.data(), theta);
                if (theta.allFinite()) {
                    values_.col(d) = plan_.at(theta, {});
                } else {
                    theta = system_.theta;
                }
            }
        });
    }

    /// θ under weights of the rows, likelihoods sought anew from where they stand.
    bool fitUnder(const VectorXd& weights, VectorXd& theta, VectorXd& variances) const {
        theta = system_.theta;
        for (std::size_t e = 0; e < system_.equations.size(); ++e) {
            const TraceEquation& equation = system_.equations[e];
            const MatrixXd X = equation.design->X(Eigen::all, equation.fit->solution.kept);
            const Index first = system_.first[e];
            const Index k = X.cols();
            if (!equation.isLinear()) {
                VectorXd beta = system_.theta.segment(first, k);
                const auto model =
                    plainModel(familyOf(equation.question.method), equation.design->y);
                if (!nearMaximum(*model, X, weights, beta)) {
                    return false;
                }
                theta.segment(first, k) = beta;
                continue;
            }
            const MatrixXd Q = orthonormalColumns(equation.design->X, equation.fit->solution);
            MatrixXd G = MatrixXd::Zero(k, k);
            G.selfadjointView<Eigen::Lower>().rankUpdate(
                (Q.array().colwise() * weights.array().sqrt()).matrix().transpose());
            const Eigen::LDLT<MatrixXd> ldlt(G.selfadjointView<Eigen::Lower>());
            const VectorXd pivots = ldlt.vectorD();
            if (ldlt.info() != Eigen::Success || !(pivots.minCoeff() > 1e-11 * pivots.maxCoeff())) {
                return false;
            }
            const VectorXd e0 = equation.fit->residuals;
            const VectorXd delta = ldlt.solve(Q.transpose() * weights.cwiseProduct(e0));
            theta.segment(first, k) += equation.fit->solution.factor * delta;
            const VectorXd left = e0 - Q * delta;
            variances(static_cast<Index>(e)) = left.cwiseAbs2().dot(weights) /
                                               equation.fit->dfResidual *
                                               (system_.n / weights.sum());
        }
        return true;
    }

    bool drawFits() {
        prepareCounts();
        const Index n = columns_.Z.cols();
        const Index units = clustered() ? system_.drawnCount : n;
        return inBlocks(4, [&](int first, int last) {
            VectorXd theta;
            RowFacts rows = rowFacts(system_);
            VectorXd drawn(units);
            for (int d = first; d < last && !job_.stopped(); ++d) {
                drawn.setZero();
                drawCounts(d, units, [&](Index unit) { drawn(unit) += 1.0; });
                rows.weights.resize(n);
                for (Index i = 0; i < n; ++i) {
                    const double times =
                        clustered() ? drawn(system_.drawn[static_cast<std::size_t>(i)]) : drawn(i);
                    const bool own = system_.weights.size() > 0 && (!counted() || clustered());
                    rows.weights(i) = times * (own ? system_.weights(i) : 1.0);
                }
                if (fitUnder(rows.weights, theta, rows.variances)) {
                    values_.col(d) = plan_.at(theta, rows);
                }
            }
        });
    }

    /// What leaving each unit out takes from every effect.
    [[nodiscard]] MatrixXd influence() const {
        const Index n = columns_.Z.cols();
        const Index units = clustered() ? system_.drawnCount : n;
        const RowFacts all = rowFacts(system_);
        const VectorXd whole = plan_.at(system_.theta, all);
        MatrixXd out = MatrixXd::Zero(units, whole.size());
        if (system_.isLinear()) {
            const MatrixXd byUnit = clustered() ? clusterSums() : MatrixXd();
            // Sums of all, unit by unit in their order.
            VectorXd total = VectorXd::Zero(columns_.pairs());
            MatrixXd products(columns_.pairs(), 1);
            for (Index u = 0; u < units; ++u) {
                if (!clustered()) {
                    columns_.products(u, 1, products);
                }
                total += (clustered() ? byUnit : products).col(clustered() ? u : 0);
            }
            constexpr Index kUnits = 512;
            const auto blocks = static_cast<std::size_t>((units + kUnits - 1) / kUnits);
            inParallel(blocks, [&](std::size_t block) {
                VectorXd theta = system_.theta;
                MatrixXd own(columns_.pairs(), 1);
                const Index first = static_cast<Index>(block) * kUnits;
                for (Index u = first; u < std::min(units, first + kUnits) && !job_.stopped(); ++u) {
                    if (clustered()) {
                        own = byUnit.col(u);
                    } else {
                        columns_.products(u, 1, own);
                        own /= counted() ? system_.weights(u) : 1.0;  // One of those it stands for.
                    }
                    const VectorXd without = total - own.col(0);
                    columns_.solve(without.data(), theta);
                    if (theta.allFinite()) {
                        out.row(u) = (whole - plan_.at(theta, {})).transpose();
                    } else {
                        theta = system_.theta;
                    }
                }
            });
            return eachCounted(std::move(out));
        }
        inParallel(static_cast<std::size_t>(units), [&](std::size_t u) {
            if (job_.stopped()) {
                return;
            }
            RowFacts rows = all;
            rows.weights =
                system_.weights.size() > 0 ? system_.weights : VectorXd(VectorXd::Ones(n));
            for (Index i = 0; i < n; ++i) {
                const bool gone = clustered() ? system_.drawn[static_cast<std::size_t>(i)] ==
                                                    static_cast<std::int32_t>(u)
                                              : i == static_cast<Index>(u);
                rows.weights(i) -= gone ? (counted() && !clustered() ? 1.0 : rows.weights(i)) : 0.0;
            }
            VectorXd theta;
            if (fitUnder(rows.weights, theta, rows.variances)) {
                out.row(static_cast<Index>(u)) = (whole - plan_.at(theta, rows)).transpose();
            }
        });
        return eachCounted(std::move(out));
    }

    /// Under frequency weights a row is as many units as it stands for.
    [[nodiscard]] MatrixXd eachCounted(MatrixXd byRow) const {
        if (!counted() || clustered()) {
            return byRow;
        }
        std::vector<Index> rows;
        for (Index i = 0; i < byRow.rows(); ++i) {
            rows.insert(rows.end(), static_cast<std::size_t>(system_.weights(i)), i);
        }
        return byRow(rows, Eigen::all);
    }

    const PathSystem& system_;
    const EffectPlan& plan_;
    const TraceSpec& spec_;
    const MatrixXd& covariance_;
    const SummaryMatrix* moments_;
    const Job& job_;
    Columns columns_;
    std::uint64_t seed_;
    std::vector<double> cumulated_;
    MatrixXd values_;
};

}  // namespace

Result<TraceDraws> drawEffects(const PathSystem& system, const EffectPlan& plan,
                               const TraceSpec& spec, const MatrixXd& covariance,
                               const SummaryMatrix* moments, const Job& job) {
    return Drawer(system, plan, spec, covariance, moments, job).run();
}

}  // namespace rapporto
