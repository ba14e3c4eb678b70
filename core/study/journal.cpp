#include "core/study/journal.h"

#include "core/base/clock.h"
#include "core/base/hash.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <sys/file.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <chrono>
#include <cstdlib>
#include <filesystem>
#include <optional>
#include <utility>

namespace rapporto {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;
using Clock = std::chrono::steady_clock;

constexpr auto kBetweenFlushes = std::chrono::milliseconds(900);
constexpr auto kPatience = std::chrono::seconds(2);
constexpr auto kKeptAside = std::chrono::hours(24 * 30);

/// A line with its checksum in front, so that a torn one is known for what it is.
std::string lineOf(const Json& json) {
    const std::string text = json.dump(-1, ' ', false, Json::error_handler_t::replace);
    return fmt::format("{:016x} {}\n", contentHash(text), text);
}

std::optional<Json> jsonOf(std::string_view line) {
    if (line.size() < 18 || line[16] != ' ' ||
        line.substr(0, 16) != fmt::format("{:016x}", contentHash(line.substr(17)))) {
        return std::nullopt;
    }
    Json json = Json::parse(line.substr(17), nullptr, false);
    return json.is_object() ? std::optional(std::move(json)) : std::nullopt;
}

std::string textIn(const Json& json, const char* key) {
    return json.contains(key) && json.at(key).is_string() ? json.at(key).get<std::string>() : "";
}

/// The study with the values of its kept columns put back in place of their numbers.
std::optional<Study> studyOf(Json json, const std::vector<std::string>& values) {
    if (json.contains("kept") && json.at("kept").is_array()) {
        for (Json& column : json.at("kept")) {
            if (column.is_object() && column.contains("values") &&
                column.at("values").is_number_unsigned()) {
                const auto at = column.at("values").get<std::size_t>();
                column["values"] = at < values.size() ? values[at] : "";
            }
        }
    }
    auto study = readStudyText(json.dump());
    return study ? std::optional(*std::move(study)) : std::nullopt;
}

std::optional<LeftWork> readJournal(const std::string& path) {
    const auto text = readWhole(path);
    if (!text) {
        return std::nullopt;
    }
    LeftWork out;
    out.file = path;
    Json now;
    std::vector<std::string> values;
    for (std::size_t at = 0; at < text->size();) {
        const std::size_t end = text->find('\n', at);
        auto line = end == std::string::npos ? std::nullopt
                                             : jsonOf(std::string_view(*text).substr(at, end - at));
        if (!line) {
            out.torn = true;
            break;
        }
        if (at == 0) {
            if (textIn(*line, "journal") != "rapporto" || !line->contains("start")) {
                return std::nullopt;
            }
            out.head = {textIn(*line, "study"), textIn(*line, "base"), textIn(*line, "began"),
                        textIn(*line, "pasted")};
            now = line->at("start");
        } else if (line->contains("values")) {
            values.push_back(textIn(*line, "values"));
            out.values = values.size();
        } else {
            try {
                now = now.patch(line->at("patch"));
            } catch (const Json::exception&) {
                out.torn = true;
                break;
            }
            auto study = studyOf(now, values);
            if (!study) {
                out.torn = true;
                break;
            }
            const std::string did = textIn(*line, "did");
            if (did.empty()) {
                (out.steps.empty() ? out.start : out.steps.back().study) = *std::move(study);
            } else {
                out.steps.push_back({textIn(*line, "at"), did, *std::move(study)});
            }
        }
        if (out.steps.empty()) {
            auto start = studyOf(now, values);
            if (!start) {
                return std::nullopt;
            }
            out.start = *std::move(start);
        }
        at = end + 1;
        out.whole = at;
    }
    return out.whole > 0 ? std::optional(std::move(out)) : std::nullopt;
}

/// Takes the lock of an open file; false when somebody alive keeps it. Those who only look at what
/// was left behind have a share of it for as long as they read, and are waited for.
bool lock(int handle) {
    const auto until = Clock::now() + kPatience;
    while (flock(handle, LOCK_EX | LOCK_NB) != 0) {
        if ((errno != EWOULDBLOCK && errno != EINTR) || Clock::now() >= until) {
            return false;
        }
        std::this_thread::sleep_for(std::chrono::milliseconds(5));
    }
    return true;
}

}  // namespace

