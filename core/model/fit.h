#pragma once

#include "core/base/compiled_once.h"
#include "core/model/design.h"
#include "core/model/estimator.h"
#include "core/numerics/linear_solution.h"

#include <memory>
#include <optional>

namespace rapporto {

struct Coefficient {
    std::string term;  ///< The column's name.
    std::string label;
    std::string equation = "main";
    double estimate = 0.0;
    double se = 0.0;
    std::optional<double> statistic;  ///< Absent when the standard error is zero.
    std::optional<double> df;         ///< Absent: normal law.
    std::optional<double> p;
    double low = 0.0;  ///< Interval at 1 − alpha.
    double high = 0.0;
    std::optional<double> standardised;  ///< b·sd(x)/sd(y); absent for the constant.
    Eigen::Index column = 0;             ///< Of X.
    int designTerm = -1;                 ///< Index into Design::terms; −1 for the constant.
    std::optional<double> designEffect;  ///< Variance over that of a simple random sample.
};

struct FTest {
    double value = 0.0;
    double df1 = 0.0;
    double df2 = 0.0;
    double p = 0.0;
};

/// A source of variation: sums of squares and, for terms, the partial F.
struct VarianceSource {
    std::string source;
    double df = 0.0;
    double ss = 0.0;
    std::optional<double> ms;
    std::optional<double> f;
    std::optional<double> p;
};

struct FitStatistics {
    std::optional<double> rSquared;  ///< Absent where it means nothing: instruments.
    bool uncentred = false;          ///< R² about zero: no constant.
    std::optional<double> adjustedRSquared;
    std::optional<double> within;   ///< R² within units, of a fit with effects or of a panel …
    std::optional<double> between;  ///< … of the units’ means …
    std::optional<double> overall;  ///< … and of all rows, as squared correlations.
    double sigma = 0.0;
    double rss = 0.0;
    double tss = 0.0;
    std::optional<double> logLikelihood;
    std::optional<double> aic;
    std::optional<double> bic;
    std::optional<FTest> f;
};

struct DroppedTerm {
    std::string name;
    std::string reason;  ///< “is 1 − urban − suburban”.
};

/// What drawing anew gave for each coefficient, in place of a law.
struct Resampling {
    int asked = 0;
    int failed = 0;  ///< Draws without a solution; the others are the sample.
    Eigen::VectorXd low;
    Eigen::VectorXd high;
    Eigen::VectorXd p;
    /// p of every coefficient but the constant held together with the others by Romano & Wolf;
    /// empty where the draws of one coefficient are not those of another.
    Eigen::VectorXd together;
};

/// A place where a line changes its slope.
struct Bend {
    double at = 0.0;
    double se = 0.0;  ///< By the question’s own errors; 0 when the bend is fixed.
    double low = 0.0;
    double high = 0.0;
    bool profile = false;  ///< The interval is by profile likelihood; else at ± t·se.
    double slopeBefore = 0.0;
    double slopeAfter = 0.0;
};

/// What a fit with bends tells beside its coefficients.
struct BentLine {
    /// A line with so many bends, searched alike.
    struct Choice {
        int bends = 0;
        std::vector<double> at;
        double rss = 0.0;
        double bic = 0.0;  ///< Each bend counts as two parameters: its place and its slope.
    };

    std::string variable;
    bool fixed = false;
    std::vector<Bend> bends;
    std::vector<Choice> choices;  ///< Without a bend, with one, … one more than asked.
    double existence = 1.0;       ///< Davies’ bound on p: no bend at all.
    double largest = 0.0;         ///< Of the statistic over all places.
};

struct InstrumentedFit;
struct PanelFit;
struct DynamicFit;
struct EventFit;
struct LikelihoodFit;
struct QuantileFit;
struct RobustFit;
struct EchoFit;
struct LevelsFit;
struct PooledFit;
struct CompleteRows;

/// An estimated model. Immutable once made.
struct Fit {
    RAPPORTO_COMPILED_ONCE(Fit);

