#include "core/base/parallel.h"

#include "core/base/apart.h"

#include <tbb/global_control.h>
#include <tbb/parallel_for.h>
#include <tbb/task_arena.h>

#include <algorithm>
#include <atomic>
#include <exception>
#include <memory>
#include <mutex>
#include <thread>
#include <vector>

extern "C" void openblas_set_num_threads(int threads);

namespace rapporto {
namespace {

// Below this a second thread costs more than it brings.
constexpr std::size_t kRowsPerChunk = 16384;
constexpr std::size_t kMaxChunks = 64;

#ifdef RAPPORTO_PLAIN_THREADS
// The pool hands work over inside a library that the thread sanitizer does not see into, so that it
// takes every hand-over for a race. Threads of our own it does see.
void onPlainThreads(std::size_t count, const std::function<void(std::size_t)>& work) {
    std::atomic<std::size_t> next{0};
    std::exception_ptr fault;
    std::mutex guard;
    const auto run = [&] {
        for (std::size_t k = next++; k < count; k = next++) {
            try {
                work(k);
            } catch (...) {
                const std::lock_guard lock(guard);
                if (!fault) {
                    fault = std::current_exception();
                }
            }
        }
    };
    std::vector<std::thread> others;
    const std::size_t most =
        tbb::global_control::active_value(tbb::global_control::max_allowed_parallelism);
    for (std::size_t t = 1; t < std::min(most, count); ++t) {
        others.emplace_back(run);
    }
    run();
    for (std::thread& other : others) {
        other.join();
    }
    if (fault) {
        std::rethrow_exception(fault);
    }
}
#endif

}  // namespace

void inParallel(std::size_t count, const std::function<void(std::size_t)>& work) {
#ifdef RAPPORTO_PLAIN_THREADS
    onPlainThreads(count, work);
#else
    tbb::parallel_for(std::size_t{0}, count, work);
#endif
}

void apart(const std::function<void()>& work) {
#ifdef RAPPORTO_PLAIN_THREADS
    work();
#else
    tbb::this_task_arena::isolate(work);
#endif
}

RowChunks::RowChunks(std::size_t rows)
    : rows_(rows), count_(std::clamp<std::size_t>(rows / kRowsPerChunk, 1, kMaxChunks)) {}

RowRange RowChunks::operator[](std::size_t chunk) const {
    return {rows_ * chunk / count_, rows_ * (chunk + 1) / count_};
}

void RowChunks::forEach(const std::function<void(std::size_t)>& work) const {
    if (count_ == 1) {
        work(0);
        return;
    }
    inParallel(count_, work);
}

void setThreads(std::size_t threads) {
    // The pool's limit lasts as long as this object; the next call replaces it.
    static std::unique_ptr<tbb::global_control> limit;
    const std::size_t wanted =
        threads > 0 ? threads : std::max<std::size_t>(1, std::thread::hardware_concurrency());
    limit =
        std::make_unique<tbb::global_control>(tbb::global_control::max_allowed_parallelism, wanted);
    openblas_set_num_threads(1);
}

}  // namespace rapporto
