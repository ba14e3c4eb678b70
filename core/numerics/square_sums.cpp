// Compiled so that products and sums may be fused (see core/CMakeLists.txt).
#include "core/numerics/square_sums.h"

#include <cblas.h>

#include <algorithm>
#include <functional>

namespace rapporto {
namespace {

using Eigen::Index;

constexpr Index kFewColumns = 64;  // Up to which the lanes of all pairs stay in the cache.

template <int kLeft, int kRight, int kLanes, bool kWeighted>
[[gnu::always_inline]] inline void addRows(const double* const* left, const double* const* right,
                                           const double* weights, Index rows, double* sums) {
    using Lanes [[gnu::vector_size(kLanes * sizeof(double))]] = double;
    using Anywhere [[gnu::vector_size(kLanes * sizeof(double)), gnu::aligned(8), gnu::may_alias]] =
        double;
    Lanes sum[kLeft][kRight];
#pragma GCC unroll 8
    for (int i = 0; i < kLeft; ++i) {
#pragma GCC unroll 8
        for (int j = 0; j < kRight; ++j) {
            sum[i][j] = *reinterpret_cast<const Anywhere*>(sums + (i * kRight + j) * kLanes);
        }
    }
    for (Index row = 0; row < rows; row += kLanes) {
        Lanes b[kRight];
#pragma GCC unroll 8
        for (int j = 0; j < kRight; ++j) {
            b[j] = *reinterpret_cast<const Anywhere*>(right[j] + row);
        }
#pragma GCC unroll 8
        for (int i = 0; i < kLeft; ++i) {
            Lanes a = *reinterpret_cast<const Anywhere*>(left[i] + row);
            if constexpr (kWeighted) {
                a *= *reinterpret_cast<const Anywhere*>(weights + row);
            }
#pragma GCC unroll 8
            for (int j = 0; j < kRight; ++j) {
                sum[i][j] += a * b[j];
            }
        }
    }
#pragma GCC unroll 8
    for (int i = 0; i < kLeft; ++i) {
#pragma GCC unroll 8
        for (int j = 0; j < kRight; ++j) {
            *reinterpret_cast<Anywhere*>(sums + (i * kRight + j) * kLanes) = sum[i][j];
        }
    }
}

template <int kLeft, int kRight, int kLanes>
[[gnu::always_inline]] inline void addTile(const double* const* left, const double* const* right,
                                           const double* weights, Index rows, double* sums) {
    if (weights != nullptr) {
        addRows<kLeft, kRight, kLanes, true>(left, right, weights, rows, sums);
    } else {
        addRows<kLeft, kRight, kLanes, false>(left, right, weights, rows, sums);
    }
}

#ifdef __x86_64__
[[gnu::target("avx512f")]] void addOfEight(const double* const* left, const double* const* right,
                                           const double* weights, Index rows, double* sums) {
    addTile<4, 5, 8>(left, right, weights, rows, sums);
}

[[gnu::target("avx2,fma")]] void addOfFour(const double* const* left, const double* const* right,
                                           const double* weights, Index rows, double* sums) {
    addTile<3, 3, 4>(left, right, weights, rows, sums);
}
#endif

void addOfTwo(const double* const* left, const double* const* right, const double* weights,
              Index rows, double* sums) {
    addTile<3, 3, 2>(left, right, weights, rows, sums);
}

}  // namespace

/// How columns are cut into tiles.
struct SquareSums::Tiling {
    Index left;   ///< Columns of a tile on the left …
    Index right;  ///< … and on the right.
    Index lanes;
    /// Tiles of columns `left` times `right`, rows a multiple of the lanes.
    void (*add)(const double* const* left, const double* const* right, const double* weights,
                Index rows, double* sums);
};

const SquareSums::Tiling& SquareSums::tilingOf(int mostLanes) {
    static constexpr Tiling kTwo{3, 3, 2, addOfTwo};
#ifdef __x86_64__
    static constexpr Tiling kFour{3, 3, 4, addOfFour};
    static constexpr Tiling kEight{4, 5, 8, addOfEight};
    if (mostLanes >= 8 && __builtin_cpu_supports("avx512f")) {
        return kEight;
    }
    if (mostLanes >= 4 && __builtin_cpu_supports("avx2") && __builtin_cpu_supports("fma")) {
        return kFour;
    }
#else
    static_cast<void>(mostLanes);
#endif
    return kTwo;
}

/// Runs `work(i, j, sums)` on every tile that touches the upper triangle, by its first columns.
template <class F>
void SquareSums::forTiles(F work) {
    double* sums = lanes_.data();
    for (Index j = 0; j < columns_; j += tiles_->right) {
        for (Index i = 0; i < std::min(j + tiles_->right, columns_); i += tiles_->left) {
            work(i, j, sums);
            sums += tiles_->left * tiles_->right * tiles_->lanes;
        }
    }
}

SquareSums::SquareSums(Index columns, int mostLanes)
    : columns_(columns), tiles_(&tilingOf(mostLanes)) {
    if (columns > kFewColumns) {
        sum_ = Eigen::MatrixXd::Zero(columns, columns);
        return;
    }
    const Tiling& tiles = *tiles_;
    Index count = 0;
    for (Index j = 0; j < columns; j += tiles.right) {
        count += (std::min(j + tiles.right, columns) + tiles.left - 1) / tiles.left;
    }
    lanes_.assign(static_cast<std::size_t>(count * tiles.left * tiles.right * tiles.lanes), 0.0);
    // The last tiles look past the columns: they see the last one again.
    at_.resize(static_cast<std::size_t>(columns + std::max(tiles.left, tiles.right)));
}

void SquareSums::add(const double* block, Index lead, Index rows, const double* weights) {
    if (columns_ == 0) {
        return;
    }
    if (sum_.size() > 0) {
        addMany(block, lead, rows, weights);
        return;
    }
    const Tiling& tiles = *tiles_;
    for (std::size_t j = 0; j < at_.size(); ++j) {
        at_[j] = block + std::min(static_cast<Index>(j), columns_ - 1) * lead;
    }
    const Index whole = rows / tiles.lanes * tiles.lanes;
    forTiles([&](Index i, Index j, double* sums) {
        tiles.add(&at_[static_cast<std::size_t>(i)], &at_[static_cast<std::size_t>(j)], weights,
                  whole, sums);
        for (Index row = whole; row < rows; ++row) {
            const double w = weights != nullptr ? weights[row] : 1.0;
            for (Index a = 0; a < tiles.left; ++a) {
                const double x = w * at_[static_cast<std::size_t>(i + a)][row];
                for (Index b = 0; b < tiles.right; ++b) {
                    sums[(a * tiles.right + b) * tiles.lanes] +=
                        x * at_[static_cast<std::size_t>(j + b)][row];
                }
            }
        }
    });
}

void SquareSums::addMany(const double* block, Index lead, Index rows, const double* weights) {
    const int k = static_cast<int>(columns_);
    const int n = static_cast<int>(rows);
    const int from = static_cast<int>(lead);
    if (weights == nullptr) {
        cblas_dsyrk(CblasColMajor, CblasUpper, CblasTrans, k, n, 1.0, block, from, 1.0, sum_.data(),
                    k);
        return;
    }
    weighted_.resize(rows, columns_);
    for (Index j = 0; j < columns_; ++j) {
        std::transform(block + j * lead, block + j * lead + rows, weights, weighted_.col(j).data(),
                       std::multiplies<>());
    }
    cblas_dgemm(CblasColMajor, CblasTrans, CblasNoTrans, k, k, n, 1.0, block, from,
                weighted_.data(), n, 1.0, sum_.data(), k);
}

void SquareSums::moveTo(Eigen::Ref<Eigen::MatrixXd> sum) {
    if (sum_.size() > 0) {
        sum.triangularView<Eigen::Upper>() += sum_;
        sum_.setZero();
        return;
    }
    const Tiling& tiles = *tiles_;
    forTiles([&](Index i, Index j, const double* sums) {
        for (Index a = 0; a < tiles.left && i + a < columns_; ++a) {
            for (Index b = 0; b < tiles.right && j + b < columns_; ++b) {
                const double* lanes = sums + (a * tiles.right + b) * tiles.lanes;
                for (Index lane = 0; lane < tiles.lanes && i + a <= j + b; ++lane) {
                    sum(i + a, j + b) += lanes[lane];
                }
            }
        }
    });
    std::fill(lanes_.begin(), lanes_.end(), 0.0);
}

}  // namespace rapporto