    std::vector<Coefficient> coefficients;
    Eigen::MatrixXd covariance;  ///< In the order of `coefficients`.
    std::vector<VarianceSource> varianceSplit;
    FitStatistics statistics;
    std::vector<DroppedTerm> dropped;
    Eigen::VectorXd fitted;
    Eigen::VectorXd residuals;
    Eigen::VectorXd leverage;
    LinearSolution solution;
    double n = 0.0;  ///< Rows, or the sum of frequency weights.
    double dfResidual = 0.0;
    std::string errorNote;  ///< “48 clusters”, “few clusters …”.
    /// Nothing is left but rounding; residuals and rss are zero then, and no error exists.
    bool exact = false;
    /// Its rows are less a share of others: see rows_left.h for the rows as they are.
    bool ofShares = false;
    /// The level has no error of its own: the groups that are held fixed lie within the clusters,
    /// so that their levels are free to move with them. Its row of `covariance` says nothing.
    bool levelHasNoError = false;
    std::optional<Resampling> resampling;
    std::optional<BentLine> bent;
    std::shared_ptr<const InstrumentedFit> instrumented;  ///< Null without instruments.
    std::shared_ptr<const PanelFit> panel;                ///< Null without a panel method.
    std::shared_ptr<const DynamicFit> dynamic;            ///< Of instruments by earlier moments.
    std::shared_ptr<const EventFit> event;                ///< Of effects before and after a change.
    std::shared_ptr<const LikelihoodFit> likelihood;  ///< Of counts, yes–no and ordered outcomes.
    std::shared_ptr<const QuantileFit> quantile;
    std::shared_ptr<const RobustFit> robust;
    std::shared_ptr<const EchoFit> echo;      ///< Of errors that carry over to the next moment.
    std::shared_ptr<const LevelsFit> levels;  ///< Of random effects of groups.
    std::shared_ptr<const PooledFit> pooled;  ///< Of several sets filled in; else null.
    std::shared_ptr<const CompleteRows> complete;  ///< Where they stand for the others; else null.
    /// The design this fit is linear in, where that is not the question’s own; else null.
    std::shared_ptr<const Design> linearised;
    std::vector<std::string> notes;
};

/// Least squares of the design with the errors asked for.
///
/// Weights: precision and sampling weights minimise Σ w e²; frequency weights count rows. R²
/// without a constant uses the uncentred total. `f` is the Wald F of all slopes in the question's
/// own covariance. AIC = −2ℓ + 2p with p = k + 1. Interval and p from t(n − k), clustered t(G − 1).
///
/// @return the fit, or TooFewRows (n ≤ k), NoVariation, BadSetting (one cluster; robust kinds that
///         do not exist), Stopped.
[[nodiscard]] Result<Fit> fitLeastSquares(const Design& design, const ErrorSpec& errors,
                                          double alpha, const Job& job);

/// The formulas of least squares where X is the derivative of a fit and `coefficients` (one a
/// column of X) are where it stands: residuals y − X·coefficients, covariances with X.
[[nodiscard]] Result<Fit> fitLinearised(const Design& design, const Eigen::VectorXd& coefficients,
                                        const ErrorSpec& errors, double alpha, const Job& job);

/// A covariance of least squares: (X'X)⁻¹ meat (X'X)⁻¹ and the law it comes with.
struct Covariance {
    Eigen::MatrixXd matrix;
    double df = 0.0;
    std::string note;
    std::optional<Resampling> resampling = {};
    Eigen::VectorXd designEffects = {};  ///< Of errors by the survey design; else empty.
};

/// What a covariance estimator sees. For instruments `problem` holds the projected columns and
/// `solution` the factor of the estimator and its residuals.
struct CovarianceInput {
    const Design& design;
    const LinearProblem& problem;
    const LinearSolution& solution;
    const Eigen::VectorXd& leverage;
    double n;
    double dfResidual;
    double alpha;
    const Job& job;
    bool plain = false;  ///< Without the factors for small samples: the weight of moments.
};

[[nodiscard]] Result<Covariance> classicalCovariance(const CovarianceInput& in,
                                                     const ErrorSpec& spec);

/// HC0; HC1 × n/(n−k); HC2 e²/(1−h); HC3 e²/(1−h)²; HC4 e²/(1−h)^min(4, hn/k).
/// Source: White (1980), Econometrica 48; MacKinnon & White (1985), J. Econometrics 29;
/// Cribari-Neto (2004), Computational Statistics & Data Analysis 45.
[[nodiscard]] Result<Covariance> robustCovariance(const CovarianceInput& in, const ErrorSpec& spec);

/// One-way with G/(G−1)·(n−1)/(n−k); two-way by inclusion and exclusion with each part's own
/// factor, negative eigenvalues set to zero.
/// Source: Liang & Zeger (1986), Biometrika 73; Cameron, Gelbach & Miller (2011), JBES 29.
[[nodiscard]] Result<Covariance> clusteredCovariance(const CovarianceInput& in,
                                                     const ErrorSpec& spec);

/// Bartlett weights 1 − l/(L + 1) on pairs of rows l moments apart (a gap in time makes no pair),
/// × n/(n − k). L as asked for, else floor(4(n/100)^(2/9)), else automatic.
/// Source: Newey & West (1987), Econometrica 55; (1994), Review of Economic Studies 61.
/// @return BadSetting without a series, with two rows at one moment, with frequency weights.
[[nodiscard]] Result<Covariance> autocorrelationCovariance(const CovarianceInput& in,
                                                           const ErrorSpec& spec);

/// Every group of the effects lies in one cluster.
[[nodiscard]] bool isNested(const SweptGrouping& effects,
                            const std::vector<std::int32_t>& clusters);

/// Draws of rows, clusters or signs with the spread of the coefficients over them; intervals and p
/// by percentile, bias-corrected or BCa. Wild draws multiply e/√(1 − h) by ±1. Wild draws by
/// clusters impose the hypothesis on each coefficient in turn (±1; Webb’s six points under twelve
/// clusters), p and interval come from the clustered t, the covariance stays the clustered one.
/// `together` steps down over the largest |b* − b|/se of those still left.
/// The same numbers for any number of threads.
/// Source: Efron (1987), JASA 82; Wu (1986), Annals of Statistics 14; Cameron, Gelbach & Miller
/// (2008), Review of Economics and Statistics 90; Webb (2014); Roodman, Nielsen, MacKinnon & Webb
/// (2019) for the sums by cluster; Romano & Wolf (2005), Econometrica 73; (2016), Statistics &
/// Probability Letters 113.
/// @return BadSetting (frequency weights, one cluster; rows of a unit drawn apart where effects are
///         swept out or changes taken), Stopped.
[[nodiscard]] Result<Covariance> bootstrapCovariance(const CovarianceInput& in,
                                                     const ErrorSpec& spec);

/// By linearisation over clusters within strata of the survey design; rows outside of the question
/// belong to it, too. Law t(clusters − strata). Source: Binder (1983).
/// @return BadSetting without a declared design.
[[nodiscard]] Result<Covariance> surveyCovariance(const CovarianceInput& in, const ErrorSpec& spec);

/// Scores of a panel summed by moment, then Bartlett weights on moments apart, × n/(n − k).
/// Lags as asked for, else floor(4(T/100)^(2/9)) for T moments.
/// Source: Driscoll & Kraay (1998), Review of Economics and Statistics 80.
/// @return BadSetting without a panel.
[[nodiscard]] Result<Covariance> panelAutocorrelationCovariance(const CovarianceInput& in,
                                                                const ErrorSpec& spec);

struct CovarianceKind {
    const char* kind;  ///< As errors.kind has it.
    Result<Covariance> (*compute)(const CovarianceInput&, const ErrorSpec&);
};

/// All kinds of errors; the only place to add one.
[[nodiscard]] const std::vector<CovarianceKind>& allCovariances();

/// A continuous line in one variable that changes slope at one to five places, beside the other
/// terms: found on the profile of all combinations of places among the data (every one up to two
/// bends and 200 places; fewer places for more), then refined by Gauss–Newton from the five best.
/// The places count as parameters. Errors of every kind by linearisation.
/// Source: Hudson (1966), JASA 61; Muggeo (2003), Statistics in Medicine 22 (the linearisation);
/// Davies (1987), Biometrika 74.
/// @return BadSetting (the variable is no term or a grouping, too few distinct values, places
///         outside the data), and what fitLeastSquares returns.
[[nodiscard]] Result<Fit> fitBentLine(const Design& design, const EstimatorSettings& settings,
                                      const ErrorSpec& errors, double alpha, const Job& job);

/// A solution made elsewhere, with the columns its covariance is made of (as many as design.X),
/// which must outlive it.
struct GivenSolution {
    ColumnsView columns;
    LinearSolution solution;
    std::optional<Covariance> covariance = {};  ///< Absent: by the kind of errors.
    std::optional<double> df = {};  ///< Of the law; absent: of the covariance. Infinity: normal.
    bool likelihood = false;        ///< The residuals are those of least squares of the columns.
};

/// The tables of a fit whose solution is given: R² and likelihood only where `likelihood`.
[[nodiscard]] Result<Fit> fitGiven(const Design& design, GivenSolution given,
                                   const ErrorSpec& errors, double alpha, const Job& job);

/// The covariance by the kind that `errors` names, or NotBuilt.
[[nodiscard]] Result<Covariance> covarianceOf(const CovarianceInput& in, const ErrorSpec& errors);

/// “is 1 − urban − suburban”, of a column among those.
[[nodiscard]] std::string combinationText(const std::vector<DesignColumn>& columns,
                                          const RedundantColumn& redundant);

/// The coefficients that “all terms together” speaks of: those of terms of the question in the
/// outcome’s equation, or in all of them where it has several (plain groups, quantiles); neither
/// constants nor what a first step adds, nor equations of something else (zeros, being seen).
[[nodiscard]] std::vector<Eigen::Index> jointEffects(const Design& design,
                                                     const std::vector<Coefficient>& coefficients);

/// An error that is one: above the rounding of its estimate. Under that it stands on nothing, and
/// neither a test nor an interval comes from it.
[[nodiscard]] bool isError(double se, double estimate);

/// b' V⁻¹ b / q with V scaled to a unit diagonal; absent when V is singular.
[[nodiscard]] std::optional<double> waldF(const Eigen::VectorXd& b, const Eigen::MatrixXd& V);

}  // namespace rapporto
