#pragma once

#include "core/model/question.h"
#include "core/study/json_reader.h"

namespace rapporto {

/// `estimator` of a question by the registry’s lines: the method and its settings, each by the
/// member it names. A setting of another method is refused, and the methods that have it named.
void readEstimator(const nlohmann::ordered_json& json, Question& question, JsonReader& in);

/// The same, to be written: settings that are as usual are left out where their line says so.
[[nodiscard]] nlohmann::ordered_json estimatorJson(const Question& question);

}  // namespace rapporto
