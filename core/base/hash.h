#pragma once

#include "core/base/job.h"
#include "core/base/result.h"

#include <cstdint>
#include <memory>
#include <string>
#include <string_view>

namespace rapporto {

/// FNV-1a of `bytes`, for cache keys; continues from `seed`.
[[nodiscard]] std::uint64_t contentHash(std::string_view bytes,
                                        std::uint64_t seed = 14695981039346656037ULL);

/// SHA-256 of bytes as they come.
class Sha256 {
  public:
    Sha256();
    ~Sha256();
    Sha256(const Sha256&) = delete;
    Sha256& operator=(const Sha256&) = delete;

    void add(std::string_view bytes);

    /// 64 hexadecimal digits; once, at the end.
    [[nodiscard]] std::string hex();

  private:
    struct State;
    std::unique_ptr<State> state_;
};

/// SHA-256 of a file as 64 hexadecimal digits; File when it cannot be read, Stopped.
[[nodiscard]] Result<std::string> sha256OfFile(const std::string& path, const Job& job = {});
[[nodiscard]] std::string sha256OfText(std::string_view text);

}  // namespace rapporto
