#include "core/model/family.h"

namespace rapporto::families {

using enum Family::Outcome;
using Curve = Family::Curve;
using Row = Family::Row;
using Zeros = Family::Zeros;

namespace {

// What several families say alike.
constexpr const char* kLogOfMean = "ln of the mean";
constexpr const char* kLogOdds = "log odds";
constexpr const char* kProbitIndex = "the probit index";
constexpr Family::Around kMean = {"ln mean of ", ""};
constexpr Family::Around kOdds = {"ln odds of ", ""};
constexpr Family::Around kNormalIndex = {"Φ⁻¹ of P(", ")"};
constexpr Family::Around kCuts = {"cut less index of ", ""};

}  // namespace

constexpr Family kPoisson = {.outcome = Count,
                             .curve = Curve::Exp,
                             .row = Row::Count,
                             .equation = kMean,
                             .ratio = {"the mean of ", ""},
                             .scale = kLogOfMean};
constexpr Family kNegativeBinomial = {.outcome = Count,
                                      .curve = Curve::Exp,
                                      .row = Row::Count,
                                      .ownSpread = true,
                                      .equation = kMean,
                                      .ratio = {"the mean of ", ""},
                                      .scale = kLogOfMean};
constexpr Family kZeroInflated = {.outcome = Count,
                                  .curve = Curve::Exp,
                                  .row = Row::Count,
                                  .zeros = Zeros::TwoKinds,
                                  .equation = kMean,
                                  .ratio = {"the mean of ", " where there can be any"},
                                  .scale = kLogOfMean};
constexpr Family kHurdle = {.outcome = Count,
                            .curve = Curve::Exp,
                            .row = Row::Count,
                            .zeros = Zeros::Hurdle,
                            .equation = kMean,
                            .ratio = {"the rate of ", " where there is any"},
                            .scale = kLogOfMean};
constexpr Family kTruncated = {.outcome = Count,
                               .curve = Curve::Exp,
                               .row = Row::Count,
                               .zeros = Zeros::Absent,
                               .equation = kMean,
                               .ratio = {"the rate of ", " where there is any"},
                               .scale = kLogOfMean};
constexpr Family kPoissonControl = {.outcome = Count,
                                    .curve = Curve::Exp,
                                    .firstStages = true,
                                    .equation = kMean,
                                    .ratio = {"the mean of ", ""},
                                    .scale = kLogOfMean};

constexpr Family kLogit = {.outcome = YesNo,
                           .curve = Curve::Logit,
                           .row = Row::YesNo,
                           .equation = kOdds,
                           .ratio = {"the odds of ", ""},
                           .ratioOfLabel = true,
                           .scale = kLogOdds};
constexpr Family kProbit = {.outcome = YesNo,
                            .curve = Curve::Probit,
                            .row = Row::YesNo,
                            .equation = kNormalIndex,
                            .scale = kProbitIndex};
constexpr Family kCloglog = {.outcome = YesNo,
                             .curve = Curve::Cloglog,
                             .row = Row::YesNo,
                             .equation = {"ln −ln of 1 − P(", ")"},
                             .ratio = {"the hazard of ", ""},
                             .ratioOfLabel = true,
                             .scale = "ln of the hazard"};
constexpr Family kConditionalLogit = {.outcome = Within,
                                      .curve = Curve::Logit,
                                      .equation = kOdds,
                                      .ratio = {"within a group the odds of ", ""},
                                      .ratioOfLabel = true,
                                      .scale = kLogOdds};
constexpr Family kFractionalLogit = {.outcome = Share,
                                     .curve = Curve::Logit,
                                     .equation = kOdds,
                                     .ratio = {"the odds of ", ""},
                                     .scale = kLogOdds};
constexpr Family kProbitInstruments = {.outcome = YesNo,
                                       .curve = Curve::Probit,
                                       .joined = true,
                                       .equation = kNormalIndex,
                                       .scale = kProbitIndex};

constexpr Family kOrderedLogit = {.outcome = Ordered,
                                  .curve = Curve::Logit,
                                  .row = Row::Level,
                                  .equation = kCuts,
                                  .ratio = {"the odds of a higher level of ", ""},
                                  .ratioOfLabel = true,
                                  .scale = kLogOdds};
constexpr Family kOrderedProbit = {.outcome = Ordered,
                                   .curve = Curve::Probit,
                                   .row = Row::Level,
                                   .equation = kCuts,
                                   .scale = kProbitIndex};
constexpr Family kMultinomialLogit = {
    .outcome = Groups, .curve = Curve::Logit, .equation = kOdds, .scale = kLogOdds};

constexpr Family kTobit = {.outcome = CutOff,
                           .curve = Curve::Line,
                           .row = Row::BehindEnd,
                           .equation = {"", " before it is cut off"},
                           .latent = ", before it is cut off,"};
constexpr Family kInterval = {.outcome = CutOff,
                              .curve = Curve::Line,
                              .row = Row::BetweenEnds,
                              .equation = {"", " between its ends"},
                              .latent = ", somewhere between its ends,"};
constexpr Family kHeckman = {.outcome = CutOff,
                             .curve = Curve::Line,
                             .joined = true,
                             .equation = {"", ", seen or not"},
                             .latent = ", seen or not,"};

}  // namespace rapporto::families
