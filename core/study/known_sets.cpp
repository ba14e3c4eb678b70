#include "core/study/known_sets.h"

#include <algorithm>
#include <chrono>

namespace rapporto {
namespace {

constexpr std::size_t kMostKept = 3;  // Present, before an edit, and one more.

}  // namespace

Result<KnownSets::Sets> KnownSets::get(std::uint64_t key, const std::function<Result<Sets>()>& make,
                                       const Job& job) {
    {
        std::unique_lock lock(mutex_);
        while (true) {
            const auto at = std::find_if(made_.begin(), made_.end(),
                                         [&](const auto& one) { return one.first == key; });
            if (at != made_.end()) {
                return at->second;
            }
            if (job.stopped()) {
                return refuse(ErrorCode::Stopped, "the computation was stopped", "",
                              "Change anything to start it again.");
            }
            if (making_.insert(key).second) {
                break;
            }
            changed_.wait_for(lock, std::chrono::milliseconds(50));
        }
    }
    auto made = make();
    {
        const std::scoped_lock lock(mutex_);
        making_.erase(key);
        if (made || made.error().code != ErrorCode::Stopped) {
            made_.emplace_front(key, made);
        }
        if (made_.size() > kMostKept) {
            made_.pop_back();
        }
    }
    changed_.notify_all();
    return made;
}

KnownSets::Sets KnownSets::find(std::uint64_t key) const {
    const std::scoped_lock lock(mutex_);
    const auto at =
        std::find_if(made_.begin(), made_.end(), [&](const auto& one) { return one.first == key; });
    return at == made_.end() || !at->second ? nullptr : *at->second;
}

void KnownSets::clear() {
    const std::scoped_lock lock(mutex_);
    made_.clear();
}

}  // namespace rapporto
