#include "core/numerics/sweep_effects.h"

#include "core/base/parallel.h"
#include "core/numerics/kernels.h"

#include <Eigen/SparseCholesky>
#include <cblas.h>

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
constexpr Index kMostTableNumbers = 4'000'000;  // Sums by group kept once a stretch of rows.
constexpr std::size_t kMostSlots = 8;           // Stretches that are worked on beside each other.
constexpr std::size_t kDenseShare = 8;          // A group with this part of the others: dense.
constexpr std::size_t kBlock = 256;             // Groups of one dense block.

constexpr Index kTile = 64;  // Rows turned to lie side by side.
constexpr Index kLane = 4;   // A row of a table is padded to a multiple of this.

// Four numbers beside each other.
using Four = double __attribute__((vector_size(32), aligned(8), may_alias));

[[gnu::always_inline]] inline Four& four(double* at) { return *reinterpret_cast<Four*>(at); }

[[gnu::always_inline]] inline const Four& four(const double* at) {
    return *reinterpret_cast<const Four*>(at);
}

/// Calls `row(i)` with a row length that is known when the loop is compiled, where it is short.
template <Index kStride, class Loop>
[[gnu::always_inline]] inline void forRows(Index rows, Index stride, Loop loop) {
    for (Index i = 0; i < rows; ++i) {
        loop(i, kStride > 0 ? kStride : stride);
    }
}

#define RAPPORTO_BY_STRIDE(rows, stride, loop) \
    switch (stride) {                          \
        case 4:                                \
            forRows<4>(rows, 4, loop);         \
            break;                             \
        case 8:                                \
            forRows<8>(rows, 8, loop);         \
            break;                             \
        case 12:                               \
            forRows<12>(rows, 12, loop);       \
            break;                             \
        case 16:                               \
            forRows<16>(rows, 16, loop);       \
            break;                             \
        default:                               \
            forRows<0>(rows, stride, loop);    \
            break;                             \
    }

/// Turns a square of four by four in the registers.
[[gnu::always_inline]] inline void turnSquare(Four& a, Four& b, Four& c, Four& d) {
    const Four ab0 = __builtin_shufflevector(a, b, 0, 4, 2, 6);
    const Four ab1 = __builtin_shufflevector(a, b, 1, 5, 3, 7);
    const Four cd0 = __builtin_shufflevector(c, d, 0, 4, 2, 6);
    const Four cd1 = __builtin_shufflevector(c, d, 1, 5, 3, 7);
    a = __builtin_shufflevector(ab0, cd0, 0, 1, 4, 5);
    b = __builtin_shufflevector(ab1, cd1, 0, 1, 4, 5);
    c = __builtin_shufflevector(ab0, cd0, 2, 3, 6, 7);
    d = __builtin_shufflevector(ab1, cd1, 2, 3, 6, 7);
}

/// tile(i, ·) = row i of `width` columns of leading dimension `lead`; what pads a row is zero.
RAPPORTO_CLONES void turnIn(double* __restrict__ tile, const double* __restrict__ x, Index lead,
                            Index rows, Index width, Index stride) {
    const Index squares = rows / 4 * 4;
    for (Index j = 0; j < width; j += 4) {
        const double* column = x + j * lead;
        const Index more = std::min<Index>(4, width - j);
        for (Index i = 0; i < squares; i += 4) {
            Four part[4] = {};
            for (Index q = 0; q < more; ++q) {
                part[q] = four(column + q * lead + i);
            }
            turnSquare(part[0], part[1], part[2], part[3]);
            for (Index q = 0; q < 4; ++q) {
                four(tile + (i + q) * stride + j) = part[q];
            }
        }
        for (Index i = squares; i < rows; ++i) {
            for (Index q = 0; q < 4; ++q) {
                tile[i * stride + j + q] = q < more ? column[q * lead + i] : 0.0;
            }
        }
    }
}

