#include "core/io/mapped_file.h"

#include <signal.h>
#include <sys/mman.h>
#include <sys/stat.h>
#include <unistd.h>

#include <array>
#include <atomic>
#include <cstdint>
#include <mutex>
#include <utility>

namespace rapporto {
namespace {

std::uintptr_t pageSize() {
    static const auto kPage = static_cast<std::uintptr_t>(sysconf(_SC_PAGESIZE));
    return kPage;
}

/// A map as the handler of faults sees it: it may run at any moment on any thread, so it looks at
/// nothing but these.
struct Known {
    std::atomic<std::uintptr_t> begin{0};  ///< Zero: the place is free.
    std::atomic<std::uintptr_t> end{0};
    std::atomic<bool> cut{false};
};

std::array<Known, 256> known;

struct sigaction before {};

/// Touching a mapped page whose part of the file is gone would end the process. A page of zeros
/// takes its place, and the map remembers.
void onBusError(int signal, siginfo_t* info, void* context) {
    const auto at = reinterpret_cast<std::uintptr_t>(info->si_addr);
    for (Known& map : known) {
        const std::uintptr_t begin = map.begin.load();
        if (begin == 0 || at < begin || at >= map.end.load()) {
            continue;
        }
        const std::uintptr_t page = at / pageSize() * pageSize();
        if (mmap(reinterpret_cast<void*>(page), pageSize(), PROT_READ,
                 MAP_PRIVATE | MAP_ANONYMOUS | MAP_FIXED, -1, 0) != MAP_FAILED) {
            map.cut.store(true);
            return;
        }
    }
    // Nothing of ours: what stood here before shall have it.
    if ((before.sa_flags & SA_SIGINFO) != 0 && before.sa_sigaction != nullptr) {
        before.sa_sigaction(signal, info, context);
    } else {
        ::signal(signal, SIG_DFL);
        raise(signal);
    }
}

void watchBusErrors() {
    static std::once_flag once;
    std::call_once(once, [] {
        (void)pageSize();

        struct sigaction action {};

        action.sa_sigaction = &onBusError;
        action.sa_flags = SA_SIGINFO;
        sigemptyset(&action.sa_mask);
        sigaction(SIGBUS, &action, &before);
    });
}

int enter(const char* data, std::size_t size) {
    const auto begin = reinterpret_cast<std::uintptr_t>(data);
    for (std::size_t k = 0; k < known.size(); ++k) {
        std::uintptr_t free = 0;
        if (known[k].begin.load() == 0 && known[k].begin.compare_exchange_strong(free, begin)) {
            known[k].cut.store(false);
            known[k].end.store(begin + size);
            return static_cast<int>(k);
        }
    }
    return -1;
}

}  // namespace

Result<MappedFile> MappedFile::open(const std::string& path) {
    auto handle = openForReading(path);
    if (!handle) {
        return tl::make_unexpected(handle.error());
    }

    struct stat info {};

    if (fstat(handle->get(), &info) != 0) {
        return refuse(ErrorCode::File, "the file cannot be looked at", path);
    }
    MappedFile file(*std::move(handle));
    const auto size = static_cast<std::size_t>(info.st_size);
    if (size == 0) {
        return file;
    }
    watchBusErrors();
    void* at = mmap(nullptr, size, PROT_READ, MAP_PRIVATE, file.handle_.get(), 0);
    if (at == MAP_FAILED) {
        return refuse(ErrorCode::File, "the file cannot be read into memory", path);
    }
    file.data_ = static_cast<const char*>(at);
    file.size_ = size;
    file.place_ = enter(file.data_, (size + pageSize() - 1) / pageSize() * pageSize());
    if (file.place_ < 0) {
        return refuse(ErrorCode::File, "too many files are being read at once", path,
                      "Wait for some of them.");
    }
    return file;
}

MappedFile::MappedFile(MappedFile&& other) noexcept
    : data_(std::exchange(other.data_, nullptr)),
      size_(std::exchange(other.size_, 0)),
      place_(std::exchange(other.place_, -1)),
      handle_(std::move(other.handle_)) {}

MappedFile::~MappedFile() {
    if (place_ >= 0) {
        Known& map = known[static_cast<std::size_t>(place_)];
        map.end.store(0);
        map.begin.store(0);
    }
    if (data_ != nullptr) {
        munmap(const_cast<char*>(data_), size_);
    }
}

bool MappedFile::wasCutShort() const {
    if (data_ == nullptr) {
        return false;
    }

    struct stat now {};

    return (place_ >= 0 && known[static_cast<std::size_t>(place_)].cut.load()) ||
           (fstat(handle_.get(), &now) == 0 && static_cast<std::size_t>(now.st_size) < size_);
}

Refusal cutShort(const std::string& path) {
    return {ErrorCode::File,
            "the file was cut short while it was read",
            path,
            "Read it again when whoever writes it has done.",
            {}};
}

void MappedFile::release(std::string_view part) const {
    const auto begin = reinterpret_cast<std::uintptr_t>(part.data());
    const std::uintptr_t from = (begin + pageSize() - 1) / pageSize() * pageSize();
    const std::uintptr_t to = (begin + part.size()) / pageSize() * pageSize();
    if (to > from) {
        // Failure only means that the memory stays in use.
        (void)madvise(reinterpret_cast<void*>(from), to - from, MADV_DONTNEED);
    }
}

}  // namespace rapporto
