#include "core/base/room.h"

#include "core/base/format.h"

#include <fmt/format.h>
#include <sys/resource.h>
#include <unistd.h>

#include <algorithm>
#include <cstdio>
#include <fstream>
#include <limits>

namespace rapporto {
namespace {

constexpr double kCellsAlways = 20e6;  // As many cells are taken in however empty they are.
constexpr double kCellsForEach = 50.0;

std::string inBytes(double bytes) {
    return bytes < 1e9 ? fmt::format("{:.0f} MB", bytes / 1e6)
                       : fmt::format("{:.1f} GB", bytes / 1e9);
}

}  // namespace

std::size_t memoryLeft() {
    std::size_t left = std::numeric_limits<std::size_t>::max();
    std::ifstream info("/proc/meminfo");
    std::string name;
    std::size_t kilobytes = 0;
    std::string unit;
    while (info >> name >> kilobytes && std::getline(info, unit)) {
        if (name == "MemAvailable:") {
            left = kilobytes * 1024;
        }
    }
    rlimit limit{};
    if (getrlimit(RLIMIT_AS, &limit) == 0 && limit.rlim_cur != RLIM_INFINITY) {
        std::size_t pages = 0;
        std::ifstream("/proc/self/statm") >> pages;
        const std::size_t taken = pages * static_cast<std::size_t>(sysconf(_SC_PAGESIZE));
        left = std::min(left, limit.rlim_cur > taken ? limit.rlim_cur - taken : 0);
    }
    return left;
}

Result<void> roomFor(double bytes, const std::string& what, const std::string& where) {
    const auto left = static_cast<double>(memoryLeft());
    if (bytes <= left / 2.0) {
        return {};
    }
    return refuse(ErrorCode::TooLarge,
                  fmt::format("{} needs {} of memory: half of the {} that are left may be taken",
                              what, inBytes(bytes), inBytes(left)),
                  where, "Take fewer rows or columns, or close what else takes memory.");
}

Result<void> roomForCells(std::size_t rows, std::size_t columns, std::size_t held,
                          const std::string& where, bool onDisk) {
    const double cells = static_cast<double>(rows) * static_cast<double>(columns);
    const std::string what = "a table of " + plural(rows, "row", "rows") + " and " +
                             plural(columns, "column", "columns");
    if (cells > kCellsAlways && cells > kCellsForEach * static_cast<double>(held)) {
        return refuse(ErrorCode::TooLarge, what + " would be empty almost throughout", where,
                      "Look at its header and its line ends, or choose a block of it.");
    }
    return onDisk ? Result<void>() : roomFor(cells * 8.0, what, where);
}

}  // namespace rapporto
