#include "core/numerics/sweep_effects.h"

#include "core/base/parallel.h"

#include <Eigen/SparseCholesky>

#include <algorithm>
#include <cmath>
#include <memory>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using Id = std::int32_t;

constexpr Id kDirect = 1200;             // Effects whose Schur complement is factorised.
constexpr int kFirstSteps = 150;         // Of conjugate gradients, then a sparse factor is tried.
constexpr Index kMostFill = 40'000'000;  // Entries of a sparse factor.
constexpr int kMostSteps = 3000;         // Of conjugate gradients.
constexpr int kMostRounds = 4;           // Of sweeping what is left once more.
constexpr double kTolerance = 1e-8;      // Of a group mean, in sd of the column.
constexpr Index kMostTableCells = 4'000'000;  // Sums by group kept once a stretch of rows.

/// Stretches of rows that hang on their number alone, for sums by group.
class Stretches {
  public:
    Stretches(std::size_t rows, Index tableCells)
        : chunks_(rows),
          count_(tableCells > kMostTableCells ? 1 : std::min<std::size_t>(chunks_.count(), 4)) {}

    [[nodiscard]] std::size_t count() const { return count_; }

    /// work(stretch, first row, past the last)
    template <class Work>
    void forEach(const Work& work) const {
        const auto run = [&](std::size_t s) {
            work(s, static_cast<Index>(chunks_[chunks_.count() * s / count_].begin),
                 static_cast<Index>(chunks_[chunks_.count() * (s + 1) / count_ - 1].end));
        };
        if (count_ == 1) {
            run(0);
            return;
        }
        RowChunks(count_ * 16384).forEach(run);
    }

  private:
    RowChunks chunks_;
    std::size_t count_;
};

/// Rows that agree in all groupings, in the order of the first: for each a weight and the ids in
/// the others.
struct Cells {
    std::vector<std::size_t>
        start;  ///< First cell of each group of the first grouping, and the end.
    std::vector<double> weight;
    std::vector<std::vector<Id>>
        ids;  ///< A list each further grouping, shifted past the ones before.
};

Cells cellsOf(const std::vector<EffectGroups>& groupings, const VectorXd& weights) {
    const EffectGroups& first = groupings.front();
    const std::size_t n = first.of.size();
    std::vector<std::size_t> start(static_cast<std::size_t>(first.count) + 1, 0);
    for (const Id g : first.of) {
        ++start[static_cast<std::size_t>(g) + 1];
    }
    std::partial_sum(start.begin(), start.end(), start.begin());
    std::vector<std::uint32_t> order(n);
    std::vector<std::size_t> next(start.begin(), start.end() - 1);
    for (std::size_t i = 0; i < n; ++i) {
        order[next[static_cast<std::size_t>(first.of[i])]++] = static_cast<std::uint32_t>(i);
    }
    const std::size_t others = groupings.size() - 1;
    Cells out;
    out.ids.resize(others);
    out.weight.reserve(n);
    out.start.reserve(start.size());
    for (auto& ids : out.ids) {
        ids.reserve(n);
    }
    out.start.assign(1, 0);
    for (std::size_t g = 0; g + 1 < start.size(); ++g) {
        const auto from = order.begin() + static_cast<std::ptrdiff_t>(start[g]);
        const auto to = order.begin() + static_cast<std::ptrdiff_t>(start[g + 1]);
        const auto before = [&](std::uint32_t a, std::uint32_t b) {
            for (std::size_t d = 1; d <= others; ++d) {
                if (groupings[d].of[a] != groupings[d].of[b]) {
                    return groupings[d].of[a] < groupings[d].of[b];
                }
            }
            return a < b;
        };
        if (!std::is_sorted(from, to, before)) {
            std::sort(from, to, before);
        }
        for (auto at = from; at != to; ++at) {
            const double w = weights.size() > 0 ? weights(*at) : 1.0;
            bool same = at != from;
            for (std::size_t d = 0; d < others && same; ++d) {
                same = groupings[d + 1].of[*at] == groupings[d + 1].of[*(at - 1)];
            }
            if (same) {
                out.weight.back() += w;
                continue;
            }
            out.weight.push_back(w);
            Id shift = 0;
            for (std::size_t d = 0; d < others; ++d) {
                out.ids[d].push_back(groupings[d + 1].of[*at] + shift);
                shift += groupings[d + 1].count;
            }
        }
        out.start.push_back(out.weight.size());
    }
    return out;
}

