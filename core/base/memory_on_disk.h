#pragma once

#include <cstddef>
#include <memory>
#include <string>

namespace rapporto {

/// Memory that may be larger than the machine's: it lies in a file without a name, of which the
/// system keeps at hand what is touched. Gone with its last owner, and with the process.
///
/// @param folder  on the disk that it shall lie on.
/// @return null where the disk has no room for all of it.
[[nodiscard]] std::shared_ptr<std::byte[]> memoryOnDisk(std::size_t bytes,
                                                        const std::string& folder);

/// Takes the whole pages within a part of memoryOnDisk() out of the process’s memory; touched again
/// they are as they were. For no other memory: that would be lost.
void putAside(const void* from, std::size_t bytes);

}  // namespace rapporto
