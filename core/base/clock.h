#pragma once

#include <string>

namespace rapporto {

/// The time by the local clock as ISO 8601, to the second: 2026-05-04T13:07:59.
[[nodiscard]] std::string timeNow();

}  // namespace rapporto
