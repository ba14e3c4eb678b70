#pragma once

#include "core/defend/defence.h"
#include "core/model/forecast.h"
#include "core/study/answer.h"

namespace rapporto {

/// How loudly lots alone would speak; sentences.
[[nodiscard]] std::vector<std::string> lotsReading(const ByLot& found, const LotRequest& request,
                                                   double alpha);

/// How far the effect could move with what was not seen; sentences.
[[nodiscard]] std::vector<std::string> worstCasesReading(const WorstCases& found, double alpha);

/// How many rows find an effect of that size; a sentence.
[[nodiscard]] std::string plannedReading(const Planned& found);

/// All that was asked of the effect of this name, with refusals marked by “~”. Nothing where
/// nothing was.
[[nodiscard]] std::vector<std::string> defenceReading(const Answer& answer,
                                                      const std::string& term);

/// The same of every effect that is defended, each sentence once.
[[nodiscard]] std::vector<std::string> defenceReading(const Answer& answer);

/// What was asked of an effect, and of moments to come, for the methods paragraph; begins with a
/// blank, empty where nothing was.
[[nodiscard]] std::string defenceMethods(const Answer& answer);

/// Where the outcome goes and what it rests on; sentences.
[[nodiscard]] std::vector<std::string> forecastReading(const Answer& answer);

}  // namespace rapporto
