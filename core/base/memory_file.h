#pragma once

#include <string>
#include <string_view>

namespace rapporto {

/// A file that lives in memory and has a name for libraries that know files only. Gone with it.
class MemoryFile {
  public:
    explicit MemoryFile(std::string_view bytes = {});
    ~MemoryFile();
    MemoryFile(const MemoryFile&) = delete;
    MemoryFile& operator=(const MemoryFile&) = delete;

    /// False where the system gave none, or no room for the bytes.
    [[nodiscard]] bool isOpen() const { return handle_ >= 0; }

    /// For this process alone: “/proc/self/fd/7”.
    [[nodiscard]] std::string path() const;

    /// What stands in it now; empty where it cannot be read.
    [[nodiscard]] std::string bytes() const;

  private:
    int handle_ = -1;
};

}  // namespace rapporto
