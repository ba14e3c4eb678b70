#pragma once

#include <atomic>
#include <memory>

namespace rapporto {

/// A handle on long work: the worker reports how far it is and asks whether to go on. A copy is
/// the same job. Work that takes one looks at `stopped()` at least every 50 ms.
class Job {
  public:
    Job() : state_(std::make_shared<State>()) {}

    /// From any thread: the work is no longer wanted.
    void stop() const { state_->stopped.store(true, std::memory_order_relaxed); }

    [[nodiscard]] bool stopped() const { return state_->stopped.load(std::memory_order_relaxed); }

    /// @param share  done so far, 0 to 1.
    void report(double share) const {
        if (tells_) {
            state_->done.store(share, std::memory_order_relaxed);
        }
    }

    /// The same job for a part of the work that does not know how far the whole is: it stops with
    /// it, and its reports go nowhere.
    [[nodiscard]] Job quiet() const {
        Job out = *this;
        out.tells_ = false;
        return out;
    }

    [[nodiscard]] double done() const { return state_->done.load(std::memory_order_relaxed); }

  private:
    struct State {
        std::atomic<bool> stopped{false};
        std::atomic<double> done{0.0};
    };

    std::shared_ptr<State> state_;
    bool tells_ = true;
};

}  // namespace rapporto