Id rootOf(std::vector<Id>& parent, Id x) {
    while (parent[static_cast<std::size_t>(x)] != x) {
        Id& up = parent[static_cast<std::size_t>(x)];
        up = parent[static_cast<std::size_t>(up)];
        x = up;
    }
    return x;
}

/// Sets of groups of two groupings that rows join.
double componentsOf(const EffectGroups& a, const EffectGroups& b) {
    std::vector<Id> parent(static_cast<std::size_t>(a.count + b.count));
    std::iota(parent.begin(), parent.end(), Id{0});
    double count = static_cast<double>(parent.size());
    // Once all hang together, further rows say nothing.
    for (std::size_t i = 0; i < a.of.size() && count > 1.0; ++i) {
        const Id left = rootOf(parent, a.of[i]);
        const Id right = rootOf(parent, b.of[i] + a.count);
        if (left != right) {
            parent[static_cast<std::size_t>(left)] = right;
            count -= 1.0;
        }
    }
    return count;
}

/// Works on c columns beside each other: a table holds c numbers a group.
class Sweeper {
  public:
    Sweeper(MatrixXd& columns, std::vector<EffectGroups> groupings, const VectorXd& weights,
            const Job& job)
        : X_(columns), groupings_(std::move(groupings)), weights_(weights), job_(job) {
        for (std::size_t d = 1; d < groupings_.size(); ++d) {
            others_ += groupings_[d].count;
        }
        if (groupings_.size() > 1) {
            cells_ = cellsOf(groupings_, weights_);
        }
        for (const EffectGroups& g : groupings_) {
            VectorXd sum = VectorXd::Zero(g.count);
            for (std::size_t i = 0; i < g.of.size(); ++i) {
                sum(g.of[i]) += weights_.size() > 0 ? weights_(static_cast<Index>(i)) : 1.0;
            }
            groupWeights_.push_back(std::move(sum));
        }
        diagonal_.resize(others_);
        Index at = 0;
        for (std::size_t d = 1; d < groupings_.size(); ++d) {
            diagonal_.segment(at, groupings_[d].count) = groupWeights_[d];
            at += groupings_[d].count;
        }
    }

    Result<SweptReport> run() {
        SweptReport report;
        const VectorXd spread = spreads();
        std::vector<MatrixXd> sums = groupSums();
        for (int round = 0;; ++round) {
            report.largestMean = largestMean(sums, spread);
            report.converged = report.largestMean <= kTolerance;
            // The first round always; another only where rounding or an early end left something.
            if ((report.converged && round > 0) || round == kMostRounds || gaveUp_) {
                break;
            }
            if (job_.stopped()) {
                return refuse(ErrorCode::Stopped, "the computation was stopped");
            }
            const MatrixXd others = solveOthers(sums);
            subtract(firstOf(sums[0], others), others);
            report.steps = steps_;
            sums = groupSums();
        }
        report.rank = effectsRank(groupings_);
        return report;
    }

  private:
    [[nodiscard]] Index width() const { return X_.cols(); }

    [[nodiscard]] double weight(Index i) const { return weights_.size() > 0 ? weights_(i) : 1.0; }

    VectorXd spreads() const {
        VectorXd out(width());
        const double total = groupWeights_[0].sum();
        for (Index j = 0; j < width(); ++j) {
            const auto x = X_.col(j).array();
            const double mean =
                weights_.size() > 0 ? (x * weights_.array()).sum() / total : x.sum() / total;
            const double squares = weights_.size() > 0
                                       ? ((x - mean).square() * weights_.array()).sum()
                                       : (x - mean).square().sum();
            out(j) = std::sqrt(squares / total);
        }
        return out;
    }

