#pragma once

#include "core/base/disk.h"
#include "core/study/study.h"

#include <condition_variable>
#include <deque>
#include <map>
#include <mutex>
#include <thread>

namespace rapporto {

/// Where journals lie: $XDG_STATE_HOME/rapporto/journals, or the same under ~/.local/state.
[[nodiscard]] std::string journalFolder();

/// What a journal is of.
struct JournalHead {
    std::string study;   ///< Absolute path; empty while the study has no name.
    std::string base;    ///< SHA-256 of that file when the journal began; empty: none.
    std::string began;   ///< ISO 8601, local.
    std::string pasted;  ///< Rows of a source that has no file yet.
};

/// One state of the work after a step.
struct JournalStep {
    std::string at;  ///< ISO 8601, local.
    std::string did;
    Study study;
};

/// What a journal that was left behind holds.
struct LeftWork {
    std::string file;  ///< The journal.
    JournalHead head;
    Study start;                     ///< Before the first step.
    std::vector<JournalStep> steps;  ///< Oldest first.
    bool torn = false;               ///< It ends in the middle of a line, which was left out.
    std::size_t whole = 0;           ///< Bytes up to the last whole line.
    std::size_t values = 0;          ///< Lines of kept columns in it.
};

/// Keeps on disk every step of one study from its last saving on, so that a crash, a kill or a cut
/// of the power loses none that is older than a second. Append-only lines, each with its checksum;
/// a step is what differs from the state before (RFC 6902), not the data. Written by a thread of
/// its own: to note a step costs the caller a copy of the study.
///
/// While it lives its file is locked, so that nobody takes it for one that was left behind. Members
/// may be called from one thread.
class Journal {
  public:
    /// @param folder  made when it is not there; empty: nothing is kept.
    explicit Journal(std::string folder, Disk& disk = systemDisk());
    Journal(const Journal&) = delete;
    Journal& operator=(const Journal&) = delete;
    ~Journal();  ///< Writes what is waiting; the file stays unless dropped.

    /// What comes from now on belongs to this study, as it stands. A journal that was being kept of
    /// another one is dropped. The file is made with the first step.
    void begin(JournalHead head, const Study& study);

    /// Goes on with a journal that was left behind, which is kept as it is. When this returns it is
    /// this one's, and `workLeftIn` tells nobody of it any more.
    void adopt(const LeftWork& left);

    /// One step more. Without `did` it is no step of the trail (what stands on a desk).
    void note(const Study& study, std::string did);

    /// Nothing of it is wanted any more: saved, or let go.
    void drop();

    /// Drops it from here and leaves it in its folder, out of the way, for thirty days.
    void layAside();

    /// Waits until all that was noted is on the disk.
    void flush();

    /// Why steps are not being kept, once that is so.
    [[nodiscard]] std::optional<Refusal> trouble() const;

    [[nodiscard]] std::string file() const;

  private:
    struct Work;

    void run(const std::stop_token& stopping);
    void write(std::deque<Work>& batch);
    [[nodiscard]] bool append(const std::string& line);
    [[nodiscard]] bool start(const JournalHead& head, const Study& study);
    [[nodiscard]] nlohmann::ordered_json lightJson(const Study& study,
                                                   std::vector<std::string>& fresh);
    void adoptFile(const Work& work);
    void remove();

    std::string folder_;
    Disk& disk_;

    mutable std::mutex mutex_;
    std::condition_variable_any wake_;
    std::deque<Work> waiting_;
    std::size_t noted_ = 0;
    std::size_t kept_ = 0;
    bool hurry_ = false;
    std::optional<Refusal> trouble_;
    std::string file_;

    // Of the writer's thread alone.
    FileHandle handle_;
    std::shared_ptr<const nlohmann::ordered_json> before_;
    std::map<const void*, std::pair<std::shared_ptr<const std::vector<double>>, std::size_t>>
        values_;
    std::size_t valuesBefore_ = 0;
    JournalHead head_;
    Study first_;
    bool open_ = false;

    std::jthread writer_;  // Last: it must end before anything else does.
};

/// The journals in `folder` that no living process keeps, newest first. Those without a step are
/// cleared away; a line that is torn or whose checksum is wrong ends what is taken from one.
[[nodiscard]] std::vector<LeftWork> workLeftIn(const std::string& folder);

/// Puts a journal out of the way, where it stays for thirty days: nothing is thrown away by one
/// click.
void layAside(const LeftWork& left);

}  // namespace rapporto
