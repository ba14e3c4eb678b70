#pragma once

#include "core/base/job.h"
#include "core/base/result.h"

#include <cstdint>
#include <string>
#include <string_view>

namespace rapporto {

/// FNV-1a of `bytes`, for cache keys; continues from `seed`.
[[nodiscard]] std::uint64_t contentHash(std::string_view bytes,
                                        std::uint64_t seed = 14695981039346656037ULL);

/// SHA-256 of a file as 64 hexadecimal digits; File when it cannot be read, Stopped.
[[nodiscard]] Result<std::string> sha256OfFile(const std::string& path, const Job& job = {});
[[nodiscard]] std::string sha256OfText(std::string_view text);

}  // namespace rapporto