std::string journalFolder() {
    const char* state = std::getenv("XDG_STATE_HOME");
    const char* home = std::getenv("HOME");
    const fs::path base = state != nullptr && *state == '/' ? fs::path(state)
                          : home != nullptr                 ? fs::path(home) / ".local/state"
                                                            : fs::path();
    return base.empty() ? std::string() : (base / "rapporto/journals").string();
}

/// What the writer is asked to do next.
struct Journal::Work {
    enum class Kind : std::uint8_t { Begin, Adopt, Note, Drop };

    Kind kind = Kind::Note;
    Study study;
    std::string did;
    std::string at;
    JournalHead head;
    std::string file;
    std::size_t whole = 0;
    std::size_t values = 0;
    std::size_t number = 0;
};

Journal::Journal(std::string folder, Disk& disk)
    : folder_(std::move(folder)),
      disk_(disk),
      handle_(-1, disk),
      writer_([this](const std::stop_token& stopping) { run(stopping); }) {}

Journal::~Journal() {
    flush();
    writer_.request_stop();
    wake_.notify_all();
}

void Journal::begin(JournalHead head, const Study& study) {
    const std::scoped_lock lock(mutex_);
    if (head.began.empty()) {
        head.began = timeNow();
    }
    waiting_.push_back({Work::Kind::Begin, study, {}, {}, std::move(head), {}, 0, 0, ++noted_});
    wake_.notify_all();
}

void Journal::adopt(const LeftWork& left) {
    std::unique_lock lock(mutex_);
    const Study& last = left.steps.empty() ? left.start : left.steps.back().study;
    waiting_.push_back(
        {Work::Kind::Adopt, last, {}, {}, left.head, left.file, left.whole, left.values, ++noted_});
    wake_.notify_all();
    lock.unlock();
    flush();  // Whoever looks next must find it taken.
}

void Journal::note(const Study& study, std::string did) {
    const std::scoped_lock lock(mutex_);
    waiting_.push_back(
        {Work::Kind::Note, study, std::move(did), timeNow(), {}, {}, 0, 0, ++noted_});
    wake_.notify_all();
}

void Journal::drop() {
    const std::scoped_lock lock(mutex_);
    waiting_.push_back({Work::Kind::Drop, {}, {}, {}, {}, {}, 0, 0, ++noted_});
    wake_.notify_all();
}

void Journal::layAside() {
    flush();
    const std::string at = file();
    if (!at.empty()) {
        std::error_code none;
        fs::rename(at, fs::path(at).replace_extension(".aside"), none);
    }
    drop();  // Nothing stands under its name any more.
}

void Journal::flush() {
    std::unique_lock lock(mutex_);
    const std::size_t upTo = noted_;
    hurry_ = true;
    wake_.notify_all();
    wake_.wait(lock, [&] { return kept_ >= upTo; });
}

std::optional<Refusal> Journal::trouble() const {
    const std::scoped_lock lock(mutex_);
    return trouble_;
}

std::string Journal::file() const {
    const std::scoped_lock lock(mutex_);
    return file_;
}

