#pragma once

#include "core/impute/sets.h"

#include <condition_variable>
#include <cstdint>
#include <deque>
#include <functional>
#include <memory>
#include <mutex>
#include <set>
#include <utility>

namespace rapporto {

/// Sets that were filled in before: made once for all questions of a study, and for who looks at
/// them. All members may be called from any thread.
class KnownSets {
  public:
    using Sets = std::shared_ptr<const ImputedSets>;

    /// The sets of that key, made by `make` where they are not at hand. Who asks while another
    /// makes them waits; where the other one is stopped, the next makes them.
    ///
    /// @param key  of all that the sets hang on.
    /// @return the sets or what refuses them, or Stopped.
    Result<Sets> get(std::uint64_t key, const std::function<Result<Sets>()>& make, const Job& job);

    /// The sets of that key where they are at hand, else null.
    [[nodiscard]] Sets find(std::uint64_t key) const;

    void clear();

  private:
    mutable std::mutex mutex_;
    std::condition_variable changed_;
    std::set<std::uint64_t> making_;
    std::deque<std::pair<std::uint64_t, Result<Sets>>> made_;  ///< Newest first.
};

}  // namespace rapporto
