#pragma once

#include "core/study/answer.h"
#include "core/study/known_checks.h"
#include "core/study/known_sets.h"
#include "core/study/sources.h"

#include <chrono>
#include <condition_variable>
#include <functional>
#include <map>
#include <mutex>
#include <thread>
#include <vector>

namespace rapporto {

/// How far the computations are.
struct Progress {
    std::size_t wanted = 0;  ///< Answers (and the frame) that the present study needs.
    std::size_t ready = 0;
    double share = 0.0;       ///< Of the piece in work, 0 to 1.
    std::size_t awaited = 0;  ///< Checks of the question in focus still being worked out …
    std::size_t checks = 0;   ///< … of so many; 0 before its estimates are there.

    [[nodiscard]] bool busy() const { return ready < wanted; }
};

/// Owns the present study and everything computed from it. Knows by content hash which result
/// depends on which part, recomputes only what changed on its worker threads, stops jobs whose
/// result nobody wants any more, and calls `changed` (from a worker) when something is ready.
///
/// All members may be called from any thread; they return at once.
class Workbench {
  public:
    explicit Workbench(std::function<void()> changed, std::size_t workers = 2);
    ~Workbench();

    Workbench(const Workbench&) = delete;
    Workbench& operator=(const Workbench&) = delete;

    /// Starts over with a study and what it is made from.
    ///
    /// @param past  states that undo goes back to, oldest first.
    void open(Study study, Sources sources, std::vector<Study> past = {});

    /// Keeps study and history, replaces what they are computed from.
    void replaceSources(Sources sources);

    /// Adds the table of another file, for a step of the shape to come.
    void addSource(const Source& source, std::shared_ptr<const Table> table);

    [[nodiscard]] Sources sources() const;

    [[nodiscard]] Study study() const;
    /// As the source has it; null for a summary.
    [[nodiscard]] std::shared_ptr<const Table> table() const;

    /// What the steps of the shape did, for the newest frame.
    [[nodiscard]] std::shared_ptr<const Shaping> shaping() const;

    /// Applies an edit; on refusal nothing changes.
    [[nodiscard]] Result<void> apply(const Edit& edit);

    /// Changes the present study and all of its history alike, where the meaning stays: a file that
    /// is named from another folder.
    void restate(const std::function<void(Study&)>& change);

    /// The step that undo would take back, or empty.
    [[nodiscard]] std::string undoLabel() const;
    [[nodiscard]] std::string redoLabel() const;
    void undo();
    void redo();

    /// The newest frame; null until the first is ready. `frameIsFresh` tells whether it is the
    /// present study's.
    [[nodiscard]] std::shared_ptr<const Frame> frame() const;
    [[nodiscard]] bool frameIsFresh() const;

    /// The newest answer to the question: the present one, or an earlier one while it is computed;
    /// null when there is none. Of the present one checks may still be awaited: such a check says
    /// what it said of the answer before.
    [[nodiscard]] std::shared_ptr<const Answer> answer(const std::string& id) const;

    /// `answer(id)` belongs to the present study; checks may be awaited.
    [[nodiscard]] bool isFresh(const std::string& id) const;

    /// The same, and nothing of it is awaited.
    [[nodiscard]] bool isComplete(const std::string& id) const;

    /// The sets that the present study fills in, made now where they are not at hand. For a worker:
    /// it takes its time.
    /// @return the sets, or what refuses them; Stopped where the table is not ready.
    [[nodiscard]] Result<KnownSets::Sets> sets(const Job& job);

    /// The same where they are at hand, else null.
    [[nodiscard]] KnownSets::Sets setsAtHand() const;

    /// This question is computed first.
    void setFocus(const std::string& id);

    [[nodiscard]] Progress progress() const;

    /// With a window before it: the checks of the answer in focus begin when the window has painted
    /// its effects, or after this long. Two cores are few where three want them.
    void waitForPainter(std::chrono::milliseconds most);
    void painted();

    /// No worker is at work.
    [[nodiscard]] bool isIdle() const;

    /// Stops what is being computed; it stays undone until the next edit.
    void stop();

    /// Blocks until nothing is left to do. For tests and the runner, not for a window.
    void wait();

    /// Counts edits, undos, redos and openings: to tell whether the study was changed.
    [[nodiscard]] std::size_t revision() const;

  private:
    struct Task {
        std::string question;  ///< Empty: the frame.
        std::uint64_t key = 0;
        Job job = {};
        std::uint64_t shapeKey = 0;
    };

    struct Newest {
        std::uint64_t key = 0;
        std::shared_ptr<const Answer> answer;
    };

    void work(const std::stop_token& stopping);
    void showPart(const Task& task, const Answer& part);
    [[nodiscard]] std::optional<Task> next();
    void finish(const Task& task, std::shared_ptr<const Frame> frame,
                std::shared_ptr<const Answer> answer, std::shared_ptr<const Shaping> shaping);
    [[nodiscard]] std::shared_ptr<const Shaping> shapingOf(const Study& study,
                                                           const Sources& sources,
                                                           std::uint64_t key);

    [[nodiscard]] bool hasSource() const { return sources_.table || sources_.moments; }

    [[nodiscard]] std::uint64_t shapeKey() const;
    void changedStudy();
    [[nodiscard]] std::uint64_t frameKey() const;
    [[nodiscard]] std::uint64_t answerKey(const Question& question) const;
    [[nodiscard]] std::uint64_t setsKey() const;
    [[nodiscard]] bool running(std::uint64_t key) const;

    void letPaint(const std::string& question);

    std::function<void()> changed_;
    std::chrono::milliseconds patience_{0};
    bool painted_ = true;
    bool watched_ = true;  ///< Nobody blocks in `wait` just now.
    std::condition_variable_any paint_;
    std::size_t budget_;  ///< Bytes of answers that are kept for when they are wanted again.
    mutable std::mutex mutex_;
    std::condition_variable_any wake_;
    Study study_;
    Sources sources_;
    std::uint64_t tableKey_ = 0;
    std::shared_ptr<const Shaping> shaping_;
    std::uint64_t shapingKey_ = 0;  ///< Of `shaping_`.
    std::vector<Study> past_;
    std::vector<Study> future_;
    std::uint64_t frameKey_ = 0;  ///< Of the present study.
    std::map<std::string, std::uint64_t> answerKeys_;
    std::shared_ptr<const Frame> frame_;
    std::uint64_t frameReady_ = 0;  ///< Key of `frame_`.
    std::map<std::uint64_t, std::shared_ptr<const Answer>> cache_;
    std::map<std::string, Newest> newest_;
    KnownChecks known_;
    KnownSets sets_;
    std::vector<Task> running_;
    std::string focus_;
    bool stopped_ = false;
    std::size_t revision_ = 0;
    std::vector<std::jthread> workers_;
};

}  // namespace rapporto
