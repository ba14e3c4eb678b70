#include "core/numerics/sparse_factor.h"

namespace rapporto {

using Eigen::Index;
using Eigen::MatrixXd;

SparseFactor::SparseFactor(const MatrixXd& F) : full_(F) {
    constexpr Index kLarge = 200;
    constexpr double kFull = 0.1;
    if (F.rows() < kLarge) {
        return;
    }
    const auto filled = static_cast<double>((F.array() != 0.0).count());
    if (filled <= kFull * static_cast<double>(F.size())) {
        sparse_ = F.sparseView();
    }
}

MatrixXd SparseFactor::square() const {
    return sparse_ ? MatrixXd(*sparse_ * MatrixXd(full_.transpose()))
                   : MatrixXd(full_ * full_.transpose());
}

MatrixXd SparseFactor::around(const MatrixXd& M) const {
    return sparse_ ? turnedAfter(*sparse_ * M) : MatrixXd(full_ * M * full_.transpose());
}

MatrixXd SparseFactor::within(const MatrixXd& M) const {
    return sparse_ ? after(sparse_->transpose() * M) : MatrixXd(full_.transpose() * M * full_);
}

MatrixXd SparseFactor::after(const MatrixXd& A) const {
    return sparse_ ? MatrixXd(A * *sparse_) : MatrixXd(A * full_);
}

MatrixXd SparseFactor::turnedAfter(const MatrixXd& A) const {
    return sparse_ ? MatrixXd(A * sparse_->transpose()) : MatrixXd(A * full_.transpose());
}

}  // namespace rapporto