    /// Weighted sums of every column in every group, c × count, a table a grouping.
    std::vector<MatrixXd> groupSums() const {
        Index cells = 0;
        for (const EffectGroups& g : groupings_) {
            cells += g.count * width();
        }
        const Stretches stretches(static_cast<std::size_t>(X_.rows()), cells);
        std::vector<std::vector<MatrixXd>> parts(stretches.count());
        stretches.forEach([&](std::size_t s, Index from, Index to) {
            for (const EffectGroups& g : groupings_) {
                parts[s].push_back(MatrixXd::Zero(width(), g.count));
            }
            constexpr Index kTile = 64;
            MatrixXd tile(width(), kTile);
            for (Index at = from; at < to; at += kTile) {
                const Index rows = std::min(kTile, to - at);
                for (Index j = 0; j < width(); ++j) {
                    const double* x = &X_(at, j);
                    for (Index i = 0; i < rows; ++i) {
                        tile(j, i) = x[i];
                    }
                }
                if (weights_.size() > 0) {
                    for (Index i = 0; i < rows; ++i) {
                        tile.col(i) *= weights_(at + i);
                    }
                }
                for (std::size_t d = 0; d < groupings_.size(); ++d) {
                    MatrixXd& sums = parts[s][d];
                    const Id* ids = &groupings_[d].of[static_cast<std::size_t>(at)];
                    const Index c = width();
                    for (Index i = 0; i < rows; ++i) {
                        double* into = &sums(0, ids[i]);
                        const double* row = &tile(0, i);
                        for (Index j = 0; j < c; ++j) {
                            into[j] += row[j];
                        }
                    }
                }
            }
        });
        for (std::size_t s = 1; s < parts.size(); ++s) {
            for (std::size_t d = 0; d < groupings_.size(); ++d) {
                parts[0][d] += parts[s][d];
            }
        }
        return std::move(parts[0]);
    }

    double largestMean(const std::vector<MatrixXd>& sums, const VectorXd& spread) const {
        double largest = 0.0;
        for (std::size_t d = 0; d < sums.size(); ++d) {
            for (Index j = 0; j < width(); ++j) {
                if (spread(j) > 0.0) {
                    largest = std::max(
                        largest, (sums[d].row(j).transpose().array() / groupWeights_[d].array())
                                         .abs()
                                         .maxCoeff() /
                                     spread(j));
                }
            }
        }
        return largest;
    }

    /// Effects of all groupings but the first, c × others.
    MatrixXd solveOthers(const std::vector<MatrixXd>& sums) {
        if (groupings_.size() == 1) {
            return MatrixXd(width(), 0);
        }
        MatrixXd right(width(), others_);
        Index at = 0;
        for (std::size_t d = 1; d < sums.size(); ++d) {
            right.middleCols(at, groupings_[d].count) = sums[d];
            at += groupings_[d].count;
        }
        right -= scattered(sums[0]);
        return groupings_.size() == 2 && others_ <= kDirect ? direct(right)
               : sparse_ ? MatrixXd(sparse_->solve(right.transpose()).transpose())
                         : gradients(right);
    }

    /// Runs `work(slot, first group, past the last)` over the groups of the first grouping.
    template <class Work>
    void overGroups(std::size_t slots, const Work& work) const {
        const std::size_t groups = cells_.start.size() - 1;
        const auto run = [&](std::size_t s) {
            work(s, groups * s / slots, groups * (s + 1) / slots);
        };
        if (slots == 1) {
            run(0);
        } else {
            RowChunks(slots * 16384).forEach(run);
        }
    }

    [[nodiscard]] std::size_t groupSlots() const {
        return std::min<std::size_t>(4, std::max<std::size_t>(1, cells_.start.size() / 4096));
    }

    /// What means of the first grouping (sums over weights) add up to in the groups of the others.
    MatrixXd scattered(const MatrixXd& firstSums) const {
        const std::size_t slots = groupSlots();
        std::vector<MatrixXd> parts(slots, MatrixXd::Zero(width(), others_));
        overGroups(slots, [&](std::size_t s, std::size_t from, std::size_t to) {
            const Index width = X_.cols();
            std::vector<double> mean(static_cast<std::size_t>(width));
            for (std::size_t g = from; g < to; ++g) {
                const double total = groupWeights_[0](static_cast<Index>(g));
                for (Index j = 0; j < width; ++j) {
                    mean[static_cast<std::size_t>(j)] = firstSums(j, static_cast<Index>(g)) / total;
                }
                for (std::size_t c = cells_.start[g]; c < cells_.start[g + 1]; ++c) {
                    for (const auto& ids : cells_.ids) {
                        double* into = &parts[s](0, ids[c]);
                        for (Index j = 0; j < width; ++j) {
                            into[j] += cells_.weight[c] * mean[static_cast<std::size_t>(j)];
                        }
                    }
                }
            }
        });
        return summed(parts);
    }

