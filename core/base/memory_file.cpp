#include "core/base/memory_file.h"

#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

namespace rapporto {

MemoryFile::MemoryFile(std::string_view bytes) : handle_(memfd_create("rapporto", MFD_CLOEXEC)) {
    while (handle_ >= 0 && !bytes.empty()) {
        const ssize_t written = write(handle_, bytes.data(), bytes.size());
        if (written <= 0) {
            close(handle_);
            handle_ = -1;
            return;
        }
        bytes.remove_prefix(static_cast<std::size_t>(written));
    }
}

MemoryFile::~MemoryFile() {
    if (handle_ >= 0) {
        close(handle_);
    }
}

std::string MemoryFile::path() const { return "/proc/self/fd/" + std::to_string(handle_); }

std::string MemoryFile::bytes() const {
    struct stat info {};

    if (handle_ < 0 || fstat(handle_, &info) != 0 || info.st_size <= 0) {
        return {};
    }
    std::string out(static_cast<std::size_t>(info.st_size), '\0');
    std::size_t at = 0;
    while (at < out.size()) {
        const ssize_t got =
            pread(handle_, out.data() + at, out.size() - at, static_cast<off_t>(at));
        if (got <= 0) {
            return {};
        }
        at += static_cast<std::size_t>(got);
    }
    return out;
}

}  // namespace rapporto
