#pragma once

#include "core/model/fit.h"

namespace rapporto {

/// What quantiles tell beside their coefficients.
struct QuantileFit {
    struct Point {
        double at = 0.5;
        double objective = 0.0;
        double goodness = 0.0;   ///< 1 − V/V₀ (Koenker & Machado).
        double bandwidth = 0.0;  ///< Hall & Sheather’s, on the scale of quantiles.
        double sparsity = 0.0;   ///< 1/f(0) of independent errors.
        int pivots = 0;
        bool manifold = false;  ///< Other vertices do as well.
        Eigen::VectorXd b;      ///< Of the kept columns.
    };

    /// An effect along the whole distribution.
    struct Process {
        std::vector<double> at;
        Eigen::MatrixXd b;    ///< Points × kept columns.
        Eigen::MatrixXd low;  ///< Interval ends by the same errors.
        Eigen::MatrixXd high;
    };

    std::vector<Point> points;
    std::optional<FTest> equal;  ///< The slopes are the same at all points asked for (Wald).
    std::size_t crossing = 0;    ///< Rows where a lower quantile lies above a higher one.

    // Filled by describeQuantiles().
    Process process;                        ///< Empty with more than 100,000 rows.
    std::vector<Coefficient> leastSquares;  ///< In the order of the kept columns.
};

/// Quantiles of the outcome at settings.at (the median where empty), each a vertex of its linear
/// programme. Errors: classical or density take errors that are independent and of one density
/// (Hall & Sheather’s bandwidth); kernel or robust Powell’s sandwich with a uniform kernel of the
/// same bandwidth; clustered by Parente & Santos Silva (2016); survey by linearisation. Normal law.
/// With several points the coefficients stand one point after another and their covariance is that
/// of all together.
///
/// @return the fit, or BadSetting (points outside of 0 to 1, other kinds of errors), TooFewRows,
///         NotConverged, Stopped.
/// Source: Koenker & Bassett (1978), Econometrica 46; Koenker & Machado (1999), JASA 94; Powell
/// (1991); Hall & Sheather (1988), JRSS B 50.
[[nodiscard]] Result<Fit> fitQuantile(const Design& design, const EstimatorSettings& settings,
                                      const ErrorSpec& errors, double alpha, const Job& job);

/// Fills what stands beside quantiles: the effects at every twentieth of the distribution (with a
/// note in their place past 100,000 rows), and least squares of the same terms. Nothing for other
/// fits and with effects held fixed. Draws have no use for it.
void describeQuantiles(Fit& fit, const Design& design, const ErrorSpec& errors, double alpha,
                       const Job& job);

/// With effects held fixed (a swept design): y = a + xb + (d + xg)U with one law for U. b from
/// least squares, g from what the residuals R make of the spread, 2R(1{R ≥ 0} − share), and the
/// place q of a quantile by Σ σ(τ − 1{R ≤ qσ}) = 0; the effect is b + qg. Errors from what each row
/// moves them by, robust at least. Their law is that of many rows in each group. Source: Machado &
/// Santos Silva (2019), J. Econometrics 213.
[[nodiscard]] Result<Fit> fitQuantileWithEffects(const Design& design,
                                                 const std::vector<double>& points,
                                                 const ErrorSpec& errors, double alpha,
                                                 const Job& job);

/// h of Hall & Sheather (1988) for an interval of level 1 − alpha.
[[nodiscard]] double hallSheather(double n, double tau, double alpha);

}  // namespace rapporto