    static MatrixXd summed(std::vector<MatrixXd>& parts) {
        for (std::size_t s = 1; s < parts.size(); ++s) {
            parts[0] += parts[s];
        }
        return std::move(parts[0]);
    }

    /// Groups of the second grouping, one of each component: their effects are open by a sum.
    std::vector<Id> openGroups() const {
        const Id count = groupings_[1].count;
        std::vector<Id> parent(static_cast<std::size_t>(groupings_[0].count + count));
        std::iota(parent.begin(), parent.end(), Id{0});
        for (std::size_t g = 0; g + 1 < cells_.start.size(); ++g) {
            for (std::size_t c = cells_.start[g]; c < cells_.start[g + 1]; ++c) {
                const Id left = rootOf(parent, static_cast<Id>(g) + count);
                const Id other = rootOf(parent, cells_.ids[0][c]);
                if (left != other) {
                    parent[static_cast<std::size_t>(left)] = other;
                }
            }
        }
        std::vector<Id> open;
        for (Id t = 0; t < count; ++t) {
            if (rootOf(parent, t) == t) {
                open.push_back(t);
            }
        }
        return open;
    }

    /// The Schur complement of the first grouping, factorised; effects are fixed to zero where the
    /// sum of a component leaves them open.
    MatrixXd direct(const MatrixXd& right) {
        if (schur_.size() == 0) {
            const std::size_t slots = groupSlots();
            std::vector<MatrixXd> parts(slots, MatrixXd::Zero(others_, others_));
            const auto& ids = cells_.ids[0];
            overGroups(slots, [&](std::size_t s, std::size_t from, std::size_t to) {
                MatrixXd& S = parts[s];
                for (std::size_t g = from; g < to; ++g) {
                    const double total = groupWeights_[0](static_cast<Index>(g));
                    for (std::size_t a = cells_.start[g]; a < cells_.start[g + 1]; ++a) {
                        const double by = cells_.weight[a] / total;
                        double* column = &S(0, ids[a]);
                        for (std::size_t b = a; b < cells_.start[g + 1]; ++b) {
                            column[ids[b]] -= by * cells_.weight[b];
                        }
                    }
                }
            });
            schur_ = summed(parts);
            schur_.diagonal() += diagonal_;
            schur_ = MatrixXd(schur_.selfadjointView<Eigen::Lower>());
            // The groups of one component share a null vector of ones: a ridge on one of each.
            for (const Id t : openGroups()) {
                schur_(t, t) += diagonal_(t);
            }
            factor_.compute(schur_);
        }
        return factor_.solve(right.transpose()).transpose();
    }

    /// A factor whose fill can be asked for before it is made.
    class SparseFactor : public Eigen::SimplicialLDLT<Eigen::SparseMatrix<double>> {
      public:
        [[nodiscard]] Index entries() const { return m_matrix.nonZeros(); }
    };

