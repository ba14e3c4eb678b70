#pragma once

#include "core/base/result.h"
#include "core/picture/picture.h"

#include <nlohmann/json_fwd.hpp>

namespace rapporto {

/// The ‘desk’ of a study file: {"pictures": [{"kind", "of", "title", "log", "show", "span",
/// "robust", "weighted"}]}. See docs/study-format.md.
/// @return the desk, or BadSetting with the place of a value of the wrong kind.
[[nodiscard]] Result<Desk> readDesk(const nlohmann::ordered_json& json);

/// What differs from the defaults, with the keys of later versions that were read.
[[nodiscard]] nlohmann::ordered_json deskJson(const Desk& desk);

}  // namespace rapporto
