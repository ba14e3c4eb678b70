#pragma once

#include <Eigen/Dense>

#include <vector>

namespace rapporto {

/// Σ w x x' over blocks of rows, the upper triangle. With few columns tiles of sums stay in
/// registers while rows pass, each sum in as many lanes as the processor has; with many the general
/// product is taken. The order of additions hangs on the rows and on the processor, nothing else.
class SquareSums {
  public:
    /// @param mostLanes  numbers in a register: as many as the processor has up to this (8, 4, 2).
    explicit SquareSums(Eigen::Index columns, int mostLanes = 8);

    /// Takes rows in.
    ///
    /// @param block  column by column, `lead` numbers from one to the next.
    /// @param weights  one a row, or null: ones.
    void add(const double* block, Eigen::Index lead, Eigen::Index rows, const double* weights);

    /// Adds the sums to the upper triangle of a square matrix and begins anew.
    void moveTo(Eigen::Ref<Eigen::MatrixXd> sum);

  private:
    struct Tiling;

    [[nodiscard]] static const Tiling& tilingOf(int mostLanes);

    template <class F>
    void forTiles(F work);

    void addMany(const double* block, Eigen::Index lead, Eigen::Index rows, const double* weights);

    Eigen::Index columns_;
    const Tiling* tiles_;
    std::vector<double> lanes_;  ///< Of few columns.
    Eigen::MatrixXd sum_;        ///< Of many.
    Eigen::MatrixXd weighted_;
    std::vector<const double*> at_;  ///< Where the columns of a block begin.
};

}  // namespace rapporto
