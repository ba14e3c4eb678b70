#pragma once

#include "core/data/frame.h"
#include "core/data/survey.h"

#include <Eigen/Dense>

#include <span>

namespace rapporto {

/// The columns whose totals are known, over the rows of a frame: a constant, then of each target
/// its levels but the first, or its values less the known mean over their spread.
class KnownColumns {
  public:
    /// One target.
    struct Part {
        std::string variable;
        Eigen::Index first = 0;           ///< Its first column.
        std::vector<std::string> levels;  ///< As shown; the first has no column. Empty: a mean.
        std::vector<double> shares;       ///< Of the levels; they sum to one.
        std::vector<std::int32_t> cells;  ///< Of each row; −1: missing.
        std::vector<double> values;       ///< Of a mean, of each row; NaN: missing.
        double mean = 0.0;
        double spread = 1.0;
    };

    /// A level’s share, or a mean.
    struct Total {
        std::string variable;
        std::string level;  ///< Empty: a mean.
        double known = 0.0;
        double reached = 0.0;
    };

    /// Printed shares are rounded: what they lack of one by this much is shared out.
    static constexpr double kRounding = 0.005;

    /// @return UnknownName; WrongType (a mean of texts); BadSetting (shares that do not sum to one
    ///         within .005, a level without a known share or without rows, a target that says
    ///         nothing).
    [[nodiscard]] static Result<KnownColumns> make(const Frame& frame,
                                                   const std::vector<KnownTotal>& targets);

    [[nodiscard]] const std::vector<Part>& parts() const { return parts_; }

    [[nodiscard]] Eigen::Index count() const { return count_; }

    /// The row has no value of a target.
    [[nodiscard]] bool lacks(std::size_t row) const;

    /// Shares and means as the columns have them, the constant first: what Σ w x / Σ w is to be.
    [[nodiscard]] Eigen::VectorXd asked() const;

    /// Every share and mean, given what is reached of the columns: Σ w x / Σ w.
    [[nodiscard]] std::vector<Total> totalsAt(const Eigen::VectorXd& reached) const;

    /// Calls `each(column, value)` for what is not zero in a row.
    template <typename Each>
    void of(std::size_t row, Each&& each) const {
        each(Eigen::Index{0}, 1.0);
        for (const Part& part : parts_) {
            if (part.levels.empty()) {
                each(part.first, (part.values[row] - part.mean) / part.spread);
            } else if (part.cells[row] > 0) {
                each(part.first + part.cells[row] - 1, 1.0);
            }
        }
    }

    /// x'λ of a row.
    [[nodiscard]] double along(const Eigen::VectorXd& lambda, std::size_t row) const {
        double sum = 0.0;
        of(row, [&](Eigen::Index column, double x) { sum += x * lambda(column); });
        return sum;
    }

    /// Scores less what the columns foretell of them under these weights: what is left of a score
    /// once totals are known. Rows of weight zero give and get nothing.
    ///
    /// @param scores  weighted, of each row (n × k).
    /// Source: Deville & Särndal (1992), Journal of the American Statistical Association 87.
    [[nodiscard]] Eigen::MatrixXd residuals(std::span<const double> weights,
                                            const Eigen::MatrixXd& scores) const;

  private:
    std::vector<Part> parts_;
    Eigen::Index count_ = 1;
};

/// Weights that hit known totals and stay as near as they can to those of the sample: by raking
/// (their ratio is exp(x'λ), within bounds the logit of it) or linear (1 + x'λ, within bounds cut
/// off). Their sum is that of the weights before.
///
/// @param weights  of each row, 0: it takes no part.
/// @return BadSetting: bounds that do not hold one between them, totals that no weights within the
///         bounds can hit (with the nearest that they reach), weights below zero.
/// Source: Deming & Stephan (1940), Annals of Mathematical Statistics 11; Deville & Särndal (1992),
/// Journal of the American Statistical Association 87.
[[nodiscard]] Result<std::vector<double>> calibrated(const KnownColumns& known,
                                                     std::span<const double> weights,
                                                     const Survey& survey);

}  // namespace rapporto
