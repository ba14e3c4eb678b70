#pragma once

#include "core/numerics/nested_effects.h"

#include <Eigen/Dense>

#include <cmath>
#include <type_traits>

// Innermost groups of one outer one, all at once. A column of what they sum to holds the q numbers
// of one group after those of another, so that columns are walked through from end to end; up to
// three columns of a group are worked on with their number known beforehand.
namespace rapporto::groups {

using Eigen::Index;
using Eigen::MatrixXd;
using Small = NestedEffects::Small;

template <int Q>
using Own = Eigen::Matrix<double, Q, Q, 0, Q == Eigen::Dynamic ? NestedEffects::kMostColumns : Q,
                          Q == Eigen::Dynamic ? NestedEffects::kMostColumns : Q>;

template <class F>
auto withWidth(Index q, F work) {
    switch (q) {
        case 1:
            return work(std::integral_constant<int, 1>());
        case 2:
            return work(std::integral_constant<int, 2>());
        case 3:
            return work(std::integral_constant<int, 3>());
        default:
            return work(std::integral_constant<int, Eigen::Dynamic>());
    }
}

/// Sums of groups over their own columns, the upper triangles of q × q, from the first on.
struct OwnSums {
    const double* first;
    Index stride;  ///< From column to column.
    Index q;
    Index count;

    template <int Q>
    void read(Index group, Own<Q>& into) const {
        for (Index c = 0; c < q; ++c) {
            for (Index r = 0; r <= c; ++r) {
                into(r, c) = into(c, r) = first[c * stride + group * q + r];
            }
        }
    }
};

/// K = Λ(I + Λ'SΛ)⁻¹Λ' of each group and H with H'H = K, both q × q in a row of numbers.
/// @return Σ ln det(I + Λ'SΛ).
template <int Q>
double keysOf(const OwnSums& sums, const Small& factors, double* keys, double* halves) {
    const Index q = sums.q;
    const Own<Q> factor = factors;
    double logDet = 0.0;
    Own<Q> own(q, q);
    Own<Q> turned(q, q);
    Own<Q> half(q, q);
    for (Index g = 0; g < sums.count; ++g) {
        sums.read<Q>(g, own);
        turned = factor.transpose().lazyProduct(own).lazyProduct(factor);
        turned.diagonal().array() += 1.0;
        const Eigen::LLT<Own<Q>> triangle(turned);
        logDet += 2.0 * std::log(triangle.matrixLLT().diagonal().prod());
        half = factor.transpose();
        triangle.matrixL().solveInPlace(half);
        Eigen::Map<Own<Q>>(keys + g * q * q, q, q) = half.transpose().lazyProduct(half);
        Eigen::Map<Own<Q>>(halves + g * q * q, q, q) = half;
    }
    return logDet;
}

/// A column of numbers of groups, those of each times its matrix.
template <int Q>
void turnEach(const double* matrices, const double* column, Index q_, Index count, double* into) {
    const Index q = Q == Eigen::Dynamic ? q_ : Q;
    for (Index g = 0; g < count; ++g) {
        for (Index k = 0; k < q; ++k) {
            double sum = 0.0;
            for (Index r = 0; r < q; ++r) {
                sum += matrices[g * q * q + r * q + k] * column[g * q + r];
            }
            into[g * q + k] = sum;
        }
    }
}

/// Adds to the matrix of each group the products of its numbers in two columns.
template <int Q>
void addProducts(const double* rows, const double* columns, Index q_, Index count, double* into) {
    const Index q = Q == Eigen::Dynamic ? q_ : Q;
    for (Index g = 0; g < count; ++g) {
        for (Index r = 0; r < q; ++r) {
            for (Index k = 0; k < q; ++k) {
                into[g * q * q + r * q + k] += rows[g * q + k] * columns[g * q + r];
            }
        }
    }
}

/// Σ over groups of S P − N P + S K N P with P = Λ − K S Λ.
template <int Q>
MatrixXd slopeOf(const OwnSums& sums, const Small& factors, const double* keys,
                 const double* through) {
    const Index q = sums.q;
    const Own<Q> factor = factors;
    Own<Q> own(q, q);
    Own<Q> pulled(q, q);
    Own<Q> turned(q, q);
    Own<Q> part(q, q);
    Own<Q> slope = Own<Q>::Zero(q, q);
    for (Index g = 0; g < sums.count; ++g) {
        sums.read<Q>(g, own);
        const Eigen::Map<const Own<Q>> key(keys + g * q * q, q, q);
        const Eigen::Map<const Own<Q>> N(through + g * q * q, q, q);
        part = own.lazyProduct(factor);
        pulled = factor - key.lazyProduct(part);
        turned = N.lazyProduct(pulled);
        part = key.lazyProduct(turned);
        slope += own.lazyProduct(pulled) - turned + own.lazyProduct(part);
    }
    return slope;
}

}  // namespace rapporto::groups