    /// The Schur complement as a sparse matrix, factorised: groupings that hang together by few
    /// rows settle slowly, and fill little. False where it would fill too much.
    bool sparseFactor() {
        if (sparse_) {
            return true;
        }
        double entries = 0.0;
        for (std::size_t g = 0; g + 1 < cells_.start.size(); ++g) {
            const double size = static_cast<double>(cells_.start[g + 1] - cells_.start[g]);
            entries += size * (size + 1.0) / 2.0;
        }
        if (entries > static_cast<double>(kMostFill)) {
            return false;
        }
        const auto& ids = cells_.ids[0];
        std::vector<Eigen::Triplet<double>> triplets;
        triplets.reserve(static_cast<std::size_t>(entries) + static_cast<std::size_t>(others_));
        for (std::size_t g = 0; g + 1 < cells_.start.size(); ++g) {
            const double total = groupWeights_[0](static_cast<Index>(g));
            for (std::size_t a = cells_.start[g]; a < cells_.start[g + 1]; ++a) {
                const double by = cells_.weight[a] / total;
                for (std::size_t b = a; b < cells_.start[g + 1]; ++b) {
                    triplets.emplace_back(ids[b], ids[a], -by * cells_.weight[b]);
                }
            }
        }
        for (Index t = 0; t < others_; ++t) {
            triplets.emplace_back(static_cast<int>(t), static_cast<int>(t), diagonal_(t));
        }
        for (const Id t : openGroups()) {
            triplets.emplace_back(t, t, diagonal_(t));
        }
        Eigen::SparseMatrix<double> S(others_, others_);
        S.setFromTriplets(triplets.begin(), triplets.end());
        auto factor = std::make_unique<SparseFactor>();
        factor->analyzePattern(S);
        if (factor->entries() > kMostFill) {
            return false;
        }
        factor->factorize(S);
        if (factor->info() != Eigen::Success) {
            return false;
        }
        sparse_ = std::move(factor);
        return true;
    }

    /// S v for all columns: out_t = D v_t − Σ w (mean of v in the first group).
    MatrixXd apply(const MatrixXd& v) const {
        const std::size_t slots = groupSlots();
        std::vector<MatrixXd> parts(slots, MatrixXd::Zero(v.rows(), v.cols()));
        overGroups(slots, [&](std::size_t s, std::size_t from, std::size_t to) {
            MatrixXd& out = parts[s];
            const Index width = v.rows();
            VectorXd mean = VectorXd::Zero(width);
            VectorXd value = VectorXd::Zero(width);
            for (std::size_t g = from; g < to; ++g) {
                mean.setZero();
                for (std::size_t c = cells_.start[g]; c < cells_.start[g + 1]; ++c) {
                    for (const auto& ids : cells_.ids) {
                        const double* of = &v(0, ids[c]);
                        for (Index j = 0; j < width; ++j) {
                            mean(j) += cells_.weight[c] * of[j];
                        }
                    }
                }
                mean /= groupWeights_[0](static_cast<Index>(g));
                for (std::size_t c = cells_.start[g]; c < cells_.start[g + 1]; ++c) {
                    for (Index j = 0; j < width; ++j) {
                        value(j) = -mean(j);
                    }
                    for (const auto& ids : cells_.ids) {
                        const double* of = &v(0, ids[c]);
                        for (Index j = 0; j < width; ++j) {
                            value(j) += of[j];
                        }
                    }
                    for (const auto& ids : cells_.ids) {
                        double* into = &out(0, ids[c]);
                        for (Index j = 0; j < width; ++j) {
                            into[j] += cells_.weight[c] * value(j);
                        }
                    }
                }
            }
        });
        return summed(parts);
    }

    /// Conjugate gradients on S x = right, scaled by the diagonal, every column by itself.
    MatrixXd gradients(const MatrixXd& right) {
        const VectorXd inverse = diagonal_.cwiseInverse();
        MatrixXd x = MatrixXd::Zero(right.rows(), right.cols());
        MatrixXd r = right;
        MatrixXd z = r * inverse.asDiagonal();
        MatrixXd p = z;
        VectorXd rz = r.cwiseProduct(z).rowwise().sum();
        const VectorXd goal = 1e-26 * rz;
        bool done = false;
        for (int step = 0; step < kMostSteps && !done && !job_.stopped(); ++step) {
            if (step == kFirstSteps && groupings_.size() == 2 && sparseFactor()) {
                return sparse_->solve(right.transpose()).transpose();
            }
            const MatrixXd Sp = apply(p);
            const VectorXd along = p.cwiseProduct(Sp).rowwise().sum();
            VectorXd alpha(rz.size());
            for (Index j = 0; j < rz.size(); ++j) {
                alpha(j) = along(j) > 0.0 && rz(j) > goal(j) ? rz(j) / along(j) : 0.0;
            }
            x += alpha.asDiagonal() * p;
            r -= alpha.asDiagonal() * Sp;
            z = r * inverse.asDiagonal();
            const VectorXd next = r.cwiseProduct(z).rowwise().sum();
            VectorXd beta(rz.size());
            for (Index j = 0; j < rz.size(); ++j) {
                beta(j) = rz(j) > 0.0 && alpha(j) > 0.0 ? next(j) / rz(j) : 0.0;
            }
            p = z + beta.asDiagonal() * p;
            rz = next;
            ++steps_;
            done = ((rz - goal).array() <= 0.0).all();
        }
        gaveUp_ = gaveUp_ || !done;
        return x;
    }

