#pragma once

#include "core/model/event_study.h"
#include "core/model/instruments.h"
#include "core/study/answer.h"

namespace rapporto {

/// How far the instruments move a term (or, in the reduced form, the outcome); paragraphs.
[[nodiscard]] std::vector<std::string> stageReading(const Answer& answer, const FirstStage& stage,
                                                    bool reduced);

/// A first stage as an answer of its own, for views of effects: instruments first.
[[nodiscard]] std::shared_ptr<const Answer> stageAnswer(const Answer& answer,
                                                        const FirstStage& stage);

/// What a fit by likelihood, by quantiles, or one that holds odd rows down says as a whole; empty
/// for least squares and instruments.
[[nodiscard]] std::string outcomeReading(const Answer& answer);

/// Who changes, the mean effect after and what moved before; begins with a space.
[[nodiscard]] std::string eventReading(const EventFit& event);

/// How much of the variance lies between groups, how far effects differ among them; begins with a
/// space.
[[nodiscard]] std::string levelsReading(const LevelsFit& fit, double alpha);

/// What the method adds to the answer: how strong the instruments are, how many units there are,
/// what is between them. Empty for least squares of rows as they are.
[[nodiscard]] std::string methodReading(const Answer& answer);

}  // namespace rapporto
