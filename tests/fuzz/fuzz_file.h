// A place for harnesses whose reader wants files: a folder of memory, one a process.
#pragma once

#include "core/data/frame.h"
#include "core/io/table_file.h"

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

/// Reads it as the window would; what is taken in must hang together.
inline void take(const std::string& path, const ReaderOptions& options = {}) {
    const auto import = readTableFile(path, options, Job());
    if (!import) {
        return;
    }
    if (import->table.columns.size() != import->table.variables.size()) {
        __builtin_trap();
    }
    for (const Column& column : import->table.columns) {
        if (column.size() != import->table.rows()) {
            __builtin_trap();
        }
    }
    (void)codebookRows(import->table);
    (void)Frame::make(import->table, {}, {}, {}, {});
}

}  // namespace rapporto::fuzz