RAPPORTO_CLONES void turnOut(double* __restrict__ x, const double* __restrict__ tile, Index lead,
                             Index rows, Index width, Index stride) {
    const Index squares = rows / 4 * 4;
    for (Index j = 0; j < width; j += 4) {
        double* column = x + j * lead;
        const Index more = std::min<Index>(4, width - j);
        for (Index i = 0; i < squares; i += 4) {
            Four part[4];
            for (Index q = 0; q < 4; ++q) {
                part[q] = four(tile + (i + q) * stride + j);
            }
            turnSquare(part[0], part[1], part[2], part[3]);
            for (Index q = 0; q < more; ++q) {
                four(column + q * lead + i) = part[q];
            }
        }
        for (Index i = squares; i < rows; ++i) {
            for (Index q = 0; q < more; ++q) {
                column[q * lead + i] = tile[i * stride + j + q];
            }
        }
    }
}

RAPPORTO_CLONES void weighRows(double* __restrict__ tile, const double* __restrict__ weights,
                               Index rows, Index stride) {
    const auto one = [=](Index i, Index length) __attribute__((always_inline)) {
        double* row = tile + i * stride;
        for (Index j = 0; j < length; j += kLane) {
            four(row + j) *= weights[i];
        }
    };
    RAPPORTO_BY_STRIDE(rows, stride, one)
}

/// table(ids(i), ·) += tile(i, ·)
RAPPORTO_CLONES void addRows(double* __restrict__ table, const Id* __restrict__ ids,
                             const double* __restrict__ tile, Index rows, Index stride) {
    const auto one = [=](Index i, Index length) __attribute__((always_inline)) {
        double* into = table + static_cast<Index>(ids[i]) * length;
        const double* row = tile + i * length;
        for (Index j = 0; j < length; j += kLane) {
            four(into + j) += four(row + j);
        }
    };
    RAPPORTO_BY_STRIDE(rows, stride, one)
}

/// The same for ids in ascending order: what stands together is summed before it is added.
template <Index kStride>
[[gnu::always_inline]] inline void addRunsOf(double* __restrict__ table, const Id* __restrict__ ids,
                                             const double* __restrict__ tile, Index rows) {
    Index i = 0;
    while (i < rows) {
        const Id id = ids[i];
        Four sum[kStride / kLane] = {};
        for (; i < rows && ids[i] == id; ++i) {
            for (Index j = 0; j < kStride / kLane; ++j) {
                sum[j] += four(tile + i * kStride + j * kLane);
            }
        }
        for (Index j = 0; j < kStride / kLane; ++j) {
            four(table + static_cast<Index>(id) * kStride + j * kLane) += sum[j];
        }
    }
}

RAPPORTO_CLONES void addRuns(double* __restrict__ table, const Id* __restrict__ ids,
                             const double* __restrict__ tile, Index rows, Index stride) {
    switch (stride) {
        case 4:
            addRunsOf<4>(table, ids, tile, rows);
            break;
        case 8:
            addRunsOf<8>(table, ids, tile, rows);
            break;
        case 12:
            addRunsOf<12>(table, ids, tile, rows);
            break;
        case 16:
            addRunsOf<16>(table, ids, tile, rows);
            break;
        default:
            addRows(table, ids, tile, rows, stride);
            break;
    }
}

/// tile(i, ·) −= table(ids(i), ·)
RAPPORTO_CLONES void takeRows(double* __restrict__ tile, const Id* __restrict__ ids,
                              const double* __restrict__ table, Index rows, Index stride) {
    const auto one = [=](Index i, Index length) __attribute__((always_inline)) {
        const double* from = table + static_cast<Index>(ids[i]) * length;
        double* row = tile + i * length;
        for (Index j = 0; j < length; j += kLane) {
            four(row + j) -= four(from + j);
        }
    };
    RAPPORTO_BY_STRIDE(rows, stride, one)
}

/// The same for ids in ascending order.
template <Index kStride>
[[gnu::always_inline]] inline void takeRunsOf(double* __restrict__ tile, const Id* __restrict__ ids,
                                              const double* __restrict__ table, Index rows) {
    Index i = 0;
    while (i < rows) {
        const Id id = ids[i];
        Four from[kStride / kLane];
        for (Index j = 0; j < kStride / kLane; ++j) {
            from[j] = four(table + static_cast<Index>(id) * kStride + j * kLane);
        }
        for (; i < rows && ids[i] == id; ++i) {
            for (Index j = 0; j < kStride / kLane; ++j) {
                four(tile + i * kStride + j * kLane) -= from[j];
            }
        }
    }
}

