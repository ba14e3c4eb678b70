#pragma once

#include "core/base/result.h"

#include <cstddef>
#include <string>

namespace rapporto {

/// Bytes of memory that this process may still take without the machine starting to swap, by the
/// system's own reckoning and the process's limit.
[[nodiscard]] std::size_t memoryLeft();

/// Refuses, before anything is reserved, `bytes` that would not fit in half of what is left.
///
/// @param what  for whom: “a table of 5 rows and 3 columns”.
[[nodiscard]] Result<void> roomFor(double bytes, const std::string& what,
                                   const std::string& where = {});

/// Refuses a table whose announced size does not fit what the file holds, or memory. A file that
/// holds `held` bytes, or cells one by one, fills at most so many; a table of many times more is
/// empty almost throughout, and is a slip or a trap.
///
/// @param onDisk  its cells need no memory.
[[nodiscard]] Result<void> roomForCells(std::size_t rows, std::size_t columns, std::size_t held,
                                        const std::string& where, bool onDisk = false);

}  // namespace rapporto
