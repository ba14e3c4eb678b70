#pragma once

// The parts of the linear algebra library that nearly every estimator and check uses, compiled once
// (dense_instances.cpp) instead of in each file that multiplies two matrices: a third of the time
// of compiling a file that solves anything. It is part of core's precompiled header; nothing
// includes it. What stands here changes no digit: it is the library's own code, somewhere else.
#include <Eigen/Dense>

#define RAPPORTO_DENSE_INSTANCES(EXTERN)                                                           \
    namespace Eigen {                                                                              \
    EXTERN template class LLT<MatrixXd>;                                                           \
    EXTERN template class LDLT<MatrixXd>;                                                          \
    EXTERN template class PartialPivLU<MatrixXd>;                                                  \
    EXTERN template class FullPivLU<MatrixXd>;                                                     \
    EXTERN template class HouseholderQR<MatrixXd>;                                                 \
    EXTERN template class ColPivHouseholderQR<MatrixXd>;                                           \
    EXTERN template class SelfAdjointEigenSolver<MatrixXd>;                                        \
    EXTERN template class JacobiSVD<MatrixXd>;                                                     \
    EXTERN template LLT<MatrixXd>& LLT<MatrixXd>::compute(const EigenBase<MatrixXd>&);             \
    EXTERN template LDLT<MatrixXd>& LDLT<MatrixXd>::compute(const EigenBase<MatrixXd>&);           \
    EXTERN template SelfAdjointEigenSolver<MatrixXd>& SelfAdjointEigenSolver<MatrixXd>::compute(   \
        const EigenBase<MatrixXd>&, int);                                                          \
    EXTERN template void HouseholderSequence<MatrixXd, VectorXd, 1>::evalTo(MatrixXd&,             \
                                                                            VectorXd&) const;      \
    EXTERN template void HouseholderSequence<MatrixXd, VectorXd, 1>::applyThisOnTheLeft(           \
        MatrixXd&, VectorXd&, bool) const;                                                         \
    EXTERN template void HouseholderSequence<MatrixXd, VectorXd, 1>::applyThisOnTheLeft(           \
        MatrixXd&, RowVectorXd&, bool) const;                                                      \
    namespace internal {                                                                           \
    using DenseBlocks = level3_blocking<double, double>;                                           \
    using DenseCells = blas_data_mapper<double, Index, ColMajor, Unaligned, 1>;                    \
    using DenseDown = const_blas_data_mapper<double, Index, ColMajor>;                             \
    using DenseAcross = const_blas_data_mapper<double, Index, RowMajor>;                           \
    EXTERN template struct gebp_kernel<double, double, Index, DenseCells, 4, 4>;                   \
    EXTERN template struct general_matrix_matrix_product<Index, double, ColMajor, false, double,   \
                                                         ColMajor, false, ColMajor, 1>;            \
    EXTERN template struct general_matrix_matrix_product<Index, double, ColMajor, false, double,   \
                                                         RowMajor, false, ColMajor, 1>;            \
    EXTERN template struct general_matrix_matrix_product<Index, double, RowMajor, false, double,   \
                                                         ColMajor, false, ColMajor, 1>;            \
    EXTERN template struct general_matrix_matrix_product<Index, double, RowMajor, false, double,   \
                                                         RowMajor, false, ColMajor, 1>;            \
    EXTERN template struct general_matrix_vector_product<Index, double, DenseAcross, RowMajor,     \
                                                         false, double, DenseDown, false, 0>;      \
    EXTERN template struct general_matrix_vector_product<Index, double, DenseAcross, RowMajor,     \
                                                         false, double, DenseAcross, false, 1>;    \
    EXTERN template struct general_matrix_vector_product<Index, double, DenseDown, ColMajor,       \
                                                         false, double, DenseDown, false, 0>;      \
    EXTERN template struct general_matrix_vector_product<Index, double, DenseDown, ColMajor,       \
                                                         false, double, DenseAcross, false, 0>;    \
    EXTERN template struct triangular_solve_matrix<double, Index, OnTheLeft, Lower, false,         \
                                                   ColMajor, ColMajor, 1>;                         \
    EXTERN template struct triangular_solve_matrix<double, Index, OnTheLeft, Upper, false,         \
                                                   ColMajor, ColMajor, 1>;                         \
    EXTERN template struct triangular_solve_matrix<double, Index, OnTheLeft, Upper, false,         \
                                                   RowMajor, ColMajor, 1>;                         \
    EXTERN template struct triangular_solve_matrix<double, Index, OnTheLeft, UnitLower, false,     \
                                                   ColMajor, ColMajor, 1>;                         \
    EXTERN template struct triangular_solve_matrix<double, Index, OnTheLeft, UnitUpper, false,     \
                                                   RowMajor, ColMajor, 1>;                         \
    EXTERN template struct triangular_solve_vector<double, double, Index, OnTheLeft, Lower, false, \
                                                   ColMajor>;                                      \
    EXTERN template struct triangular_solve_vector<double, double, Index, OnTheLeft, Upper, false, \
                                                   ColMajor>;                                      \
    EXTERN template struct triangular_solve_vector<double, double, Index, OnTheLeft, Upper, false, \
                                                   RowMajor>;                                      \
    EXTERN template struct triangular_solve_vector<double, double, Index, OnTheLeft, UnitLower,    \
                                                   false, ColMajor>;                               \
    EXTERN template struct triangular_solve_vector<double, double, Index, OnTheLeft, UnitUpper,    \
                                                   false, RowMajor>;                               \
    EXTERN template void                                                                           \
    generic_product_impl<MatrixXd, MatrixXd, DenseShape, DenseShape, GemmProduct>::scaleAndAddTo(  \
        MatrixXd&, const MatrixXd&, const MatrixXd&, const double&);                               \
    EXTERN template void                                                                           \
    generic_product_impl<MatrixXd, Transpose<const MatrixXd>, DenseShape, DenseShape,              \
                         GemmProduct>::scaleAndAddTo(MatrixXd&, const MatrixXd&,                   \
                                                     const Transpose<const MatrixXd>&,             \
                                                     const double&);                               \
    EXTERN template void                                                                           \
    generic_product_impl<Transpose<const MatrixXd>, MatrixXd, DenseShape, DenseShape,              \
                         GemmProduct>::scaleAndAddTo(MatrixXd&, const Transpose<const MatrixXd>&,  \
                                                     const MatrixXd&, const double&);              \
    EXTERN template void                                                                           \
    generic_product_impl<Transpose<MatrixXd>, MatrixXd, DenseShape, DenseShape,                    \
                         GemmProduct>::scaleAndAddTo(MatrixXd&, const Transpose<MatrixXd>&,        \
                                                     const MatrixXd&, const double&);              \
    EXTERN template bool ldlt_inplace<Lower>::unblocked(MatrixXd&, Transpositions<-1, -1, int>&,   \
                                                        VectorXd&, SignMatrix&);                   \
    EXTERN template Index llt_inplace<double, Lower>::blocked(MatrixXd&);                          \
    EXTERN template Index llt_inplace<double, Lower>::unblocked(MatrixXd&);                        \
    EXTERN template void tridiagonalization_inplace(MatrixXd&, VectorXd&);                         \
    EXTERN template ComputationInfo computeFromTridiagonal_impl(VectorXd&, VectorXd&, const Index, \
                                                                bool, MatrixXd&);                  \
    }                                                                                              \
    }

RAPPORTO_DENSE_INSTANCES(extern)
