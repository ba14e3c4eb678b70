#pragma once

#include "core/checks/check.h"

#include <deque>
#include <map>
#include <mutex>
#include <optional>
#include <string>

namespace rapporto {

/// Checks that were made before. Whoever asks question after question of one table holds one, so
/// that a change which does not touch a check does not have it made again: a title, a prediction, a
/// decision, one check asked beside others, or another equation of a system. All members may be
/// called from any thread.
class KnownChecks {
  public:
    /// Forgets all.
    void clear();

    /// Has a run of checks ask here before it makes one, and leave here what it made.
    void serve(CheckRun& run);

  private:
    /// Results on one table, question and fit.
    struct Entry {
        std::uint64_t key = 0;
        Frame frame;
        Question question;
        std::map<std::string, CheckResult> results;  ///< By the request, as text.
    };

    [[nodiscard]] std::optional<CheckResult> find(std::uint64_t key, const CheckRun& run,
                                                  const CheckRequest& request);
    void keep(std::uint64_t key, const CheckRun& run, const CheckRequest& request,
              const CheckResult& result);

    std::mutex mutex_;
    std::deque<Entry> entries_;  ///< Newest first.
};

}  // namespace rapporto
