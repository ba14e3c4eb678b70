#pragma once

#include "core/model/fit.h"

namespace rapporto {

/// The effect of that name (a term, or a level as zone=Ridge), however it is spelled; null without
/// one, and for constants.
[[nodiscard]] const Coefficient* effectNamed(const Fit& fit, const std::string& name);

}  // namespace rapporto
