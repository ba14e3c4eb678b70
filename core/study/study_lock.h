#pragma once

#include "core/base/disk.h"

#include <optional>
#include <string>

namespace rapporto {

/// Who has a study open.
struct LockHolder {
    std::string owner;
    std::string host;
    long process = 0;
    std::string since;  ///< ISO 8601, local.
};

/// Says, in a hidden file beside a study, that somebody works on it, while it lives. Advisory:
/// nobody is kept from anything. The system gives it up with the process, so that what a crash
/// leaves is known for stale; where no file can be written there is no lock and no harm.
class StudyLock {
  public:
    /// Takes the lock of the study at `path`, or learns who has it.
    explicit StudyLock(const std::string& path);
    StudyLock(const StudyLock&) = delete;
    StudyLock& operator=(const StudyLock&) = delete;
    ~StudyLock();

    /// Who else has it; empty when it is ours, or when nobody can tell.
    [[nodiscard]] const std::optional<LockHolder>& other() const { return other_; }

    [[nodiscard]] bool isOurs() const { return handle_.isOpen(); }

  private:
    std::string file_;
    FileHandle handle_;
    std::optional<LockHolder> other_;
};

}  // namespace rapporto
