#include "core/study/study_lock.h"

#include "core/base/clock.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <pwd.h>
#include <sys/file.h>
#include <unistd.h>

#include <array>
#include <filesystem>

namespace rapporto {
namespace {

using Json = nlohmann::ordered_json;

std::string userName() {
    const passwd* user = getpwuid(geteuid());
    return user != nullptr ? user->pw_name : fmt::format("user {}", geteuid());
}

std::string hostName() {
    std::array<char, 256> name{};
    return gethostname(name.data(), name.size() - 1) == 0 ? name.data() : "this machine";
}

LockHolder holderIn(const std::string& file) {
    LockHolder out;
    const auto text = readWhole(file, 4096);
    const Json json = text ? Json::parse(*text, nullptr, false) : Json();
    if (json.is_object()) {
        const auto textOf = [&json](const char* key) {
            return json.contains(key) && json.at(key).is_string() ? json.at(key).get<std::string>()
                                                                  : std::string();
        };
        out = {textOf("owner"), textOf("host"),
               json.contains("process") && json.at("process").is_number_integer()
                   ? json.at("process").get<long>()
                   : 0,
               textOf("since")};
    }
    return out;
}

}  // namespace

StudyLock::StudyLock(const std::string& path) : handle_(-1, systemDisk()) {
    const std::filesystem::path study(path);
    file_ = (study.parent_path() / ("." + study.filename().string() + ".lock")).string();
    FileHandle handle(
        ::open(file_.c_str(), O_RDWR | O_CREAT | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK, 0644),
        systemDisk());
    if (!handle.isOpen()) {
        return;
    }
    if (flock(handle.get(), LOCK_EX | LOCK_NB) != 0) {
        other_ = holderIn(file_);
        return;
    }
    const Json text{{"owner", userName()},
                    {"host", hostName()},
                    {"process", static_cast<long>(getpid())},
                    {"since", timeNow()}};
    if (ftruncate(handle.get(), 0) == 0 && handle.write(text.dump() + "\n")) {
        handle_ = std::move(handle);
    }
}

StudyLock::~StudyLock() {
    if (handle_.isOpen()) {
        (void)systemDisk().unlink(file_.c_str());
    }
}

}  // namespace rapporto
