#pragma once

#include "core/base/apart.h"

#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <typeindex>
#include <utility>

namespace rapporto {

/// What several checks of one answer need: a picture, rows in order, deviates. Made by the first
/// that asks for it, kept until all are made. Safe to ask from many threads.
class SharedWork {
  public:
    /// While it lives, what this thread works out from the fit at `fit` goes into `work`.
    class Here {
      public:
        Here(SharedWork& work, const void* fit)
            : before_(std::exchange(current(), Current{&work, fit})) {}

        ~Here() { current() = before_; }

        Here(const Here&) = delete;
        Here& operator=(const Here&) = delete;

      private:
        friend class SharedWork;

        struct Current {
            SharedWork* work = nullptr;
            const void* fit = nullptr;
        };

        static Current& current() {
            static thread_local Current now;
            return now;
        }

        Current before_;
    };

    /// Where this thread’s work on that fit goes; null: nobody shares it, as where a check looks at
    /// a fit of its own making.
    [[nodiscard]] static SharedWork* of(const void* fit) {
        return Here::current().fit == fit ? Here::current().work : nullptr;
    }

    /// The T of what stands at `of`: the check's fit. Two checks that ask for the same T must mean
    /// the same. What `make` throws, a stop among them, leaves here, and the next that asks makes
    /// it anew.
    template <class T>
    [[nodiscard]] std::shared_ptr<const T> get(const void* of, const std::function<T()>& make) {
        const std::shared_ptr<Slot> slot = slotOf({of, std::type_index(typeid(T))});
        const std::scoped_lock lock(slot->mutex);
        if (slot->made == nullptr) {
            // A thread that waits for its own parts of the work may take up another check
            // meanwhile, which would ask for what this one is making.
            apart([&] { slot->made = std::make_shared<const T>(make()); });
        }
        return std::static_pointer_cast<const T>(slot->made);
    }

  private:
    struct Slot {
        std::mutex mutex;
        std::shared_ptr<const void> made;
    };

    using Key = std::pair<const void*, std::type_index>;

    [[nodiscard]] std::shared_ptr<Slot> slotOf(const Key& key) {
        const std::scoped_lock lock(mutex_);
        std::shared_ptr<Slot>& slot = slots_[key];
        if (slot == nullptr) {
            slot = std::make_shared<Slot>();
        }
        return slot;
    }

    std::mutex mutex_;
    std::map<Key, std::shared_ptr<Slot>> slots_;
};

}  // namespace rapporto
