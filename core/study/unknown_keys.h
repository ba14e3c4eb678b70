#pragma once

#include <nlohmann/json.hpp>

#include <string>
#include <vector>

namespace rapporto {

/// Puts members that were read and that this version does not know back to where they stood, so
/// that saving loses no word of a later one. What is known and is not said any more stays away.
///
/// In a list a member goes back to the entry of the same name (`name`, `variable`, `id`), or of the
/// same content; one that is gone takes its unknown members with it.
///
/// @param raw    as it was read.
/// @param paths  of the unknown members, as JsonReader::allUnknown() tells them: “survey.mood”.
void carryUnknown(nlohmann::ordered_json& out, const nlohmann::ordered_json* raw,
                  const std::vector<std::string>& paths);

}  // namespace rapporto
