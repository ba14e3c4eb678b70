#pragma once

#include "core/model/fit.h"

#include <functional>
#include <limits>
#include <memory>
#include <optional>

namespace rapporto {

/// What a fit by likelihood tells beside its coefficients.
struct LikelihoodFit {
    explicit LikelihoodFit(const Family& of) : family(&of) {}

    const Family* family;  ///< Never null.
    int iterations = 0;
    double gradient = 0.0;  ///< Newton’s decrement at the end: twice what ℓ could still gain.
    double logLikelihood = 0.0;
    // NaN where there is no such number.
    double nullLogLikelihood = kNone;  ///< Of the constants alone.
    double deviance = kNone;           ///< Against a mean for every row, where that is defined.
    double pearson = kNone;            ///< Σ (y − μ)²/V(μ).
    bool penalisedRatio =
        false;             ///< The test of all terms together is by the penalised likelihood.
    bool density = false;  ///< ℓ holds densities: its level hangs on the outcome’s unit.
    double parameters = 0.0;
    std::optional<double> dispersion;    ///< α of negative binomial; 0 at its boundary.
    std::optional<double> dispersionSe;  ///< On its own scale.
    bool linearSpread = false;           ///< The dispersion is that of the linear form.
    bool atBoundary = false;    ///< The dispersion is zero: the fit is the simpler one’s.
    std::size_t separated = 0;  ///< Rows left out because a term tells them for certain.
    std::size_t unseen = 0;     ///< Of a selection: rows that have no outcome.
    /// Of two equations with one covariance: ℓ of the two apart, which the correlation is tested
    /// by.
    std::optional<double> apartLogLikelihood;
    Eigen::MatrixXd index;    ///< n × indices, offsets included.
    Eigen::VectorXd extras;   ///< Cuts; or the logarithm of a dispersion or spread.
    Eigen::MatrixXd inverse;  ///< Of the negative Hessian over all parameters.

    /// McFadden’s: 1 − ℓ/ℓ₀; absent where ℓ₀ is, and of densities, whose share hangs on the unit.
    [[nodiscard]] std::optional<double> pseudoRSquared() const {
        return nullLogLikelihood < 0.0 && !density
                   ? std::optional(1.0 - logLikelihood / nullLogLikelihood)
                   : std::nullopt;
    }

    static constexpr double kNone = std::numeric_limits<double>::quiet_NaN();
};

/// One linear index of a likelihood: columns, an offset, the name of its equation.
struct IndexPart {
    Eigen::MatrixXd X;         ///< n × k, independent columns.
    Eigen::VectorXd offset;    ///< n, or empty.
    bool hasConstant = false;  ///< Column 0 is all ones.
};

/// Derivatives of a block of rows, times their weights.
struct RowTerms {
    Eigen::MatrixXd first;   ///< Rows × (indices + extras).
    Eigen::MatrixXd second;  ///< Negative; rows × indices · (indices + extras), row-major pairs.
    Eigen::MatrixXd among;   ///< Negative, of extras among themselves; summed over the rows.
};

/// The likelihood of a row as a function of its indices and of parameters that all rows share.
class RowModel {
  public:
    virtual ~RowModel() = default;

    [[nodiscard]] virtual int indices() const { return 1; }

    [[nodiscard]] virtual int extras() const { return 0; }

    /// ℓ of row i at `at` (indices, then extras), its gradient g and Hessian H (row-major,
    /// symmetric); −∞ where `at` is out of bounds. H may be null: only ℓ is wanted.
    virtual double row(Eigen::Index i, const double* at, double* g, double* H) const = 0;

