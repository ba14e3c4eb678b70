#pragma once

#include <Eigen/Dense>

#include <vector>

namespace rapporto {

/// Columns of n numbers each wherever they lie: those of one matrix, or some of several. It owns
/// none of them, so that what it looks at must outlive it.
class ColumnsView {
  public:
    ColumnsView() = default;

    // NOLINTNEXTLINE(google-explicit-constructor): a matrix is its columns.
    ColumnsView(const Eigen::MatrixXd& X) : rows_(X.rows()) {
        at_.reserve(static_cast<std::size_t>(X.cols()));
        for (Eigen::Index j = 0; j < X.cols(); ++j) {
            at_.push_back(X.col(j).data());
        }
    }

    explicit ColumnsView(Eigen::Index rows) : rows_(rows) {}

    /// Takes a column of `rows()` numbers in.
    void add(const double* column) { at_.push_back(column); }

    void replace(Eigen::Index column, const double* by) {
        at_[static_cast<std::size_t>(column)] = by;
    }

    [[nodiscard]] Eigen::Index rows() const { return rows_; }

    [[nodiscard]] Eigen::Index cols() const { return static_cast<Eigen::Index>(at_.size()); }

    [[nodiscard]] const double* data(Eigen::Index column) const {
        return at_[static_cast<std::size_t>(column)];
    }

    [[nodiscard]] double operator()(Eigen::Index row, Eigen::Index column) const {
        return data(column)[row];
    }

    [[nodiscard]] Eigen::Map<const Eigen::VectorXd> col(Eigen::Index column) const {
        return {data(column), rows_};
    }

    /// Some of them, in that order.
    [[nodiscard]] ColumnsView of(const std::vector<Eigen::Index>& columns) const {
        ColumnsView out(rows_);
        for (const Eigen::Index column : columns) {
            out.add(data(column));
        }
        return out;
    }

    /// A copy of them side by side.
    [[nodiscard]] Eigen::MatrixXd matrix() const {
        Eigen::MatrixXd out(rows_, cols());
        for (Eigen::Index j = 0; j < cols(); ++j) {
            out.col(j) = col(j);
        }
        return out;
    }

  private:
    std::vector<const double*> at_;
    Eigen::Index rows_ = 0;
};

}  // namespace rapporto
