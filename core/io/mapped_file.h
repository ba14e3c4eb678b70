#pragma once

#include "core/base/result.h"

#include <string>
#include <string_view>

namespace rapporto {

/// A file in memory, read by the system as it is touched.
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

    /// Gives back the memory of the pages that lie wholly in `part`, which must view `bytes()`.
    /// Touched again, they are read again.
    void release(std::string_view part) const;

  private:
    MappedFile() = default;

    const char* data_ = nullptr;
    std::size_t size_ = 0;
};

}  // namespace rapporto
