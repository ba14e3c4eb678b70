#pragma once

#include <QFutureWatcher>
#include <QtConcurrentRun>

#include <exception>
#include <functional>
#include <memory>
#include <optional>
#include <utility>

namespace rapporto::app {

/// Work of one kind that a view wants done beside the window's turn. Only the newest request
/// counts: one that waits is replaced, one whose time has passed is dropped when it is done.
template <class T>
class Later {
  public:
    /// @param done  called in the window's turn with the newest result.
    explicit Later(std::function<void(const T&)> done) : done_(std::move(done)) {
        QObject::connect(&watcher_, &QFutureWatcher<std::shared_ptr<T>>::finished, &watcher_,
                         [this] { arrived(); });
    }

    ~Later() {
        waiting_.reset();
        watcher_.disconnect();
        watcher_.waitForFinished();
    }

    Later(const Later&) = delete;
    Later& operator=(const Later&) = delete;

    /// `work` must hold all it needs by value. Small work is better done at once: it spares the
    /// window a picture in between.
    void ask(std::function<T()> work, bool atOnce = false) {
        if (atOnce) {
            cancel();
            done_(work());
            return;
        }
        waiting_ = std::move(work);
        if (!busy_) {
            start();
        } else {
            stale_ = true;
        }
    }

    /// What was asked is no longer wanted.
    void cancel() {
        waiting_.reset();
        stale_ = busy_;
    }

    [[nodiscard]] bool isBusy() const { return busy_; }

  private:
    void start() {
        busy_ = true;
        stale_ = false;
        watcher_.setFuture(QtConcurrent::run(
            [work = *std::exchange(waiting_, std::nullopt)]() -> std::shared_ptr<T> {
                try {
                    return std::make_shared<T>(work());
                } catch (const std::exception& error) {
                    // A fault costs this one picture, not the window.
                    qWarning("work beside the window failed: %s", error.what());
                    return nullptr;
                }
            }));
    }

    void arrived() {
        busy_ = false;
        const bool wanted = !stale_;
        const std::shared_ptr<T> result = watcher_.result();
        if (waiting_) {
            start();
        }
        if (wanted && result) {
            done_(*result);
        }
    }

    std::function<void(const T&)> done_;
    QFutureWatcher<std::shared_ptr<T>> watcher_;
    std::optional<std::function<T()>> waiting_;
    bool busy_ = false;
    bool stale_ = false;
};

/// Rows up to which the work of a picture takes less than a frame.
inline constexpr std::size_t kRowsAtOnce = 20000;

}  // namespace rapporto::app