void Journal::run(const std::stop_token& stopping) {
    Clock::time_point flushed = Clock::now() - kBetweenFlushes;
    std::size_t written = 0;
    std::size_t onDisk = 0;
    for (;;) {
        std::deque<Work> batch;
        bool hurry = false;
        {
            std::unique_lock lock(mutex_);
            const auto some = [&] { return !waiting_.empty() || hurry_; };
            // What is written outlasts the process at once, and the machine after the next flush.
            written > onDisk
                ? void(wake_.wait_until(lock, stopping, flushed + kBetweenFlushes, some))
                : void(wake_.wait(lock, stopping, some));
            batch.swap(waiting_);
            hurry = std::exchange(hurry_, false);
        }
        if (!batch.empty()) {
            written = batch.back().number;
            write(batch);
        }
        const bool ending = stopping.stop_requested();
        if (written > onDisk && (hurry || ending || Clock::now() >= flushed + kBetweenFlushes)) {
            if (handle_.isOpen() && disk_.sync(handle_.get()) != 0) {
                const std::scoped_lock lock(mutex_);
                trouble_ = fileTrouble("steps are not being kept", file_, errno);
            }
            flushed = Clock::now();
            onDisk = written;
        }
        {
            const std::scoped_lock lock(mutex_);
            kept_ = onDisk;
        }
        wake_.notify_all();
        if (ending && batch.empty()) {
            return;
        }
    }
}

bool Journal::append(const std::string& line) {
    if (handle_.isOpen() && handle_.write(line)) {
        return true;
    }
    const int error = errno;
    const std::scoped_lock lock(mutex_);
    trouble_ = fileTrouble("steps are not being kept", file_, error);
    return false;
}

bool Journal::start(const JournalHead& head, const Study& study) {
    std::error_code failed;
    fs::create_directories(folder_, failed);
    fs::permissions(folder_, fs::perms::owner_all, failed);
    const std::string path =
        fmt::format("{}/{:016x}-{}-{}.journal", folder_, contentHash(head.study), getpid(),
                    std::chrono::system_clock::now().time_since_epoch().count());
    {
        const std::scoped_lock lock(mutex_);
        file_ = path;
        trouble_.reset();
    }
    handle_ = FileHandle(
        disk_.open(path.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_APPEND | O_CLOEXEC, 0600), disk_);
    if (handle_.isOpen()) {
        (void)lock(handle_.get());
    }
    Json line{{"journal", "rapporto"},
              {"version", 1},
              {"study", head.study},
              {"base", head.base},
              {"began", head.began}};
    if (!head.pasted.empty()) {
        line["pasted"] = head.pasted;
    }
    std::vector<std::string> values;
    values_.clear();
    valuesBefore_ = 0;
    Json first = lightJson(study, values);
    line["start"] = first;
    before_ = std::make_shared<const Json>(std::move(first));
    bool done = append(lineOf(line));
    for (const std::string& one : values) {
        done = done && append(lineOf(Json{{"values", one}}));
    }
    return done;
}

Json Journal::lightJson(const Study& study, std::vector<std::string>& fresh) {
    Study light = study;
    static const auto kNone = std::make_shared<const std::vector<double>>();
    for (KeptColumn& column : light.kept) {
        column.values = kNone;
    }
    Json json = studyJson(light);
    for (std::size_t k = 0; k < study.kept.size(); ++k) {
        const auto& values = study.kept[k].values;
        const auto [at, isNew] =
            values_.try_emplace(values.get(), values, valuesBefore_ + values_.size());
        if (isNew) {
            Study one;
            one.kept = {study.kept[k]};
            fresh.push_back(studyJson(one).at("kept").at(0).at("values").get<std::string>());
        }
        json["kept"][k]["values"] = at->second.second;
    }
    return json;
}

