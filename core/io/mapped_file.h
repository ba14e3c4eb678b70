#pragma once

#include "core/base/disk.h"
#include "core/base/result.h"

#include <string>
#include <string_view>

namespace rapporto {

/// A file in memory, read by the system as it is touched. Others may cut it short meanwhile: what
/// is gone then reads as zeros, and `wasCutShort()` says so; who has read it asks before trusting
/// it.
class MappedFile {
  public:
    /// @return the file, or File when it cannot be opened or is not a regular file.
    [[nodiscard]] static Result<MappedFile> open(const std::string& path);

    MappedFile(MappedFile&& other) noexcept;
    MappedFile(const MappedFile&) = delete;
    MappedFile& operator=(const MappedFile&) = delete;
    MappedFile& operator=(MappedFile&&) = delete;
    ~MappedFile();

    /// Valid while the object lives.
    [[nodiscard]] std::string_view bytes() const { return {data_, size_}; }

    /// A part that was read had gone from the disk, or the file is shorter by now.
    [[nodiscard]] bool wasCutShort() const;

    /// Gives back the memory of the pages that lie wholly in `part`, which must view `bytes()`.
    /// Touched again, they are read again.
    void release(std::string_view part) const;

  private:
    explicit MappedFile(FileHandle handle) : handle_(std::move(handle)) {}

    const char* data_ = nullptr;
    std::size_t size_ = 0;
    int place_ = -1;     ///< Among the maps that the fault handler knows.
    FileHandle handle_;  ///< Of the file as it was opened, whatever bears its name by now.
};

/// The refusal of what was read from a file that others changed meanwhile.
[[nodiscard]] Refusal cutShort(const std::string& path);

}  // namespace rapporto
