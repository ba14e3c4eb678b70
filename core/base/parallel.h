#pragma once

#include <cstddef>
#include <functional>

namespace rapporto {

/// A half-open range of rows.
struct RowRange {
    std::size_t begin = 0;
    std::size_t end = 0;
};

/// Runs `work(k)` for every k under `count` on the pool, in no order, and waits; the first
/// exception that leaves one is thrown here. The only door to the pool: what runs beside what is
/// known here.
void inParallel(std::size_t count, const std::function<void(std::size_t)>& work);

/// The chunks that `rows` rows are cut into for parallel sums: a function of `rows` alone, so that
/// sums combined in the order of the chunks have the same bits for any number of threads.
class RowChunks {
  public:
    explicit RowChunks(std::size_t rows);

    [[nodiscard]] std::size_t count() const { return count_; }

    [[nodiscard]] RowRange operator[](std::size_t chunk) const;

    /// Runs `work(chunk)` for every chunk on the pool; in order on this thread when there is one.
    void forEach(const std::function<void(std::size_t)>& work) const;

  private:
    std::size_t rows_;
    std::size_t count_;
};

/// The one place that sets thread counts: the pool's, and BLAS's to one. 0 means all cores.
void setThreads(std::size_t threads);

}  // namespace rapporto
