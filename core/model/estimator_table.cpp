#include "core/model/dynamic_panel.h"
#include "core/model/event_study.h"
#include "core/model/feasible_ar.h"
#include "core/model/fit.h"
#include "core/model/instruments.h"
#include "core/model/method_text.h"
#include "core/model/multilevel.h"
#include "core/model/outcome_models.h"
#include "core/model/panel.h"
#include "core/model/quantile.h"
#include "core/model/robust.h"
#include "core/model/setting.h"

namespace rapporto {
namespace {

/// With instruments: what they are held against, said so.
Result<Fit> leastSquares(const Design& design, const EstimatorSettings& /*settings*/,
                         const ErrorSpec& errors, double alpha, const Job& job) {
    return fitLeastSquares(design, errors, alpha, job);
}

}  // namespace

const std::vector<Estimator>& allEstimators() {
    using namespace takes;
    using namespace trait;
    static const std::vector<Estimator> kEstimators = {
        {.method = "least-squares",
         .shown = "least squares",
         .estimate = &leastSquares,
         .takes = kLinear | kInstruments,
         .traits = kByLeast | kOwnColumns | kEquation,
         .offers = &offers::leastSquares},
        {.method = "bent-line",
         .shown = "a bent line",
         .estimate = &fitBentLine,
         .takes = kPrecision | kLeverageTypes,
         .traits = kByLeast | kOwnColumns,
         .settings = &settings::bentLine,
         .named = &bentLineText,
         .offers = &offers::bentLine},
        {.method = "two-stage",
         .shown = "two-stage least squares",
         .estimate = &fitTwoStage,
         .takes = kLinear | kInstruments,
         .traits = kByInstruments,
         .offers = &offers::twoStage},
        {.method = "liml",
         .shown = "limited information likelihood",
         .estimate = &fitLiml,
         .takes = kLinear | kInstruments,
         .traits = kByInstruments,
         .offers = &offers::liml},
        {.method = "fuller",
         .shown = "Fuller’s estimator",
         .estimate = &fitFuller,
         .takes = kLinear | kInstruments,
         .traits = kByInstruments,
         .settings = &settings::fuller,
         .offers = &offers::fuller},
        {.method = "gmm",
         .shown = "generalised moments",
         .estimate = &fitGmm,
         .takes = kLinear | kInstruments,
         .traits = kByInstruments,
         .settings = &settings::moments,
         .named = &momentsText,
         .offers = &offers::moments},
        {.method = "within",
         .shown = "comparison within units",
         .estimate = &fitWithin,
         .takes = kLinear,
         .traits = kUnits | kHoldsUnit | kByLeast | kOwnColumns,
         .ofUnits = OfUnits::Within,
         .offers = &offers::within},
        {.method = "random",
         .shown = "random effects",
         .estimate = &fitRandom,
         .takes = kPrecision | kLeverageTypes,
         .traits = kUnits | kHeldInside | kByLeast,
         .ofUnits = OfUnits::AtRandom,
         .offers = &offers::randomUnits},
        {.method = "between",
         .shown = "comparison of units’ means",
         .estimate = &fitBetween,
         .takes = kPrecision | kLeverageTypes,
         .traits = kUnits | kHeldInside | kByLeast,
         .ofUnits = OfUnits::Means,
         .offers = &offers::between},
        {.method = "first-difference",
         .shown = "first differences",
         .estimate = &fitFirstDifference,
         .takes = kPrecision | kLeverageTypes,
         .traits = kUnits | kMoments | kHeldInside | kByLeast,
         .ofUnits = OfUnits::Changes,
         .offers = &offers::firstDifference},
        {.method = "feasible-ar",
         .shown = "least squares with an echo taken out",
         .estimate = &fitFeasibleAr,
         .takes = kLeverageTypes | kRowsInOrder,
         .settings = &settings::echo,
         .offers = &offers::echo},
        {.method = "difference-gmm",
         .shown = "differences by earlier moments",
         .estimate = &fitDifferenceGmm,
         .takes = kInstruments | kRowsInOrder,
         .traits = kUnits | kMoments | kOwnPast | kHeldInside | kNoLine,
         .settings = &settings::earlierMoments,
         .named = &earlierMomentsText,
         .offers = &offers::differences},
        {.method = "system-gmm",
         .shown = "differences and levels by earlier moments",
         .estimate = &fitSystemGmm,
         .takes = kInstruments | kRowsInOrder,
         .traits = kUnits | kMoments | kOwnPast | kHeldInside | kNoLine,
         .settings = &settings::earlierMoments,
         .named = &earlierMomentsText,
         .offers = &offers::differencesAndLevels},
        {.method = "event-study",
         .shown = "effects before and after a change",
         .estimate = &fitEventStudy,
         .takes = kLinear,
         .traits = kUnits | kMoments | kHoldsUnit | kHeldInside | kChange | kNoLine,
         .settings = &settings::change,
         .named = &changeText,
         .offers = &offers::change},
        {.method = "poisson",
         .shown = "a Poisson count",
         .estimate = &fitPoisson,
         .takes = kLeverageTypes | kExposure,
         .traits = kEquation,
         .family = &families::kPoisson,
         .suits =
             SuitedOutcome{Measure::Count, "by a Poisson count",
                           " is a count: effects are in ratios then, and no mean falls below zero"},
         .offers = &offers::poisson},
        {.method = "negative-binomial",
         .shown = "a negative binomial count",
         .estimate = &fitNegativeBinomial,
         .takes = kLeverageTypes | kExposure,
         .family = &families::kNegativeBinomial,
         .settings = &settings::spreadCount,
         .named = &spreadCountText,
         .offers = &offers::spreadCount},
        {.method = "zero-inflated",
         .shown = "a count with two kinds of zeros",
         .estimate = &fitZeroInflated,
         .takes = kExposure,
         .family = &families::kZeroInflated,
         .settings = &settings::zeroParts,
         .named = &partCountText,
         .offers = &offers::zeroInflated},
        {.method = "hurdle",
         .shown = "a count behind a hurdle",
         .estimate = &fitHurdle,
         .takes = kExposure,
         .family = &families::kHurdle,
         .settings = &settings::zeroParts,
         .named = &partCountText,
         .offers = &offers::hurdle},
        {.method = "truncated",
         .shown = "a count without zeros",
         .estimate = &fitTruncated,
         .takes = kExposure,
         .family = &families::kTruncated,
         .settings = &settings::withoutZeros,
         .named = &partCountText,
         .offers = &offers::truncated},
        {.method = "logit",
         .shown = "logit",
         .estimate = &fitLogit,
         .takes = kLeverageTypes | kExposure,
         .traits = kEquation,
         .family = &families::kLogit,
         .settings = &settings::penalty,
         .suits = SuitedOutcome{Measure::YesNo, "by logit",
                                " is yes or no: its chances stay between 0 and 1 then; least "
                                "squares tells a difference in chance"},
         .named = &logitText,
         .offers = &offers::logit},
        {.method = "probit",
         .shown = "probit",
         .estimate = &fitProbit,
         .takes = kLeverageTypes | kExposure,
         .traits = kEquation,
         .family = &families::kProbit,
         .offers = &offers::probit},
        {.method = "cloglog",
         .shown = "complementary log-log",
         .estimate = &fitCloglog,
         .takes = kLeverageTypes | kExposure,
         .family = &families::kCloglog,
         .offers = &offers::cloglog},
        {.method = "conditional-logit",
         .shown = "conditional logit",
         .estimate = &fitConditionalLogit,
         .traits = kHoldsUnitElse,
         .family = &families::kConditionalLogit,
         .offers = &offers::conditionalLogit},
        {.method = "fractional-logit",
         .shown = "logit of shares",
         .estimate = &fitFractionalLogit,
         .takes = kLeverageTypes | kExposure,
         .family = &families::kFractionalLogit,
         .offers = &offers::fractionalLogit},
        {.method = "ordered-logit",
         .shown = "ordered logit",
         .estimate = &fitOrderedLogit,
         .family = &families::kOrderedLogit,
         .suits = SuitedOutcome{Measure::OrderedGroups, "by ordered logit",
                                " is ordered groups: how far apart they are is left open then"},
         .offers = &offers::orderedLogit},
        {.method = "ordered-probit",
         .shown = "ordered probit",
         .estimate = &fitOrderedProbit,
         .family = &families::kOrderedProbit,
         .offers = &offers::orderedProbit},
        {.method = "multinomial-logit",
         .shown = "logit of several groups",
         .estimate = &fitMultinomialLogit,
         .family = &families::kMultinomialLogit,
         .suits = SuitedOutcome{Measure::Groups, "by a logit of several groups",
                                " is groups without an order: each has a chance of its own then"},
         .offers = &offers::multinomialLogit},
        {.method = "tobit",
         .shown = "tobit",
         .estimate = &fitTobit,
         .family = &families::kTobit,
         .settings = &settings::cutOff,
         .offers = &offers::tobit},
        {.method = "interval",
         .shown = "an outcome between two ends",
         .estimate = &fitInterval,
         .family = &families::kInterval,
         .settings = &settings::upperEnd,
         .named = &intervalText,
         .offers = &offers::interval},
        {.method = "heckman",
         .shown = "an outcome that some rows lack",
         .estimate = &fitHeckman,
         .traits = kUnseen,
         .family = &families::kHeckman,
         .settings = &settings::seenTerms,
         .offers = &offers::heckman},
        {.method = "heckman-two-step",
         .shown = "an outcome that some rows lack, in two steps",
         .estimate = &fitHeckmanTwoStep,
         .traits = kUnseen,
         .settings = &settings::seenTerms,
         .offers = &offers::heckmanTwoStep},
        {.method = "poisson-control",
         .shown = "a Poisson count with instruments",
         .estimate = &fitPoissonControl,
         .takes = kInstruments | kExposure,
         .traits = kByInstruments,
         .family = &families::kPoissonControl,
         .offers = &offers::poissonControl},
        {.method = "probit-instruments",
         .shown = "probit with instruments",
         .estimate = &fitProbitInstruments,
         .takes = kInstruments,
         .traits = kByInstruments,
         .family = &families::kProbitInstruments,
         .offers = &offers::probitInstruments},
        {.method = "multilevel",
         .shown = "random effects of groups",
         .estimate = &fitMultilevel,
         .takes = kPrecision | kGroupsWhole,
         .settings = &settings::levels,
         .named = &levelsText},
        {.method = "quantile",
         .shown = "quantiles",
         .estimate = &fitQuantile,
         .takes = kPrecision,
         .traits = kNoLine,
         .settings = &settings::quantiles,
         .named = &quantileText,
         .offers = &offers::quantiles},
        {.method = "huber",
         .shown = "Huber’s curve",
         .estimate = &fitHuber,
         .takes = kPrecision,
         .settings = &settings::huber,
         .offers = &offers::huber},
        {.method = "bisquare",
         .shown = "the bisquare",
         .estimate = &fitBisquare,
         .takes = kPrecision,
         .settings = &settings::bisquare,
         .offers = &offers::bisquare},
        {.method = "mm",
         .shown = "an MM-estimate",
         .estimate = &fitMm,
         .takes = kPrecision,
         .settings = &settings::efficiency,
         .offers = &offers::mm},
    };
    return kEstimators;
}

const std::vector<CovarianceKind>& allCovariances() {
    static const std::vector<CovarianceKind> kKinds = {
        {"classical", &classicalCovariance},
        {"robust", &robustCovariance},
        {"clustered", &clusteredCovariance},
        {"autocorrelation", &autocorrelationCovariance},
        {"bootstrap", &bootstrapCovariance},
        {"survey", &surveyCovariance},
        {"panel-autocorrelation", &panelAutocorrelationCovariance},
    };
    return kKinds;
}

const Estimator* findEstimator(const std::string& method) {
    for (const Estimator& estimator : allEstimators()) {
        if (method == estimator.method) {
            return &estimator;
        }
    }
    return nullptr;
}

bool hasTrait(const std::string& method, unsigned bits) {
    const Estimator* estimator = findEstimator(method);
    return estimator != nullptr && estimator->has(bits);
}

bool canTake(const std::string& method, unsigned bits) {
    const Estimator* estimator = findEstimator(method);
    return estimator != nullptr && estimator->canTake(bits);
}

OfUnits ofUnits(const std::string& method) {
    const Estimator* estimator = findEstimator(method);
    return estimator == nullptr ? OfUnits::Nothing : estimator->ofUnits;
}

const Family* familyOf(const std::string& method) {
    const Estimator* estimator = findEstimator(method);
    return estimator == nullptr ? nullptr : estimator->family;
}

}  // namespace rapporto
