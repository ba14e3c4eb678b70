#pragma once

#include "core/base/parallel.h"

#include <Eigen/Dense>

#include <cstdint>
#include <span>
#include <vector>

namespace rapporto {

/// A grouping whose effects are drawn from a normal law.
struct RandomGrouping {
    std::span<const std::int32_t> of;  ///< Group of each row, from 0.
    std::int32_t count = 0;
    Eigen::MatrixXd columns;  ///< n × q: what has an effect in each group; the constant is ones.
};

/// y = Qγ + Σ Z u + e, the groups of each grouping lying within those of the next: u =
/// Λ·σ·(standard normal) independently over groups, Var e = σ²/w. Everything that the likelihood
/// needs is kept as cross products of the innermost groups, so that a look at it costs by groups,
/// not by rows.
///
/// Source: the profile over nested groupings by elimination from the innermost one outward, as in
/// Laird & Ware (1982), Biometrics 38, and Longford (1987), Biometrika 74.
class NestedEffects {
  public:
    /// Columns that a level may have.
    static constexpr Eigen::Index kMostColumns = 8;

    /// A matrix as wide as a level: kept without asking for memory.
    using Small = Eigen::Matrix<double, Eigen::Dynamic, Eigen::Dynamic, Eigen::ColMajor,
                                kMostColumns, kMostColumns>;

    /// @param Q        n × p, orthonormal under the weights.
    /// @param y        n.
    /// @param levels   innermost first; at least one.
    /// @param weights  n, or empty: ones.
    NestedEffects(const Eigen::MatrixXd& Q, const Eigen::VectorXd& y,
                  std::vector<RandomGrouping> levels, const Eigen::VectorXd& weights);

    /// Where the likelihood stands at factors Λ (a q × q matrix a level, any, not only triangles).
    struct Look {
        double logDet = 0.0;         ///< ln|I + ZΛΛ'Z'|.
        double logPrecision = 0.0;   ///< ln|Q'V⁻¹Q|, V = I + ZΛΛ'Z'.
        double squares = 0.0;        ///< What is left: (y − Qγ)'V⁻¹(y − Qγ).
        Eigen::VectorXd gamma;       ///< p.
        Eigen::MatrixXd covariance;  ///< (Q'V⁻¹Q)⁻¹.
        /// Of the value below, with respect to each entry of each Λ and to ln σ²; filled where
        /// asked for.
        std::vector<Eigen::MatrixXd> slopes;
        double slopeOfVariance = 0.0;
    };

    /// What is looked at: −2 ln of the (restricted) likelihood without its constants, ln|V| +
    /// [ln|Q'V⁻¹Q|] + d ln σ² + squares/σ², d = n − p restricted, else n.
    struct Aim {
        bool restricted = true;
        /// σ²; zero: the best for these factors, squares/d.
        double variance = 0.0;
    };

    [[nodiscard]] Look look(const std::vector<Eigen::MatrixXd>& factors, const Aim& aim,
                            bool slopes) const;

    /// (Q, y)'V⁻¹(Q, y) at factors Λ, (p + 1) × (p + 1); Q may have any columns here.
    [[nodiscard]] Eigen::MatrixXd crossProducts(const std::vector<Eigen::MatrixXd>& factors) const;

    /// The value of a look.
    [[nodiscard]] double value(const Look& at, const Aim& aim) const;

    /// σ² at a look.
    [[nodiscard]] double variance(const Look& at, const Aim& aim) const;

    /// Degrees of freedom d.
    [[nodiscard]] double freedom(bool restricted) const {
        return rows_ - (restricted ? static_cast<double>(p_) : 0.0);
    }

    /// Effects of the groups, drawn to the mean, and what is uncertain about them.
    struct Effects {
        std::vector<Eigen::MatrixXd> values;  ///< Of each level: groups × q.
        /// Of each level: groups × q², covariances of effects less estimates, γ estimated, too.
        std::vector<Eigen::MatrixXd> covariances;
    };

    [[nodiscard]] Effects effects(const std::vector<Eigen::MatrixXd>& factors, const Look& at,
                                  double variance) const;

    [[nodiscard]] std::size_t levels() const { return groupings_.size(); }

    /// Columns with an effect of a level.
    [[nodiscard]] Eigen::Index width(std::size_t level) const {
        return groupings_[level].columns.cols();
    }

    [[nodiscard]] std::int32_t groups(std::size_t level) const { return groupings_[level].count; }

    /// The group of the next level that a group lies in.
    [[nodiscard]] std::int32_t parent(std::size_t level, std::int32_t group) const {
        return parents_[level][static_cast<std::size_t>(group)];
    }

  private:
    /// What elimination leaves: cross products of each group of a level over its own columns, those
    /// of the levels further out, Q and y, with the inner ones taken out.
    struct Eliminated {
        std::vector<std::vector<double>> sums;  ///< Of each level beyond the first, and of the top.
        std::vector<std::vector<double>> keys;  ///< Λ(I + Λ'SΛ)⁻¹Λ', q × q a group.
    };

    [[nodiscard]] double eliminate(const std::vector<Eigen::MatrixXd>& factors,
                                   Eliminated& out) const;
    /// @param shared  takes the sums in place of the groups further out; null: each its own.
    [[nodiscard]] double eliminateGroups(std::size_t level, RowRange range, const Small& factor,
                                         Eliminated& out, double* shared) const;
    [[nodiscard]] Eigen::MatrixXd slopeOfGroups(std::size_t level, RowRange range,
                                                const Small& factor, const Eliminated& found,
                                                const std::vector<Eigen::MatrixXd>& above,
                                                std::vector<Eigen::MatrixXd>& own) const;
    /// How far a column of a level’s sums lies from the next.
    [[nodiscard]] Eigen::Index strideOf(std::size_t level) const;
    [[nodiscard]] const double* sumsOf(const Eliminated& at, std::size_t level,
                                       std::int32_t group) const;
    void addSlopes(const std::vector<Eigen::MatrixXd>& factors, const Eliminated& at,
                   Eigen::MatrixXd top, Look& look) const;

    std::vector<RandomGrouping> groupings_;
    std::vector<std::vector<std::int32_t>> parents_;
    /// Columns from a level’s own on, with Q and y; one more for the top.
    std::vector<Eigen::Index> from_;
    /// Cross products over those columns, column by column: of the innermost groups the rows of
    /// their own columns, all groups one below the other; of those of the next level (or the top)
    /// all; of others nothing yet.
    std::vector<std::vector<double>> base_;
    Eigen::Index p_ = 0;
    double rows_ = 0.0;
};

}  // namespace rapporto
