#include "core/numerics/kernels.h"

#include <algorithm>
#include <bit>
#include <limits>
#include <numeric>

namespace rapporto::kernels {

using Eigen::Index;

RAPPORTO_CLONES void centredInto(double* __restrict__ out, const double* __restrict__ x, Index n,
                                 double m, double s) {
    for (Index i = 0; i < n; ++i) {
        out[i] = (x[i] - m) * s;
    }
}

RAPPORTO_CLONES void productInto(double* __restrict__ out, const double* __restrict__ x,
                                 const double* __restrict__ f, Index n) {
    for (Index i = 0; i < n; ++i) {
        out[i] = x[i] * f[i];
    }
}

RAPPORTO_CLONES void addSquares(double* __restrict__ out, const double* __restrict__ x, Index n) {
    for (Index i = 0; i < n; ++i) {
        out[i] += x[i] * x[i];
    }
}

RAPPORTO_CLONES double poissonInto(double* __restrict__ score, double* __restrict__ curve,
                                   const double* __restrict__ y, const double* __restrict__ eta,
                                   const double* __restrict__ mean, const double* __restrict__ less,
                                   Index n) {
    constexpr Index kLanes = 8;
    double sum[kLanes] = {};
    Index i = 0;
    for (; i + kLanes <= n; i += kLanes) {
        for (Index lane = 0; lane < kLanes; ++lane) {
            sum[lane] += y[i + lane] * eta[i + lane] - mean[i + lane] - less[i + lane];
            score[i + lane] = y[i + lane] - mean[i + lane];
            curve[i + lane] = mean[i + lane];
        }
    }
    for (; i < n; ++i) {
        sum[0] += y[i] * eta[i] - mean[i] - less[i];
        score[i] = y[i] - mean[i];
        curve[i] = mean[i];
    }
    double out = 0.0;
    for (Index lane = 0; lane < kLanes; ++lane) {
        out += sum[lane];
    }
    return out;
}

RAPPORTO_CLONES void addMoments(const double* __restrict__ x, const double* __restrict__ weights,
                                Index n, double from, double* __restrict__ out) {
    constexpr Index kLanes = 8;
    double sum[kLanes] = {};
    double square[kLanes] = {};
    Index i = 0;
    if (weights == nullptr) {
        for (; i + kLanes <= n; i += kLanes) {
            for (Index lane = 0; lane < kLanes; ++lane) {
                const double d = x[i + lane] - from;
                sum[lane] += d;
                square[lane] += d * d;
            }
        }
    } else {
        for (; i + kLanes <= n; i += kLanes) {
            for (Index lane = 0; lane < kLanes; ++lane) {
                const double d = x[i + lane] - from;
                const double w = weights[i + lane] * d;
                sum[lane] += w;
                square[lane] += w * d;
            }
        }
    }
    for (; i < n; ++i) {
        const double d = x[i] - from;
        const double w = weights != nullptr ? weights[i] * d : d;
        sum[0] += w;
        square[0] += w * d;
    }
    for (Index lane = 0; lane < kLanes; ++lane) {
        out[0] += sum[lane];
        out[1] += square[lane];
    }
}

namespace {

/// Of `size` columns, in registers.
template <int size>
[[gnu::always_inline]] inline void sumColumns(double* __restrict__ out,
                                              const double* __restrict__ rows, Index width,
                                              const std::int32_t* __restrict__ which, Index count) {
    double sums[size] = {};
    for (Index i = 0; i < count; ++i) {
        const double* row = rows + static_cast<Index>(which[i]) * width;
        for (int j = 0; j < size; ++j) {
            sums[j] += row[j];
        }
    }
    for (int j = 0; j < size; ++j) {
        out[j] = sums[j];
    }
}

}  // namespace

RAPPORTO_CLONES void sumRows(double* __restrict__ out, const double* __restrict__ rows, Index width,
                             const std::int32_t* __restrict__ which, Index count) {
    Index at = 0;
    for (; at + 16 < width; at += 16) {
        sumColumns<16>(out + at, rows + at, width, which, count);
    }
    switch (width - at) {
        case 4:
            sumColumns<4>(out + at, rows + at, width, which, count);
            return;
        case 8:
            sumColumns<8>(out + at, rows + at, width, which, count);
            return;
        case 12:
            sumColumns<12>(out + at, rows + at, width, which, count);
            return;
        default:
            sumColumns<16>(out + at, rows + at, width, which, count);
    }
}

RAPPORTO_CLONES void addByGroup(double* __restrict__ sums, const std::int32_t* __restrict__ groups,
                                const double* __restrict__ block, Index lead,
                                const double* __restrict__ f, Index rows, Index k,
                                double* __restrict__ tile) {
    // By tiles of rows that are turned to lie side by side in the cache.
    for (Index from = 0; from < rows; from += kGroupTile) {
        const Index size = std::min(kGroupTile, rows - from);
        for (Index j = 0; j < k; ++j) {
            const double* column = block + j * lead + from;
            for (Index i = 0; i < size; ++i) {
                tile[i * k + j] = column[i];
            }
        }
        for (Index i = 0; i < size; ++i) {
            double* sum = sums + static_cast<Index>(groups[from + i]) * k;
            const double* row = tile + i * k;
            const double by = f[from + i];
            for (Index j = 0; j < k; ++j) {
                sum[j] += row[j] * by;
            }
        }
    }
}

RAPPORTO_CLONES void expInto(double* __restrict__ mean, const double* __restrict__ eta, Index n) {
    // e^x = 2^k e^r with |r| ≤ ln 2 / 2: k by adding and taking off 1.5·2⁵², ln 2 in two parts so
    // that r keeps its digits, e^r by its series to r¹³ (the next term is under 4e-18).
    constexpr double kShift = 6755399441055744.0;
    constexpr double kPerTwo = 1.4426950408889634;
    constexpr double kHigh = 6.93147180369123816490e-01;
    constexpr double kLow = 1.90821492927058770002e-10;
    for (Index i = 0; i < n; ++i) {
        const double x = std::min(std::max(eta[i], -700.0), 700.0);
        const double shifted = x * kPerTwo + kShift;
        const double k = shifted - kShift;
        const double r = (x - k * kHigh) - k * kLow;
        double p = 1.0 / 6227020800.0;
        p = p * r + 1.0 / 479001600.0;
        p = p * r + 1.0 / 39916800.0;
        p = p * r + 1.0 / 3628800.0;
        p = p * r + 1.0 / 362880.0;
        p = p * r + 1.0 / 40320.0;
        p = p * r + 1.0 / 5040.0;
        p = p * r + 1.0 / 720.0;
        p = p * r + 1.0 / 120.0;
        p = p * r + 1.0 / 24.0;
        p = p * r + 1.0 / 6.0;
        p = p * r + 0.5;
        // 1 + r + r² p: the small part is added last.
        const double small = r + r * r * p;
        // The low bits of `shifted` are k: into the exponent of a power of two.
        const auto bits = (std::bit_cast<std::int64_t>(shifted) + 1023) << 52;
        const double power = std::bit_cast<double>(bits);
        mean[i] = power + power * small;
    }
    for (Index i = 0; i < n; ++i) {
        mean[i] = eta[i] > 709.78    ? std::numeric_limits<double>::infinity()
                  : eta[i] < -745.13 ? 0.0
                  : eta[i] != eta[i] ? eta[i]
                                     : mean[i];
    }
}

RAPPORTO_CLONES double sumOf(const double* __restrict__ x, Index n) {
    constexpr Index kLanes = 16;
    double lanes[kLanes] = {};
    Index i = 0;
    for (; i + kLanes <= n; i += kLanes) {
        for (Index l = 0; l < kLanes; ++l) {
            lanes[l] += x[i + l];
        }
    }
    for (; i < n; ++i) {
        lanes[i % kLanes] += x[i];
    }
    return std::accumulate(lanes, lanes + kLanes, 0.0);
}

RAPPORTO_CLONES double productSum(const double* __restrict__ x, const double* __restrict__ f,
                                  Index n) {
    constexpr Index kLanes = 16;
    double lanes[kLanes] = {};
    Index i = 0;
    for (; i + kLanes <= n; i += kLanes) {
        for (Index l = 0; l < kLanes; ++l) {
            lanes[l] += x[i + l] * f[i + l];
        }
    }
    for (; i < n; ++i) {
        lanes[i % kLanes] += x[i] * f[i];
    }
    return std::accumulate(lanes, lanes + kLanes, 0.0);
}

}  // namespace rapporto::kernels
