#pragma once

#include <Eigen/Dense>

#include <cstdint>

// An inner loop compiled for each instruction set and chosen at run time. Each element is worked
// out by itself, and sums run in lanes of fixed number, so that none of them changes a bit.
#ifdef RAPPORTO_PLAIN_THREADS
// Which clone to take is asked before the thread sanitizer stands, and ends it.
#define RAPPORTO_CLONES
#else
#define RAPPORTO_CLONES __attribute__((target_clones("avx512f", "avx2", "default"), optimize("O3")))
#endif

/// Inner loops over blocks of rows that stay in the cache, compiled for several instruction sets
/// and chosen at run time; the same bits with each of them.
namespace rapporto::kernels {

constexpr Eigen::Index kBlock = 192;    ///< Rows that stay in the cache with their columns.
constexpr Eigen::Index kGroupTile = 8;  ///< Rows that addByGroup() turns at a time.

/// out = (x − m)·s
void centredInto(double* out, const double* x, Eigen::Index n, double m, double s);

/// out = x·f
void productInto(double* out, const double* x, const double* f, Eigen::Index n);

/// out += x²
void addSquares(double* out, const double* x, Eigen::Index n);

/// out[0] += Σ w d, out[1] += Σ w d² for d = x − from; weights may be null.
void addMoments(const double* x, const double* weights, Eigen::Index n, double from, double* out);

/// Of Poisson counts: score = y − mean, curve = mean; the sum of y·η − mean − less.
[[nodiscard]] double poissonInto(double* score, double* curve, const double* y, const double* eta,
                                 const double* mean, const double* less, Eigen::Index n);

/// sums.col(groups[i]) += f[i]·(row i of a block of `k` columns of leading dimension `lead`).
///
/// @param tile  room for kGroupTile · k numbers.
void addByGroup(double* sums, const std::int32_t* groups, const double* block, Eigen::Index lead,
                const double* f, Eigen::Index rows, Eigen::Index k, double* tile);

/// out = Σ rows of `width` numbers (a multiple of 4) that `which` names.
void sumRows(double* out, const double* rows, Eigen::Index width, const std::int32_t* which,
             Eigen::Index count);

/// mean = e^eta of n numbers, none of them past ±700 without becoming 0 or ∞; to about one unit in
/// the last place.
void expInto(double* mean, const double* eta, Eigen::Index n);

/// Σ x of n numbers.
[[nodiscard]] double sumOf(const double* x, Eigen::Index n);

/// Σ x·f of n numbers.
[[nodiscard]] double productSum(const double* x, const double* f, Eigen::Index n);

}  // namespace rapporto::kernels