RAPPORTO_CLONES void takeRuns(double* __restrict__ tile, const Id* __restrict__ ids,
                              const double* __restrict__ table, Index rows, Index stride) {
    switch (stride) {
        case 4:
            takeRunsOf<4>(tile, ids, table, rows);
            break;
        case 8:
            takeRunsOf<8>(tile, ids, table, rows);
            break;
        default:
            takeRows(tile, ids, table, rows, stride);
            break;
    }
}

/// table(ids(i), ·) += w(i)·row; weights may be null for ones.
RAPPORTO_CLONES void spreadRow(double* __restrict__ table, const Id* __restrict__ ids,
                               const double* __restrict__ weights, const double* __restrict__ row,
                               Index cells, Index stride) {
    const auto one = [=](Index i, Index length) __attribute__((always_inline)) {
        double* into = table + static_cast<Index>(ids[i]) * length;
        const double w = weights != nullptr ? weights[i] : 1.0;
        for (Index j = 0; j < length; j += kLane) {
            four(into + j) += w * four(row + j);
        }
    };
    RAPPORTO_BY_STRIDE(cells, stride, one)
}

/// row += Σ w(i)·table(ids(i), ·)
RAPPORTO_CLONES void gatherRow(double* __restrict__ row, const Id* __restrict__ ids,
                               const double* __restrict__ weights, const double* __restrict__ table,
                               Index cells, Index stride) {
    const auto one = [=](Index i, Index length) __attribute__((always_inline)) {
        const double* from = table + static_cast<Index>(ids[i]) * length;
        const double w = weights != nullptr ? weights[i] : 1.0;
        for (Index j = 0; j < length; j += kLane) {
            four(row + j) += w * four(from + j);
        }
    };
    RAPPORTO_BY_STRIDE(cells, stride, one)
}

/// table(ids(i), ·) += w(i)·(from(ids(i), ·) − mean)
RAPPORTO_CLONES void spreadLeft(double* __restrict__ table, const Id* __restrict__ ids,
                                const double* __restrict__ weights, const double* __restrict__ from,
                                const double* __restrict__ mean, Index cells, Index stride) {
    const auto one = [=](Index i, Index length) __attribute__((always_inline)) {
        const Index at = static_cast<Index>(ids[i]) * length;
        const double w = weights != nullptr ? weights[i] : 1.0;
        for (Index j = 0; j < length; j += kLane) {
            four(table + at + j) += w * (four(from + at + j) - four(mean + j));
        }
    };
    RAPPORTO_BY_STRIDE(cells, stride, one)
}

/// Adds Σ w d and Σ w d² of the rows' distances d from `origin`; weights may be null.
RAPPORTO_CLONES void addMoments(double* __restrict__ sums, double* __restrict__ squares,
                                const double* __restrict__ tile, const double* __restrict__ weights,
                                const double* __restrict__ origin, Index rows, Index stride) {
    for (Index at = 0; at < stride; at += kLane) {
        const Four from = four(origin + at);
        Four sum = {};
        Four square = {};
        for (Index i = 0; i < rows; ++i) {
            const Four d = four(tile + i * stride + at) - from;
            const Four w = weights != nullptr ? weights[i] * d : d;
            sum += w;
            square += w * d;
        }
        four(sums + at) += sum;
        four(squares + at) += square;
    }
}

/// Whether the rows stand in the order of the grouping.
bool inOrder(const EffectGroups& first) { return std::is_sorted(first.of.begin(), first.of.end()); }

/// Where the rows of each group of the first grouping begin, when they stand in its order.
std::vector<std::size_t> startsOf(const EffectGroups& first, bool ordered) {
    const std::size_t n = first.of.size();
    std::vector<std::size_t> start(static_cast<std::size_t>(first.count) + 1, 0);
    if (ordered) {
        for (std::size_t i = 1; i < n; ++i) {
            if (first.of[i] != first.of[i - 1]) {
                start[static_cast<std::size_t>(first.of[i])] = i;
            }
        }
        start.back() = n;
        return start;
    }
    for (const Id g : first.of) {
        ++start[static_cast<std::size_t>(g) + 1];
    }
    std::partial_sum(start.begin(), start.end(), start.begin());
    return start;
}

