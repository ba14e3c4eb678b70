#include "core/base/memory_on_disk.h"

#include <fcntl.h>
#include <sys/mman.h>
#include <unistd.h>

#include <cstdint>

namespace rapporto {

std::shared_ptr<std::byte[]> memoryOnDisk(std::size_t bytes, const std::string& folder) {
    const int file = ::open(folder.c_str(), O_TMPFILE | O_RDWR | O_CLOEXEC, 0600);
    if (file < 0) {
        return nullptr;
    }
    // Reserved at once: a disk that fills up later would end the process that writes to the map.
    void* at = ::posix_fallocate(file, 0, static_cast<off_t>(bytes)) == 0
                   ? ::mmap(nullptr, bytes, PROT_READ | PROT_WRITE, MAP_SHARED, file, 0)
                   : MAP_FAILED;
    ::close(file);
    if (at == MAP_FAILED) {
        return nullptr;
    }
    return {static_cast<std::byte*>(at), [bytes](std::byte* from) { ::munmap(from, bytes); }};
}

void putAside(const void* from, std::size_t bytes) {
    const auto page = static_cast<std::uintptr_t>(::sysconf(_SC_PAGESIZE));
    const auto begin = (reinterpret_cast<std::uintptr_t>(from) + page - 1) / page * page;
    const auto end = (reinterpret_cast<std::uintptr_t>(from) + bytes) / page * page;
    if (end > begin) {
        // What was written stays in the file.
        ::madvise(reinterpret_cast<void*>(begin), end - begin, MADV_DONTNEED);
    }
}

}  // namespace rapporto