void Journal::write(std::deque<Work>& batch) {
    for (Work& work : batch) {
        if (folder_.empty()) {
            continue;
        }
        switch (work.kind) {
            case Work::Kind::Begin:
                remove();
                head_ = std::move(work.head);
                first_ = std::move(work.study);
                open_ = true;
                break;
            case Work::Kind::Drop:
                remove();
                open_ = false;
                break;
            case Work::Kind::Adopt:
                remove();
                adoptFile(work);
                break;
            case Work::Kind::Note: {
                if (!open_) {
                    break;
                }
                if (!handle_.isOpen() && !start(head_, first_)) {
                    break;
                }
                std::vector<std::string> values;
                Json now = lightJson(work.study, values);
                bool done = true;
                for (const std::string& one : values) {
                    done = done && append(lineOf(Json{{"values", one}}));
                }
                const Json patch = Json::diff(*before_, now);
                if (!patch.empty() || !work.did.empty()) {
                    done =
                        done &&
                        append(lineOf(Json{{"at", work.at}, {"did", work.did}, {"patch", patch}}));
                }
                if (done) {
                    before_ = std::make_shared<const Json>(std::move(now));
                } else {
                    // What comes after a line that is missing could not be read: begin anew from
                    // here, in a file that may find more room.
                    handle_ = FileHandle(-1, disk_);
                    first_ = work.study;
                    head_.began = work.at;
                }
                break;
            }
        }
    }
}

void Journal::adoptFile(const Work& work) {
    {
        const std::scoped_lock lock(mutex_);
        file_ = work.file;
        trouble_.reset();
    }
    head_ = work.head;
    first_ = work.study;
    open_ = true;
    handle_ = FileHandle(disk_.open(work.file.c_str(), O_WRONLY | O_APPEND | O_CLOEXEC, 0), disk_);
    if (!handle_.isOpen() || !lock(handle_.get()) ||
        ftruncate(handle_.get(), static_cast<off_t>(work.whole)) != 0) {
        handle_ = FileHandle(-1, disk_);  // It goes on in a file of its own, from this state.
        return;
    }
    // Values that stand in it already are written once more rather than matched.
    values_.clear();
    valuesBefore_ = work.values;
    std::vector<std::string> values;
    const Json now = lightJson(work.study, values);
    for (const std::string& one : values) {
        if (!append(lineOf(Json{{"values", one}}))) {
            return;
        }
    }
    // The state as it was adopted, told in the numbers of this hand.
    before_ = std::make_shared<const Json>(now);
    (void)append(lineOf(
        Json{{"at", timeNow()},
             {"did", ""},
             {"patch", Json::array({Json{{"op", "replace"}, {"path", ""}, {"value", now}}})}}));
}

void Journal::remove() {
    if (handle_.isOpen()) {
        (void)disk_.unlink(file().c_str());
        handle_ = FileHandle(-1, disk_);
    }
    values_.clear();
    before_.reset();
    const std::scoped_lock lock(mutex_);
    file_.clear();
}

std::vector<LeftWork> workLeftIn(const std::string& folder) {
    std::vector<LeftWork> out;
    std::error_code none;
    const auto now = fs::file_time_type::clock::now();
    for (fs::directory_iterator at(folder, none), end; !none && at != end; at.increment(none)) {
        const fs::path path = at->path();
        std::error_code gone;
        if (path.extension() == ".aside" && now - fs::last_write_time(path, gone) > kKeptAside &&
            !gone) {
            fs::remove(path, gone);
        }
        if (path.extension() != ".journal") {
            continue;
        }
        const FileHandle handle(
            ::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK), systemDisk());
        // A share is enough to read, and two who look do not hide a journal from one another.
        if (!handle.isOpen() || flock(handle.get(), LOCK_SH | LOCK_NB) != 0) {
            continue;
        }
        auto left = readJournal(path.string());
        if (left && !left->steps.empty()) {
            out.push_back(*std::move(left));
        } else if (left) {
            fs::remove(path, gone);
        }
    }
    std::sort(out.begin(), out.end(), [](const LeftWork& a, const LeftWork& b) {
        return a.steps.back().at > b.steps.back().at;
    });
    return out;
}

void layAside(const LeftWork& left) {
    std::error_code none;
    fs::rename(left.file, fs::path(left.file).replace_extension(".aside"), none);
}

}  // namespace rapporto
