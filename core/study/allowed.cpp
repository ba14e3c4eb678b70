#include "core/study/allowed.h"

#include "core/base/disk.h"

#include <nlohmann/json.hpp>

#include <filesystem>

namespace rapporto {
namespace {

using Json = nlohmann::json;

/// A study and where one of its files leads: moving either asks again.
std::string keyOf(const std::string& study, const std::string& file) {
    namespace fs = std::filesystem;
    std::error_code none;
    const fs::path at =
        fs::path(file).is_absolute() ? fs::path(file) : fs::path(study).parent_path() / file;
    return fs::weakly_canonical(study, none).string() + "\n" +
           fs::weakly_canonical(at, none).string();
}

}  // namespace

AllowedFiles::AllowedFiles(std::string file) : file_(std::move(file)) {}

std::set<std::string> AllowedFiles::read() const {
    std::set<std::string> out = here_;
    const auto text = file_.empty() ? Result<std::string>("") : readWhole(file_);
    const Json json = text ? Json::parse(*text, nullptr, false) : Json();
    if (json.is_array()) {
        for (const Json& one : json) {
            if (one.is_string()) {
                out.insert(one.get<std::string>());
            }
        }
    }
    return out;
}

std::vector<std::string> AllowedFiles::missing(const std::string& study,
                                               const std::vector<std::string>& files) const {
    const std::set<std::string> known = read();
    std::vector<std::string> out;
    for (const std::string& file : files) {
        if (!known.contains(keyOf(study, file))) {
            out.push_back(file);
        }
    }
    return out;
}

void AllowedFiles::allow(const std::string& study, const std::vector<std::string>& files) {
    if (files.empty()) {
        return;
    }
    for (const std::string& file : files) {
        here_.insert(keyOf(study, file));
    }
    if (!file_.empty()) {
        std::error_code none;
        std::filesystem::create_directories(std::filesystem::path(file_).parent_path(), none);
        // What cannot be kept is asked again another day.
        (void)replaceFile(file_, Json(read()).dump(1) + "\n");
    }
}

}  // namespace rapporto
