#include "core/base/clock.h"

#include <fmt/chrono.h>

#include <ctime>

namespace rapporto {

std::string timeNow() {
    return fmt::format("{:%Y-%m-%dT%H:%M:%S}", fmt::localtime(std::time(nullptr)));
}

}  // namespace rapporto
