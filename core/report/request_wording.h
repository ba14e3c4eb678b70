#pragma once

#include "core/study/answer.h"

namespace rapporto {

/// Effects over groups of rows in words: each group’s with its interval and how it differs from the
/// first’s.
[[nodiscard]] std::vector<std::string> groupReading(const Answer& answer,
                                                    const std::vector<MarginalEffect>& effects);

/// Values in words: “hives 12, irrigated yes”; “everything at its mean or base” when none is named.
[[nodiscard]] std::string scenarioText(const ScenarioMap& map, const ScenarioValues& at);

/// What one prediction says, with its cautions; paragraphs.
[[nodiscard]] std::vector<std::string> predictionReading(const Answer& answer, std::size_t i);

/// What the test of one typed statement says.
[[nodiscard]] std::string hypothesisReading(const Answer& answer, std::size_t i);

[[nodiscard]] std::string turningReading(const Answer& answer, const TurningPoint& turn);

/// Whether the line bends, where, and what more or fewer bends would do; paragraphs.
[[nodiscard]] std::vector<std::string> bendReading(const Answer& answer);

}  // namespace rapporto