    /// Effects of the first grouping where those of the others are given.
    MatrixXd firstOf(const MatrixXd& firstSums, const MatrixXd& others) const {
        MatrixXd out = firstSums;
        if (others.cols() > 0) {
            overGroups(groupSlots(), [&](std::size_t, std::size_t from, std::size_t to) {
                const Index width = X_.cols();
                for (std::size_t g = from; g < to; ++g) {
                    double* into = &out(0, static_cast<Index>(g));
                    for (std::size_t c = cells_.start[g]; c < cells_.start[g + 1]; ++c) {
                        for (const auto& ids : cells_.ids) {
                            const double* of = &others(0, ids[c]);
                            for (Index j = 0; j < width; ++j) {
                                into[j] -= cells_.weight[c] * of[j];
                            }
                        }
                    }
                }
            });
        }
        return out * groupWeights_[0].cwiseInverse().asDiagonal();
    }

    void subtract(const MatrixXd& first, const MatrixXd& others) {
        RowChunks chunks(static_cast<std::size_t>(X_.rows()));
        chunks.forEach([&](std::size_t chunk) {
            const Index c = width();
            constexpr Index kTile = 64;
            MatrixXd tile(c, kTile);
            const auto end = static_cast<Index>(chunks[chunk].end);
            for (auto at = static_cast<Index>(chunks[chunk].begin); at < end; at += kTile) {
                const Index rows = std::min(kTile, end - at);
                for (Index i = 0; i < rows; ++i) {
                    const auto row = static_cast<std::size_t>(at + i);
                    double* out = &tile(0, i);
                    const double* own = &first(0, groupings_[0].of[row]);
                    std::copy(own, own + c, out);
                    Id shift = 0;
                    for (std::size_t d = 1; d < groupings_.size(); ++d) {
                        const double* more = &others(0, groupings_[d].of[row] + shift);
                        for (Index j = 0; j < c; ++j) {
                            out[j] += more[j];
                        }
                        shift += groupings_[d].count;
                    }
                }
                for (Index j = 0; j < c; ++j) {
                    double* x = &X_(at, j);
                    for (Index i = 0; i < rows; ++i) {
                        x[i] -= tile(j, i);
                    }
                }
            }
        });
    }

    MatrixXd& X_;
    std::vector<EffectGroups> groupings_;  ///< The largest first.
    const VectorXd& weights_;
    const Job& job_;
    Cells cells_;
    Index others_ = 0;  ///< Effects of all groupings but the first.
    std::vector<VectorXd> groupWeights_;
    VectorXd diagonal_;
    MatrixXd schur_;
    Eigen::LLT<MatrixXd> factor_;
    std::unique_ptr<SparseFactor> sparse_;
    int steps_ = 0;
    bool gaveUp_ = false;
};

std::vector<EffectGroups> largestFirst(std::vector<EffectGroups> groupings) {
    std::stable_sort(groupings.begin(), groupings.end(),
                     [](const auto& a, const auto& b) { return a.count > b.count; });
    return groupings;
}

}  // namespace

double effectsRank(const std::vector<EffectGroups>& groupings) {
    if (groupings.empty()) {
        return 0.0;
    }
    const auto sorted = largestFirst(groupings);
    double rank = sorted[0].count;
    for (std::size_t d = 1; d < sorted.size(); ++d) {
        rank +=
            d == 1 ? sorted[1].count - componentsOf(sorted[0], sorted[1]) : sorted[d].count - 1.0;
    }
    return rank;
}

Result<SweptReport> sweepEffects(MatrixXd& columns, const std::vector<EffectGroups>& groupings,
                                 const VectorXd& weights, const Job& job) {
    if (groupings.empty() || columns.rows() == 0) {
        return SweptReport{};
    }
    return Sweeper(columns, largestFirst(groupings), weights, job).run();
}

}  // namespace rapporto