/// Rows that agree in all groupings, in the order of the first: for each a weight and the ids in
/// the others. Rows that stand in that order already are cells as they are.
struct Cells {
    std::vector<std::size_t>
        start;  ///< First cell of each group of the first grouping, and the end.
    const double* weight = nullptr;  ///< One a cell; null: all are one.
    std::vector<const Id*> ids;  ///< A list each further grouping, shifted past the ones before.
    std::vector<double> ownWeight;
    std::vector<std::vector<Id>> ownIds;
};

Cells cellsOf(const std::vector<EffectGroups>& groupings, const VectorXd& weights,
              const std::vector<std::size_t>& start, bool ordered) {
    const EffectGroups& first = groupings.front();
    const std::size_t n = first.of.size();
    Cells out;
    if (ordered && groupings.size() == 2) {
        const Id* a = first.of.data();
        const Id* b = groupings[1].of.data();
        std::size_t i = 1;
        while (i < n && (a[i] != a[i - 1] || b[i] > b[i - 1])) {
            ++i;
        }
        if (i >= n) {
            out.start = start;
            out.weight = weights.size() > 0 ? weights.data() : nullptr;
            out.ids = {b};
            return out;
        }
    }
    std::vector<std::uint32_t> order(n);
    std::vector<std::size_t> next(start.begin(), start.end() - 1);
    for (std::size_t i = 0; i < n; ++i) {
        order[next[static_cast<std::size_t>(first.of[i])]++] = static_cast<std::uint32_t>(i);
    }
    const std::size_t others = groupings.size() - 1;
    out.ownIds.resize(others);
    out.ownWeight.reserve(n);
    out.start.reserve(start.size());
    for (auto& ids : out.ownIds) {
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
                out.ownWeight.back() += w;
                continue;
            }
            out.ownWeight.push_back(w);
            Id shift = 0;
            for (std::size_t d = 0; d < others; ++d) {
                out.ownIds[d].push_back(groupings[d + 1].of[*at] + shift);
                shift += groupings[d + 1].count;
            }
        }
        out.start.push_back(out.ownWeight.size());
    }
    out.weight = out.ownWeight.data();
    for (const auto& ids : out.ownIds) {
        out.ids.push_back(ids.data());
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

/// Works on c columns beside each other: a table holds a padded row of c numbers a group.
class Sweeper {
  public:
    Sweeper(MatrixXd& columns, std::vector<EffectGroups> groupings, const VectorXd& weights,
            const Job& job)
        : X_(columns),
          groupings_(std::move(groupings)),
          weights_(weights),
          job_(job),
          stride_((columns.cols() + kLane - 1) / kLane * kLane),
          ordered_(inOrder(groupings_[0])),
          rowStart_(startsOf(groupings_[0], ordered_)) {
        for (std::size_t d = 1; d < groupings_.size(); ++d) {
            others_ += groupings_[d].count;
        }
        if (groupings_.size() > 1) {
            cells_ = cellsOf(groupings_, weights_, rowStart_, ordered_);
        }
        for (const EffectGroups& g : groupings_) {
            VectorXd sum = VectorXd::Zero(g.count);
            if (weights_.size() == 0 && groupWeights_.empty()) {
                for (Index u = 0; u < g.count; ++u) {
                    const auto at = static_cast<std::size_t>(u);
                    sum(u) = static_cast<double>(rowStart_[at + 1] - rowStart_[at]);
                }
            } else {
                for (std::size_t i = 0; i < g.of.size(); ++i) {
                    sum(g.of[i]) += weights_.size() > 0 ? weights_(static_cast<Index>(i)) : 1.0;
                }
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
        MatrixXd moments;
        std::vector<MatrixXd> sums = groupSums(nullptr, nullptr, &moments);
        const VectorXd spread = spreadsOf(moments);
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
            const MatrixXd first = firstOf(sums[0], others);
            keep(first, others);
            report.steps = steps_;
            sums = groupSums(&first, &others, nullptr);
        }
        report.rank = rank();
        return report;
    }

    /// Effects of the first column, a vector a grouping, the largest first.
    [[nodiscard]] const std::vector<VectorXd>& effects() const { return effects_; }

  private:
    [[nodiscard]] Index width() const { return X_.cols(); }

    void keep(const MatrixXd& first, const MatrixXd& others) {
        if (effects_.empty()) {
            for (const EffectGroups& g : groupings_) {
                effects_.push_back(VectorXd::Zero(g.count));
            }
        }
        effects_[0] += first.row(0).transpose();
        Index at = 0;
        for (std::size_t d = 1; d < groupings_.size(); ++d) {
            effects_[d] += others.row(0).segment(at, groupings_[d].count).transpose();
            at += groupings_[d].count;
        }
    }

    [[nodiscard]] const double* weightsFrom(Index row) const {
        return weights_.size() > 0 ? weights_.data() + row : nullptr;
    }

    /// Standard deviations of the columns from their moments about their first value.
    VectorXd spreadsOf(const MatrixXd& moments) const {
        const double total = groupWeights_[0].sum();
        return ((moments.col(1).array() - moments.col(0).array().square() / total).max(0.0) / total)
            .sqrt();
    }

    [[nodiscard]] double share(Index group) const { return 1.0 / groupWeights_[0](group); }

    /// Weighted sums of every column in every group, stride × count, a table a grouping; where
    /// effects are given they are taken out of the columns first, in the same pass. `moments`:
    /// stride × 2, Σ and Σ² about the first value; may be null.
    std::vector<MatrixXd> groupSums(const MatrixXd* first, const MatrixXd* others,
                                    MatrixXd* moments) {
        const std::size_t groups = groupings_.size();
        const std::size_t slots = rowSlots();
        std::vector<MatrixXd> out;
        out.push_back(MatrixXd::Zero(stride_, groupings_[0].count));
        // Rows that stand in the order of the first grouping are parted between its groups, and
        // their sums go into one table.
        std::vector<std::vector<MatrixXd>> parts(groups);
        for (std::size_t d = 0; d < groups; ++d) {
            if (d > 0 || !ordered_) {
                parts[d].assign(slots, MatrixXd::Zero(stride_, groupings_[d].count));
            }
        }
        VectorXd origin = VectorXd::Zero(stride_);
        origin.head(width()) = X_.row(0).transpose();
        std::vector<MatrixXd> momentParts(slots, MatrixXd::Zero(stride_, 2));
        overSlots(slots, [&](std::size_t s) {
            const std::size_t n = groupings_[0].of.size();
            const auto bound = [&](std::size_t k) {
                return static_cast<Index>(ordered_ ? rowStart_[(rowStart_.size() - 1) * k / slots]
                                                   : n * k / slots);
            };
            MatrixXd tile = MatrixXd::Zero(stride_, kTile);
            const Index end = bound(s + 1);
            for (Index at = bound(s); at < end; at += kTile) {
                const Index rows = std::min(kTile, end - at);
                turnIn(tile.data(), &X_(at, 0), X_.rows(), rows, width(), stride_);
                if (first != nullptr) {
                    if (ordered_) {
                        takeRuns(tile.data(), idsFrom(0, at), first->data(), rows, stride_);
                    } else {
                        takeRows(tile.data(), idsFrom(0, at), first->data(), rows, stride_);
                    }
                    Index shift = 0;
                    for (std::size_t d = 1; d < groups; ++d) {
                        takeRows(tile.data(), idsFrom(d, at), others->data() + shift * stride_,
                                 rows, stride_);
                        shift += groupings_[d].count;
                    }
                    turnOut(&X_(at, 0), tile.data(), X_.rows(), rows, width(), stride_);
                }
                if (moments != nullptr) {
                    addMoments(&momentParts[s](0, 0), &momentParts[s](0, 1), tile.data(),
                               weightsFrom(at), origin.data(), rows, stride_);
                }
                if (weights_.size() > 0) {
                    weighRows(tile.data(), weightsFrom(at), rows, stride_);
                }
                for (std::size_t d = 0; d < groups; ++d) {
                    if (d == 0 && ordered_) {
                        addRuns(out[0].data(), idsFrom(0, at), tile.data(), rows, stride_);
                    } else {
                        addRows(parts[d][s].data(), idsFrom(d, at), tile.data(), rows, stride_);
                    }
                }
            }
        });
        if (moments != nullptr) {
            *moments = summed(momentParts);
        }
        if (!ordered_) {
            out[0] = summed(parts[0]);
        }
        for (std::size_t d = 1; d < groups; ++d) {
            out.push_back(summed(parts[d]));
        }
        return out;
    }

    [[nodiscard]] const Id* idsFrom(std::size_t grouping, Index row) const {
        return groupings_[grouping].of.data() + row;
    }

    double largestMean(const std::vector<MatrixXd>& sums, const VectorXd& spread) const {
        VectorXd largest = VectorXd::Zero(width());
        for (std::size_t d = 0; d < sums.size(); ++d) {
            for (Index g = 0; g < groupings_[d].count; ++g) {
                const double by = 1.0 / groupWeights_[d](g);
                largest = largest.cwiseMax(sums[d].col(g).head(width()).cwiseAbs() * by);
            }
        }
        double out = 0.0;
        for (Index j = 0; j < width(); ++j) {
            if (spread(j) > 0.0) {
                out = std::max(out, largest(j) / spread(j));
            }
        }
        return out;
    }

    /// Effects of all groupings but the first, stride × others.
    MatrixXd solveOthers(const std::vector<MatrixXd>& sums) {
        if (groupings_.size() == 1) {
            return MatrixXd(stride_, 0);
        }
        MatrixXd right(stride_, others_);
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

    /// Stretches that hang on the data alone, not on the threads.
    [[nodiscard]] std::size_t rowSlots() const {
        const std::size_t rows = groupings_[0].of.size();
        Index numbers = 0;
        for (std::size_t d = ordered_ ? 1 : 0; d < groupings_.size(); ++d) {
            numbers += groupings_[d].count * stride_;
        }
        return numbers > kMostTableNumbers ? 1
                                           : std::clamp<std::size_t>(rows / 16384, 1, kMostSlots);
    }

    template <class Work>
    static void overSlots(std::size_t slots, const Work& work) {
        if (slots == 1) {
            work(0);
        } else {
            RowChunks(slots * 16384).forEach(work);
        }
    }

    /// Runs `work(slot, first group, past the last)` over the groups of the first grouping.
    template <class Work>
    void overGroups(std::size_t slots, const Work& work) const {
        const std::size_t groups = cells_.start.size() - 1;
        overSlots(slots,
                  [&](std::size_t s) { work(s, groups * s / slots, groups * (s + 1) / slots); });
    }

    [[nodiscard]] std::size_t groupSlots() const {
        return std::clamp<std::size_t>((cells_.start.size() - 1) / 4096, 1, kMostSlots);
    }

    [[nodiscard]] Index cellsIn(std::size_t group) const {
        return static_cast<Index>(cells_.start[group + 1] - cells_.start[group]);
    }

    [[nodiscard]] const double* cellWeights(std::size_t cell) const {
        return cells_.weight != nullptr ? cells_.weight + cell : nullptr;
    }

    [[nodiscard]] double cellWeight(std::size_t cell) const {
        return cells_.weight != nullptr ? cells_.weight[cell] : 1.0;
    }

    /// What means of the first grouping (sums over weights) add up to in the groups of the others.
    MatrixXd scattered(const MatrixXd& firstSums) const {
        const std::size_t slots = groupSlots();
        std::vector<MatrixXd> parts(slots, MatrixXd::Zero(stride_, others_));
        overGroups(slots, [&](std::size_t s, std::size_t from, std::size_t to) {
            std::vector<double> mean(static_cast<std::size_t>(stride_));
            for (std::size_t g = from; g < to; ++g) {
                const auto group = static_cast<Index>(g);
                Eigen::Map<VectorXd>(mean.data(), stride_) = firstSums.col(group) * share(group);
                const std::size_t start = cells_.start[g];
                for (const Id* ids : cells_.ids) {
                    spreadRow(parts[s].data(), ids + start, cellWeights(start), mean.data(),
                              cellsIn(g), stride_);
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
    const std::vector<Id>& openGroups() {
        if (open_.empty()) {
            const Id count = groupings_[1].count;
            std::vector<Id> parent(static_cast<std::size_t>(count));
            std::iota(parent.begin(), parent.end(), Id{0});
            // Once all hang together, further rows say nothing.
            Id left = count;
            for (std::size_t g = 0; g + 1 < cells_.start.size() && left > 1; ++g) {
                for (std::size_t c = cells_.start[g] + 1; c < cells_.start[g + 1]; ++c) {
                    const Id one = rootOf(parent, cells_.ids[0][c - 1]);
                    const Id other = rootOf(parent, cells_.ids[0][c]);
                    if (one != other) {
                        parent[static_cast<std::size_t>(one)] = other;
                        --left;
                    }
                }
            }
            for (Id t = 0; t < count; ++t) {
                if (rootOf(parent, t) == t) {
                    open_.push_back(t);
                }
            }
        }
        return open_;
    }

    double rank() {
        double out = groupings_[0].count;
        for (std::size_t d = 1; d < groupings_.size(); ++d) {
            // More than two: no closed form, so each further one counts less one.
            out += groupings_[d].count -
                   (d == 1 ? (groupings_.size() == 2 ? static_cast<double>(openGroups().size())
                                                     : componentsOf(groupings_[0], groupings_[1]))
                           : 1.0);
        }
        return out;
    }

    /// Where the groups of the first grouping hold a good part of the second's each, its Schur
    /// complement is a product of dense blocks; else pairs of cells are added one by one.
    void addSchur(MatrixXd& S, std::size_t from, std::size_t to) const {
        const Id* ids = cells_.ids[0];
        const std::size_t cells = cells_.start[to] - cells_.start[from];
        if (cells * kDenseShare < (to - from) * static_cast<std::size_t>(others_)) {
            for (std::size_t g = from; g < to; ++g) {
                for (std::size_t a = cells_.start[g]; a < cells_.start[g + 1]; ++a) {
                    const double by = cellWeight(a) * share(static_cast<Index>(g));
                    double* column = &S(0, ids[a]);
                    for (std::size_t b = a; b < cells_.start[g + 1]; ++b) {
                        column[ids[b]] -= by * cellWeight(b);
                    }
                }
            }
            return;
        }
        const auto size = static_cast<int>(others_);
        MatrixXd block(others_, kBlock);
        for (std::size_t at = from; at < to; at += kBlock) {
            const std::size_t end = std::min(to, at + kBlock);
            block.setZero();
            for (std::size_t g = at; g < end; ++g) {
                double* column = &block(0, static_cast<Index>(g - at));
                const double root = std::sqrt(share(static_cast<Index>(g)));
                for (std::size_t c = cells_.start[g]; c < cells_.start[g + 1]; ++c) {
                    column[ids[c]] = cellWeight(c) * root;
                }
            }
            cblas_dsyrk(CblasColMajor, CblasLower, CblasNoTrans, size, static_cast<int>(end - at),
                        -1.0, block.data(), size, 1.0, S.data(), size);
        }
    }

    /// The Schur complement of the first grouping, factorised; effects are fixed to zero where the
    /// sum of a component leaves them open.
    MatrixXd direct(const MatrixXd& right) {
        if (schur_.size() == 0) {
            const std::size_t slots = groupSlots();
            std::vector<MatrixXd> parts(slots, MatrixXd::Zero(others_, others_));
            overGroups(slots, [&](std::size_t s, std::size_t from, std::size_t to) {
                addSchur(parts[s], from, to);
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
            const auto size = static_cast<double>(cellsIn(g));
            entries += size * (size + 1.0) / 2.0;
        }
        if (entries > static_cast<double>(kMostFill)) {
            return false;
        }
        const Id* ids = cells_.ids[0];
        std::vector<Eigen::Triplet<double>> triplets;
        triplets.reserve(static_cast<std::size_t>(entries) + static_cast<std::size_t>(others_));
        for (std::size_t g = 0; g + 1 < cells_.start.size(); ++g) {
            for (std::size_t a = cells_.start[g]; a < cells_.start[g + 1]; ++a) {
                const double by = cellWeight(a) * share(static_cast<Index>(g));
                for (std::size_t b = a; b < cells_.start[g + 1]; ++b) {
                    triplets.emplace_back(ids[b], ids[a], -by * cellWeight(b));
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

    /// S v for all columns: out_t = D v_t − Σ w (mean of v in the first group), where D counts what
    /// the further groupings share.
    MatrixXd apply(const MatrixXd& v) const {
        const std::size_t slots = groupSlots();
        std::vector<MatrixXd> parts(slots, MatrixXd::Zero(v.rows(), v.cols()));
        overGroups(slots, [&](std::size_t s, std::size_t from, std::size_t to) {
            MatrixXd& out = parts[s];
            VectorXd mean = VectorXd::Zero(stride_);
            VectorXd value = VectorXd::Zero(stride_);
            for (std::size_t g = from; g < to; ++g) {
                mean.setZero();
                const std::size_t start = cells_.start[g];
                for (const Id* ids : cells_.ids) {
                    gatherRow(mean.data(), ids + start, cellWeights(start), v.data(), cellsIn(g),
                              stride_);
                }
                mean *= share(static_cast<Index>(g));
                if (cells_.ids.size() == 1) {
                    spreadLeft(out.data(), cells_.ids[0] + start, cellWeights(start), v.data(),
                               mean.data(), cellsIn(g), stride_);
                    continue;
                }
                for (std::size_t c = start; c < cells_.start[g + 1]; ++c) {
                    value.array() = -mean.array();
                    for (const Id* ids : cells_.ids) {
                        value += v.col(ids[c]);
                    }
                    for (const Id* ids : cells_.ids) {
                        spreadRow(out.data(), ids + c, cellWeights(c), value.data(), 1, stride_);
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
                VectorXd sum = VectorXd::Zero(stride_);
                for (std::size_t g = from; g < to; ++g) {
                    sum.setZero();
                    const std::size_t start = cells_.start[g];
                    for (const Id* ids : cells_.ids) {
                        gatherRow(sum.data(), ids + start, cellWeights(start), others.data(),
                                  cellsIn(g), stride_);
                    }
                    out.col(static_cast<Index>(g)) -= sum;
                }
            });
        }
        return out * groupWeights_[0].cwiseInverse().asDiagonal();
    }

    MatrixXd& X_;
    std::vector<EffectGroups> groupings_;  ///< The largest first.
    const VectorXd& weights_;
    const Job& job_;
    Index stride_;                       ///< Of a row of a table.
    bool ordered_;                       ///< Rows stand in the order of the first grouping.
    std::vector<std::size_t> rowStart_;  ///< Of each group of the first grouping, if in order.
    Cells cells_;
    Index others_ = 0;  ///< Effects of all groupings but the first.
    std::vector<VectorXd> groupWeights_;
    VectorXd diagonal_;
    MatrixXd schur_;
    std::vector<Id> open_;
    std::vector<VectorXd> effects_;
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

Result<std::vector<VectorXd>> groupEffects(const VectorXd& column,
                                           const std::vector<EffectGroups>& groupings,
                                           const VectorXd& weights, const Job& job) {
    if (groupings.empty() || column.size() == 0) {
        return std::vector<VectorXd>(groupings.size());
    }
    MatrixXd work = column;
    const auto sorted = largestFirst(groupings);
    Sweeper sweeper(work, sorted, weights, job);
    const auto report = sweeper.run();
    if (!report) {
        return tl::make_unexpected(report.error());
    }
    if (!report->converged) {
        return refuse(ErrorCode::NotConverged,
                      "the effects did not settle: the groupings hang together by a few rows only");
    }
    std::vector<VectorXd> out(groupings.size());
    double moved = 0.0;
    for (std::size_t d = 0; d < groupings.size(); ++d) {
        for (std::size_t s = 0; s < sorted.size(); ++s) {
            if (sorted[s].of.data() == groupings[d].of.data()) {
                out[d] = sweeper.effects()[s];
            }
        }
        if (d > 0) {
            double sum = 0.0;
            double total = 0.0;
            for (std::size_t i = 0; i < groupings[d].of.size(); ++i) {
                const double w = weights.size() > 0 ? weights(static_cast<Index>(i)) : 1.0;
                sum += w * out[d](groupings[d].of[i]);
                total += w;
            }
            out[d].array() -= sum / total;
            moved += sum / total;
        }
    }
    out[0].array() += moved;
    return out;
}

Result<SweptReport> sweepEffects(MatrixXd& columns, const std::vector<EffectGroups>& groupings,
                                 const VectorXd& weights, const Job& job) {
    if (groupings.empty() || columns.rows() == 0) {
        return SweptReport{};
    }
    return Sweeper(columns, largestFirst(groupings), weights, job).run();
}

}  // namespace rapporto