    /// Σ w ℓ of `rows` rows from `from` on and, where wanted, their terms; row by row unless a
    /// model knows better.
    ///
    /// @param eta  their indices, at least rows × indices.
    /// @param shared  the extras.
    /// @param weights  of these rows; null: ones.
    virtual double block(Eigen::Index from, Eigen::Index rows, const Eigen::MatrixXd& eta,
                         const double* shared, const double* weights, RowTerms* terms) const;
};

/// Where a likelihood is largest.
struct Maximum {
    Eigen::VectorXd theta;   ///< Coefficients of each index in turn, then extras.
    Eigen::MatrixXd factor;  ///< F F' = (−H)⁻¹.
    Eigen::MatrixXd scores;  ///< n × p, of each row, without its weight; empty if not wanted.
    Eigen::MatrixXd index;   ///< n × indices.
    double logLikelihood = 0.0;
    int iterations = 0;
    double gradient = 0.0;
};

/// Newton’s method on columns centred and scaled, with step halving and, where the curvature is of
/// the wrong sign, a ridge; done when what ℓ could still gain is under 1e-18 of its size, after one
/// more step. Same bits for any number of threads.
///
/// @param weights  n positive numbers, or empty.
/// @return the maximum, or NotConverged (iterations and gradient in words), RankDeficient (a flat
///         likelihood), Stopped.
[[nodiscard]] Result<Maximum> maximise(const std::vector<IndexPart>& parts, const RowModel& model,
                                       const Eigen::VectorXd& start, const Eigen::VectorXd& weights,
                                       const Job& job, bool wantScores = true);

/// The same of one index, without a copy of its columns.
[[nodiscard]] Result<Maximum> maximise(const IndexPart& part, const RowModel& model,
                                       const Eigen::VectorXd& start, const Eigen::VectorXd& weights,
                                       const Job& job, bool wantScores = true);

/// Leverages of rows of one index: w c ‖x'F‖² for the curvature c of each (n), F the rows of a
/// factor that belong to the columns.
[[nodiscard]] Eigen::VectorXd rowLeverages(const Eigen::MatrixXd& X, const Eigen::MatrixXd& F,
                                           const Eigen::VectorXd& curvature,
                                           const Eigen::VectorXd& weights);

/// −∂²ℓ/∂η² of every row at a maximum of one index.
[[nodiscard]] Eigen::VectorXd curvatures(const RowModel& model, const Maximum& found,
                                         Eigen::Index columns);

/// A coefficient’s place outside of the main equation.
struct ExtraName {
    std::string equation;
    std::string term;
};

/// A Poisson count and a probit of 0 and 1 by one index; `y` must outlive them.
[[nodiscard]] std::unique_ptr<RowModel> poissonModel(const Eigen::VectorXd& y);
[[nodiscard]] std::unique_ptr<RowModel> probitModel(const Eigen::VectorXd& y);

/// Levels 0, 1, … in their order (a logit; the cuts are its extras), and plain ones against level
/// 0 (an index each); `y` must outlive them.
[[nodiscard]] std::unique_ptr<RowModel> orderedModel(const Eigen::VectorXd& y, int levels);
[[nodiscard]] std::unique_ptr<RowModel> groupsModel(const Eigen::VectorXd& y, int levels);

/// The model of a family of one index without further parameters (a Poisson count, yes or no), or
/// null; `y` must outlive it.
[[nodiscard]] std::unique_ptr<RowModel> plainModel(const Family* family, const Eigen::VectorXd& y);

/// Score statistic of the columns that X has beside those of a smaller fit of the same rows: U'I⁻¹U
/// of all columns at its index. Chi-square, as many degrees as columns are added.
/// Source: Rao (1948), Proceedings of the Cambridge Philosophical Society 44.
[[nodiscard]] std::optional<double> scoreStatistic(const RowModel& model, const Eigen::MatrixXd& X,
                                                   const Eigen::VectorXd& index,
                                                   const Eigen::VectorXd& weights);

/// What a model hands over for the tables of a fit.
struct LikelihoodInput {
    const Design& design;
    Maximum maximum;
    std::vector<Eigen::Index> kept;  ///< Columns of design.X in the first index.
    std::vector<DroppedTerm> dropped;
    /// Names of the parameters after the first index.
    std::vector<ExtraName> further;
    Eigen::VectorXd leverage;  ///< n of a single index, else empty.
    /// Shown scale of a parameter (by its place in theta): value and derivative; absent: as it is.
    std::function<std::pair<double, double>(Eigen::Index, double)> shown;
    std::shared_ptr<LikelihoodFit> told;
    Eigen::VectorXd fitted;
    /// Score columns of effects that are swept out stand in for maximum.scores; null else.
    double effectsRank = 0.0;
};

/// Coefficients, covariance by the kind of errors, ℓ, AIC and BIC (p parameters each). Normal law.
/// Robust and clustered errors carry the factors of least squares; HC2 to HC4 need one index.
[[nodiscard]] Result<Fit> fitOfLikelihood(LikelihoodInput input, const ErrorSpec& errors,
                                          double alpha, const Job& job);

/// Covariance of parameters by the kind of errors from the scores of the rows (n × p, without their
/// weights) and F, F F' = (−H)⁻¹. A row’s score is what least squares calls column times residual.
///
/// @param leverage  n, or empty where the equation is not a single one: HC2 to HC4 are refused.
/// @param left  degrees of freedom that are left.
[[nodiscard]] Result<Covariance> covarianceOfScores(const Design& design,
                                                    const Eigen::MatrixXd& scores,
                                                    const Eigen::MatrixXd& factor,
                                                    const Eigen::VectorXd& leverage, double n,
                                                    double left, const ErrorSpec& errors,
                                                    double alpha, const Job& job);

/// The design’s weights, or ones.
[[nodiscard]] Eigen::VectorXd rowWeights(const Design& design);

/// Independent columns of a matrix with why the others left.
struct KeptColumns {
    std::vector<Eigen::Index> kept;
    std::vector<DroppedTerm> dropped;
};

[[nodiscard]] Result<KeptColumns> independentColumns(const Eigen::MatrixXd& X,
                                                     const std::vector<DesignColumn>& columns,
                                                     bool hasConstant, const Job& job);

/// Rows that some combination of the columns tells for certain: z = Sx with z ≥ 0 everywhere and
/// z > 0 in some rows, S the side that each row pulls to. Alternating projections from ones.
/// Source: Correia, Guimarães & Zylkin (2019), arXiv:1903.01633; Albert & Anderson (1984),
/// Biometrika 71.
struct Separation {
    std::vector<Eigen::Index> rows;     ///< Told for certain.
    std::vector<Eigen::Index> columns;  ///< Of the combination, the largest part first.
};

/// @param X      n × k, independent.
/// @param signs  +1, −1; 0: the row pulls to neither side (its z must be zero).
[[nodiscard]] std::optional<Separation> findSeparation(const Eigen::MatrixXd& X,
                                                       const Eigen::VectorXd& signs,
                                                       const Job& job);

}  // namespace rapporto
