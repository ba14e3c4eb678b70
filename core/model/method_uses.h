#pragma once

#include "core/model/fit.h"

#include <optional>
#include <string>

namespace rapporto {

/// Why a part of the question has no use in its method, with the method that would do; nothing
/// where every part is used. By the registry’s `takes`.
///
/// @return NotUsed: endogenous terms and instruments, slopes of units, precision weights, robust
///         types that need a leverage.
[[nodiscard]] std::optional<Refusal> notTaken(const Question& question, const Estimator& estimator);

/// The methods that have this setting (a key of `estimator`), as shown: “logit”; empty: none has.
[[nodiscard]] std::string methodsWithSetting(const std::string& key);

}  // namespace rapporto
