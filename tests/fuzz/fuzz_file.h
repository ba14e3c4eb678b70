// A place for harnesses whose reader wants files: a folder of memory, one a process.
#pragma once

#include <unistd.h>

#include <cstdint>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <string>

namespace rapporto::fuzz {

inline const std::filesystem::path& folder() {
    static const std::filesystem::path kFolder = [] {
        const std::filesystem::path base =
            std::filesystem::is_directory("/dev/shm") ? "/dev/shm" : "/tmp";
        std::filesystem::path made = base / ("rapporto-fuzz-" + std::to_string(getpid()));
        std::filesystem::create_directories(made);
        return made;
    }();
    return kFolder;
}

inline std::string write(const std::string& name, const std::string& bytes) {
    const std::string path = (folder() / name).string();
    std::ofstream(path, std::ios::binary) << bytes;
    return path;
}

}  // namespace rapporto::fuzz
