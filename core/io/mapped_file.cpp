#include "core/io/mapped_file.h"

#include <fcntl.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cstdint>
#include <utility>

namespace rapporto {

Result<MappedFile> MappedFile::open(const std::string& path) {
    MappedFile file;
    const int handle = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);

    struct stat info {};

    if (handle < 0 || fstat(handle, &info) != 0 || !S_ISREG(info.st_mode)) {
        if (handle >= 0) {
            ::close(handle);
        }
        return refuse(ErrorCode::File, "the file cannot be opened", path,
                      "Check that it is there and may be read.");
    }
    const auto size = static_cast<std::size_t>(info.st_size);
    void* at = size > 0 ? mmap(nullptr, size, PROT_READ, MAP_PRIVATE, handle, 0) : nullptr;
    ::close(handle);
    if (at == MAP_FAILED) {
        return refuse(ErrorCode::File, "the file cannot be read into memory", path);
    }
    file.data_ = static_cast<const char*>(at);
    file.size_ = size;
    return file;
}

MappedFile::MappedFile(MappedFile&& other) noexcept
    : data_(std::exchange(other.data_, nullptr)), size_(std::exchange(other.size_, 0)) {}

MappedFile::~MappedFile() {
    if (data_ != nullptr) {
        munmap(const_cast<char*>(data_), size_);
    }
}

void MappedFile::release(std::string_view part) const {
    static const auto kPage = static_cast<std::uintptr_t>(sysconf(_SC_PAGESIZE));
    const auto begin = reinterpret_cast<std::uintptr_t>(part.data());
    const std::uintptr_t from = (begin + kPage - 1) / kPage * kPage;
    const std::uintptr_t to = (begin + part.size()) / kPage * kPage;
    if (to > from) {
        // Failure only means that the memory stays in use.
        (void)madvise(reinterpret_cast<void*>(from), to - from, MADV_DONTNEED);
    }
}

}  // namespace rapporto
