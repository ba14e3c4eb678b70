#include "core/base/parallel.h"

#include <tbb/global_control.h>
#include <tbb/parallel_for.h>

#include <algorithm>
#include <memory>
#include <thread>

extern "C" void openblas_set_num_threads(int threads);

namespace rapporto {
namespace {

// Below this a second thread costs more than it brings.
constexpr std::size_t kRowsPerChunk = 16384;
constexpr std::size_t kMaxChunks = 64;

}  // namespace

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
    tbb::parallel_for(std::size_t{0}, count_, work);
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
