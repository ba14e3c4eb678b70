#pragma once

#include <Eigen/Dense>
#include <Eigen/SparseCore>

#include <optional>

namespace rapporto {

/// A square factor that products are made with. Where it is large and nought nearly everywhere, as
/// that of many groups is, they cost what stands in it; another is multiplied as it is. It does not
/// own what it is made of.
class SparseFactor {
  public:
    explicit SparseFactor(const Eigen::MatrixXd& F);

    /// F F', k × k.
    [[nodiscard]] Eigen::MatrixXd square() const;

    /// F M F', k × k.
    [[nodiscard]] Eigen::MatrixXd around(const Eigen::MatrixXd& M) const;

    /// F' M F, k × k.
    [[nodiscard]] Eigen::MatrixXd within(const Eigen::MatrixXd& M) const;

    /// A F and A F', rows × k.
    [[nodiscard]] Eigen::MatrixXd after(const Eigen::MatrixXd& A) const;
    [[nodiscard]] Eigen::MatrixXd turnedAfter(const Eigen::MatrixXd& A) const;

  private:
    const Eigen::MatrixXd& full_;
    std::optional<Eigen::SparseMatrix<double>> sparse_;
};

}  // namespace rapporto
