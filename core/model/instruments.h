#pragma once

#include "core/model/fit.h"

namespace rapporto {

/// The regression of one endogenous column on every instrument and exogenous column.
struct FirstStage {
    std::string endogenous;  ///< The column’s name.
    std::vector<Coefficient> coefficients;
    Eigen::MatrixXd covariance;
    double partialRSquared = 0.0;  ///< Of the instruments outside of the equation.
    double rSquared = 0.0;
    std::optional<FTest> f;           ///< Of them together, in the question’s own errors.
    std::optional<FTest> classicalF;  ///< The same under one spread.
};

struct InstrumentParts;

/// What an instrumental fit tells beside its coefficients. The first three are filled by
/// describeInstruments().
struct InstrumentedFit {
    std::vector<FirstStage> firstStages;
    FirstStage reducedForm;                 ///< The outcome on the same columns.
    std::vector<Coefficient> leastSquares;  ///< Of the endogenous columns, in the same errors.
    double kappa = 1.0;                     ///< Of the k-class; 1 for GMM.
    int excluded = 0;                       ///< Independent instruments outside of the equation.
    int endogenous = 0;                     ///< Endogenous columns.
    std::optional<double> j;                ///< Of GMM: n·g'Wg with the weight used in estimation.
    int rounds = 0;                         ///< Of iterated and continuously updated GMM.
    std::vector<DroppedTerm> idle;          ///< Instruments that others already say.
    std::shared_ptr<const InstrumentParts> parts;  ///< Until the fit is described.

    [[nodiscard]] int overidentified() const { return excluded - endogenous; }
};

/// The parts of a design with instruments, which must outlive them. W = [exogenous columns,
/// independent instruments], not weighted.
struct InstrumentParts {
    std::vector<Eigen::Index> exogenous;   ///< Columns of X, kept ones.
    std::vector<Eigen::Index> endogenous;  ///< Columns of X.
    std::vector<Eigen::Index> excluded;    ///< Kept columns of Z.
    std::vector<DroppedTerm> idle;
    std::vector<DroppedTerm> redundant;  ///< Exogenous columns that others already say.
    ColumnsView W;                       ///< n × L: exogenous, then excluded, of the design.
    std::vector<DesignColumn> columns;   ///< Of W.
    LinearSolution onW;                  ///< Of the first endogenous column on W.
    Eigen::MatrixXd left;                ///< What W leaves of them, n × g.
};

/// @return the parts, or BadSetting (fewer independent instruments than endogenous columns, no
///         endogenous term), TooFewRows, Stopped.
[[nodiscard]] Result<InstrumentParts> instrumentParts(const Design& design, const Job& job);

/// What the exogenous columns (kept) leave of y, the endogenous columns and the instruments, times
/// root weights.
struct PartialledOut {
    Eigen::VectorXd y;
    Eigen::MatrixXd endogenous;  ///< n × g.
    Eigen::MatrixXd excluded;    ///< n × l, orthonormal.
};

[[nodiscard]] PartialledOut partialledOut(const Design& design, const InstrumentParts& parts);

/// Covariance of P'e in the basis P = W·factor of the instruments, Σ p e e' p' by the kind of
/// errors; L × L. Without `left` no small-sample factors, else those of so many degrees of freedom.
[[nodiscard]] Result<Eigen::MatrixXd> momentVariance(const Design& design,
                                                     const InstrumentParts& parts,
                                                     const Eigen::VectorXd& residuals,
                                                     const ErrorSpec& errors, const Job& job,
                                                     std::optional<double> left = {});

/// P = W·factor times root weights: the orthonormal basis that momentVariance() speaks of.
[[nodiscard]] Eigen::MatrixXd instrumentBasis(const Design& design, const InstrumentParts& parts);

/// A design over the same rows, without columns.
[[nodiscard]] Design sameRows(const Design& design);

/// k-class estimators b = (X'(I − κM)X)⁻¹X'(I − κM)y, M what the instruments leave: two-stage
/// κ = 1; LIML κ the smallest root of |Y'M₁Y − κY'MY| = 0; Fuller κ − a/(n − L). Covariance
/// (X'(I − κM)X)⁻¹ by σ² = e'e/(n − k), or between it the meat of the projected columns by the kind
/// of errors. Starting from two-stage the others are corrections, so that κ = 1 is two-stage to the
/// last bit.
/// GMM: moments Z'e weighted by their inverse variance at the two-stage residuals (two steps), at
/// its own (iterated), or minimised with the weight moving along (continuously updated); covariance
/// (X'ZS⁻¹Z'X)⁻¹ with S at the final estimate and the factor of the kind of errors.
///
/// @return the fit, or what instrumentParts() refuses, BadSetting (errors by drawing),
/// NotConverged. Source: Theil (1958); Anderson & Rubin (1949), Annals of Mathematical Statistics
/// 20; Fuller (1977), Econometrica 45; Hansen (1982), Econometrica 50; Hansen, Heaton & Yaron
/// (1996), JBES 14.
[[nodiscard]] Result<Fit> fitTwoStage(const Design& design, const EstimatorSettings& settings,
                                      const ErrorSpec& errors, double alpha, const Job& job);
[[nodiscard]] Result<Fit> fitLiml(const Design& design, const EstimatorSettings& settings,
                                  const ErrorSpec& errors, double alpha, const Job& job);
[[nodiscard]] Result<Fit> fitFuller(const Design& design, const EstimatorSettings& settings,
                                    const ErrorSpec& errors, double alpha, const Job& job);
[[nodiscard]] Result<Fit> fitGmm(const Design& design, const EstimatorSettings& settings,
                                 const ErrorSpec& errors, double alpha, const Job& job);

/// Fills what stands beside an instrumental fit: the first stages, the reduced form, and least
/// squares of the same terms. Nothing for other fits. It takes a few times as long as the fit, and
/// draws have no use for it.
void describeInstruments(Fit& fit, const Design& design, const ErrorSpec& errors, double alpha,
                         const Job& job);

/// Hansen’s J of the moments with the weight that the errors ask for, at the GMM estimate it leads
/// to; the same number for GMM with the weight used in estimation.
[[nodiscard]] Result<double> hansenJ(const Design& design, const InstrumentParts& parts,
                                     const ErrorSpec& errors, const Job& job);

}  // namespace rapporto
