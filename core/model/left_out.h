#pragma once

#include "core/base/compiled_once.h"
#include "core/model/fit.h"

#include <optional>
#include <string>
#include <vector>

namespace rapporto {

/// What a cause left out would do that is as strong as some multiple of a benchmark.
struct LeftOutBound {
    std::string benchmark;
    double multiple = 1.0;
    double withTerm = 0.0;     ///< Share of what is left of the term that it would explain.
    double withOutcome = 0.0;  ///< Share of what is left of the outcome.
    std::optional<double> estimate;
    std::optional<double> se;
    std::optional<double> low;
    std::optional<double> high;
    std::string why;  ///< Where there is no bound: what it would need.
};

/// How the movement of an effect, as terms come in, speaks of what is not among them.
struct Stability {
    double r2Max = 1.0;
    std::optional<double> delta;  ///< How much stronger what is left out would have to be.
    std::optional<double> atOne;  ///< The effect if it is just as strong.
};

/// Of a yes–no cause: the effect if what is left out sorted rows into it as what is in does.
/// Absent where selection on what is in does not draw towards the effect: then there is no bound.
struct Selection {
    double bias = 0.0;   ///< What selection just as strong would add to the effect.
    double ratio = 0.0;  ///< How much stronger it would have to be to make all of it.
};

/// By instruments: the same of a stage, an ordinary regression on the instruments.
struct LeftOutStage {
    std::string outcome;  ///< Of the stage: the endogenous term, or the outcome itself.
    std::string of;       ///< The instrument.
    double estimate = 0.0;
    double partialR2 = 0.0;
    double robustness = 0.0;
    double robustnessAlpha = 0.0;
};

/// A ratio’s E-value, and that of the end of its interval which is nearer to one.
struct EValue {
    double estimate = 1.0;
    double interval = 1.0;
};

/// How strong a cause left out would have to be.
struct LeftOut {
    RAPPORTO_COMPILED_ONCE(LeftOut);

    std::string of;
    double estimate = 0.0;
    double se = 0.0;
    std::optional<double> df;
    std::optional<double> partialR2;        ///< t²/(t² + df), of the classical fit.
    std::optional<double> robustness;       ///< Share on both sides that takes the effect to zero.
    std::optional<double> robustnessAlpha;  ///< That takes the end of its interval there.
    /// Of one linear equation: what one unit of √(R²Y·R²D/(1 − R²D)) takes off the effect, degrees
    /// of freedom of the rest, and of the law once one more column is in (absent: normal).
    double unit = 0.0;
    double dfResidual = 0.0;
    std::optional<double> law;
    std::vector<LeftOutBound> bounds;
    std::optional<Stability> stability;
    bool yesNo = false;  ///< The cause is, so that rows are sorted into two groups …
    std::optional<Selection> selection;  ///< … by what is in, and by as much of what is not.
    std::vector<LeftOutStage> stages;    ///< By instruments; nothing else is told then.
    std::optional<EValue> eValue;        ///< Of rates.
};

/// An effect as it would be beside a cause left out.
struct LeftBy {
    double estimate = 0.0;
    double se = 0.0;
    double low = 0.0;
    double high = 0.0;
};

/// The effect beside a cause that explains these shares of what the terms leave of the term and of
/// the outcome and draws it towards zero; of one linear equation.
/// @param withTerm, withOutcome  from 0 to under 1.
[[nodiscard]] LeftBy leftBy(const LeftOut& found, double withTerm, double withOutcome,
                            double alpha);

/// Whether it can be asked of this effect: of one linear equation, or of a count. The one place
/// that says so.
[[nodiscard]] bool canAskLeftOut(const Fit& fit, const Coefficient& effect);

/// What is asked where nothing is chosen: the effect by every other term that is in, once and twice
/// as strong.
[[nodiscard]] LeftOutRequest usualLeftOut(const Question& question, const Design& design,
                                          const Coefficient& effect,
                                          const std::vector<TermSet>& sets);

/// Robustness values and bounds by benchmarks of one effect of a linear equation; of a count the
/// E-value alone. Shares of variance are those of the (weighted) classical fit, after what is held
/// fixed; intervals use the question’s own errors: the shift by the classical share, the error by
/// √((1 − R²Y)/(1 − R²D)·df/(df − 1)), t(df − 1) or the law of the clusters. Everything follows
/// from the solution at hand, b and (X'WX)⁻¹; no row is read again.
///
/// @param sets  behind the benchmarks’ names.
/// @return UnknownName (no such term), BadSetting (a grouping of several columns; a benchmark that
///         is the term itself; a method without one linear equation).
/// By instruments the reduced form and the first stages are asked, each an ordinary regression: an
/// effect is zero exactly where its reduced form is.
///
/// Source: Cinelli & Hazlett (2020), Journal of the Royal Statistical Society B 82; (2025),
///         Biometrika 112, for instruments; Oster (2019), Journal of Business & Economic Statistics
///         37, the root whose bias has the sign of the movement; Altonji, Elder & Taber (2005),
///         Journal of Political Economy 113, for a yes–no cause; VanderWeele & Ding (2017), Annals
///         of Internal Medicine 167.
[[nodiscard]] Result<LeftOut> leftOut(const Design& design, const Fit& fit,
                                      const LeftOutRequest& request,
                                      const std::vector<TermSet>& sets, double alpha);

}  // namespace rapporto
