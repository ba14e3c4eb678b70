#include "core/base/large_memory.h"

#include <malloc.h>
#include <sys/mman.h>

#include <cstdint>

namespace rapporto {

Eigen::MatrixXd largeMatrix(Eigen::Index rows, Eigen::Index columns) {
    Eigen::MatrixXd out(rows, columns);
    constexpr std::uintptr_t kPage = std::uintptr_t{1} << 21U;
    const auto bytes = static_cast<std::uintptr_t>(out.size()) * sizeof(double);
    const auto from = (reinterpret_cast<std::uintptr_t>(out.data()) + kPage - 1) / kPage * kPage;
    const auto to = (reinterpret_cast<std::uintptr_t>(out.data()) + bytes) / kPage * kPage;
    if (to > from + 8 * kPage) {
        // Advice alone: what it comes to is the system's affair.
        madvise(reinterpret_cast<void*>(from), to - from, MADV_HUGEPAGE);
    }
    return out;
}

void giveBackMemory() { malloc_trim(0); }

}  // namespace rapporto
