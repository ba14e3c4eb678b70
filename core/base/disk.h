#pragma once

#include "core/base/result.h"

#include <sys/types.h>

#include <cstddef>
#include <string>
#include <string_view>

namespace rapporto {

/// The system calls that writing needs, each as the manual has it: −1 and errno, or not. The seam
/// at which tests make the n-th call fail; everyone else takes `systemDisk()`.
class Disk {
  public:
    virtual ~Disk() = default;
    virtual int open(const char* path, int flags, mode_t mode);
    virtual ssize_t write(int handle, const void* bytes, std::size_t count);
    virtual int sync(int handle);  ///< fsync.
    virtual int close(int handle);
    virtual int rename(const char* from, const char* to);
    virtual int unlink(const char* path);
    virtual int setMode(int handle, mode_t mode);                ///< fchmod.
    virtual int setOwner(int handle, uid_t owner, gid_t group);  ///< fchown.
};

[[nodiscard]] Disk& systemDisk();

/// What an errno says in words and what would help: “…: the disk is full”.
[[nodiscard]] Refusal fileTrouble(const std::string& what, const std::string& path, int error);

/// A handle that is closed when it goes, unless it was closed with its errors looked at.
class FileHandle {
  public:
    FileHandle(int handle, Disk& disk) : handle_(handle), disk_(&disk) {}

    FileHandle(FileHandle&& other) noexcept;
    FileHandle& operator=(FileHandle&& other) noexcept;
    FileHandle(const FileHandle&) = delete;
    FileHandle& operator=(const FileHandle&) = delete;
    ~FileHandle();

    [[nodiscard]] bool isOpen() const { return handle_ >= 0; }

    [[nodiscard]] int get() const { return handle_; }

    /// Writes all of it, however small the bites that the system takes; false with errno.
    [[nodiscard]] bool write(std::string_view text);

    /// @return 0, or −1 with errno: what was written may not be there.
    int close();

  private:
    int handle_;
    Disk* disk_;
};

/// Opens a file for reading, once it was seen to be one: a pipe would be waited on for ever and a
/// device has no end.
///
/// @return the file, or File.
[[nodiscard]] Result<FileHandle> openForReading(const std::string& path);

/// The whole of a regular file.
///
/// @param most  bytes; a longer file is refused.
/// @return its bytes, or File.
[[nodiscard]] Result<std::string> readWhole(const std::string& path,
                                            std::size_t most = std::size_t{1} << 32U);

/// How a file stands now that it has been written.
struct Written {
    /// Another name of the same file (a hard link) still has what was there before.
    bool otherNamesLeftBehind = false;
    /// The new file belongs to who wrote it: the old owner could not be given it.
    bool ownerChanged = false;
};

/// Puts `text` where `path` leads so that at every moment, also when the power goes, either what
/// was there or what is new stands whole: written beside, flushed, renamed, the folder flushed. A
/// symbolic link stays one and its target is replaced; mode and owner are kept where that is
/// allowed. What writers that were killed left beside is cleared away.
///
/// @return what has changed besides, or File with the reason; then what was there stands.
[[nodiscard]] Result<Written> replaceFile(const std::string& path, std::string_view text,
                                          Disk& disk = systemDisk());

/// The same with what another writer has left whole in the file `from`, which goes.
[[nodiscard]] Result<void> putInPlace(const std::string& from, const std::string& path);

/// A hidden name beside the file that `path` leads to, of this process alone, for writers that must
/// have a file to write into. Cleared away by the next replaceFile() when they are killed.
[[nodiscard]] std::string nameBeside(const std::string& path);

/// A file of that name was begun by nameBeside(), by a process that is no more.
[[nodiscard]] bool isLeftBehind(const std::string& name);

/// True when both lead to one file, by whatever names and links.
[[nodiscard]] bool sameFile(const std::string& a, const std::string& b);

}  // namespace rapporto
