#include "core/io/column_store.h"

#include "core/base/disk.h"
#include "core/base/hash.h"
#include "core/base/room.h"
#include "core/io/mapped_file.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <nlohmann/json.hpp>
#include <sys/stat.h>
#include <sys/statvfs.h>

#include <algorithm>
#include <chrono>
#include <cstdlib>
#include <cstring>
#include <ctime>
#include <filesystem>
#include <functional>
#include <mutex>

namespace rapporto::column_store {
namespace {

namespace fs = std::filesystem;
using Json = nlohmann::ordered_json;

/// Changes with the layout and with what readers make of files.
constexpr int kVersion = 1;
constexpr std::string_view kMagic = "RAPPORTO-COLUMNS";
constexpr std::size_t kSum = 64;  ///< Hexadecimal digits of the head’s checksum.
constexpr std::size_t kHead = kMagic.size() + sizeof(std::uint64_t) + kSum;
constexpr std::size_t kAlign = 64;
/// Files changed this recently may change again without another time of change, in nanoseconds.
constexpr std::int64_t kFresh = 2'000'000'000;
/// What all stores together may take, and what must stay free beside a new one, in bytes.
constexpr double kAllStores = 40e9;
constexpr double kStaysFree = 2e9;

struct Settings {
    std::mutex mutex;
    std::string folder;
    std::size_t leastBytes = 0;
    double large = 0.0;
};

Settings& settings() {
    static Settings one;
    return one;
}

std::string folder() {
    const std::lock_guard lock(settings().mutex);
    return settings().folder;
}

std::int64_t nanoseconds(const timespec& time) {
    return static_cast<std::int64_t>(time.tv_sec) * 1'000'000'000 + time.tv_nsec;
}

Json keyJson(const Key& key) {
    const auto* number = std::get_if<double>(&key);
    return number != nullptr ? Json(*number) : Json(std::get<std::string>(key));
}

Key keyFrom(const Json& json) {
    return json.is_number() ? Key(json.get<double>()) : Key(json.get<std::string>());
}

Json keysJson(const std::vector<Key>& keys) {
    Json out = Json::array();
    for (const Key& key : keys) {
        out.push_back(keyJson(key));
    }
    return out;
}

std::vector<Key> keysFrom(const Json& json) {
    std::vector<Key> out;
    for (const Json& key : json) {
        out.push_back(keyFrom(key));
    }
    return out;
}

Json letter(const std::optional<char>& c) {
    return c ? Json(static_cast<int>(static_cast<unsigned char>(*c))) : Json();
}

std::optional<char> letterFrom(const Json& json) {
    return json.is_null() ? std::nullopt : std::optional(static_cast<char>(json.get<int>()));
}

/// Every option: two readings that differ in one are two tables.
Json optionsJson(const ReaderOptions& o) {
    Json repairs = Json::array();
    for (const LineRepair& one : o.repairs) {
        repairs.push_back(Json::array({one.line, one.text}));
    }
    return Json{{"delimiter", letter(o.delimiter)},
                {"decimal", letter(o.decimal)},
                {"thousands", letter(o.thousands)},
                {"header", o.header ? Json(*o.header) : Json()},
                {"encoding", o.encoding ? Json(*o.encoding) : Json()},
                {"quote", letter(o.quote)},
                {"skip", o.skip},
                {"type", o.type},
                {"sheet", o.sheet},
                {"block", o.block},
                {"table", o.table},
                {"query", o.query},
                {"service", o.service},
                {"left", o.left},
                {"patience", o.patience},
                {"repairs", repairs},
                {"as_text", o.asText},
                {"missing", o.missing},
                {"keep_spaces", o.keepSpaces}};
}

ReaderOptions optionsFrom(const Json& json) {
    ReaderOptions o;
    o.delimiter = letterFrom(json.at("delimiter"));
    o.decimal = letterFrom(json.at("decimal"));
    o.thousands = letterFrom(json.at("thousands"));
    o.header =
        json.at("header").is_null() ? std::nullopt : std::optional(json.at("header").get<bool>());
    o.encoding = json.at("encoding").is_null()
                     ? std::nullopt
                     : std::optional(json.at("encoding").get<std::string>());
    o.quote = letterFrom(json.at("quote")).value_or('"');
    o.skip = json.at("skip").get<std::size_t>();
    o.type = json.at("type").get<std::string>();
    o.sheet = json.at("sheet").get<std::string>();
    o.block = json.at("block").get<std::string>();
    o.table = json.at("table").get<std::string>();
    o.query = json.at("query").get<std::string>();
    o.service = json.at("service").get<std::string>();
    o.left = json.at("left").get<bool>();
    o.patience = json.at("patience").get<double>();
    for (const Json& one : json.at("repairs")) {
        o.repairs.push_back({one.at(0).get<std::size_t>(), one.at(1).get<std::string>()});
    }
    o.asText = json.at("as_text").get<std::vector<std::string>>();
    o.missing = json.at("missing").get<std::vector<std::string>>();
    o.keepSpaces = json.at("keep_spaces").get<bool>();
    return o;
}

Json variableJson(const Variable& v) {
    Json ranges = Json::array();
    for (const KeyRange& range : v.missingRanges) {
        ranges.push_back(Json::array({range.low, range.high}));
    }
    Json levels = Json::array();
    for (const Level& level : v.levels) {
        levels.push_back(Json::array({keyJson(level.value), level.label}));
    }
    return Json{{"name", v.name},
                {"label", v.label},
                {"unit", v.unit},
                {"measure", static_cast<int>(v.measure)},
                {"missing", keysJson(v.missing)},
                {"missing_ranges", ranges},
                {"levels", levels},
                {"base", keysJson(v.base)},
                {"note", v.note}};
}

Variable variableFrom(const Json& json) {
    Variable v;
    v.name = json.at("name").get<std::string>();
    v.label = json.at("label").get<std::string>();
    v.unit = json.at("unit").get<std::string>();
    v.measure = static_cast<Measure>(json.at("measure").get<int>());
    v.missing = keysFrom(json.at("missing"));
    for (const Json& range : json.at("missing_ranges")) {
        v.missingRanges.push_back({range.at(0).get<double>(), range.at(1).get<double>()});
    }
    for (const Json& level : json.at("levels")) {
        v.levels.push_back({keyFrom(level.at(0)), level.at(1).get<std::string>()});
    }
    v.base = keysFrom(json.at("base"));
    v.note = json.at("note").get<std::string>();
    return v;
}

Json evidenceJson(const ColumnEvidence& e) {
    return Json{{"reason", e.reason},
                {"suggestion", e.suggestion},
                {"suspected", keysJson(e.suspected)},
                {"in_the_way", e.inTheWay}};
}

ColumnEvidence evidenceFrom(const Json& json) {
    return {json.at("reason").get<std::string>(), json.at("suggestion").get<std::string>(),
            keysFrom(json.at("suspected")), json.at("in_the_way").get<std::vector<std::string>>()};
}

/// The store of a reading: one for files and options.
std::string nameOf(const std::vector<std::string>& files, const ReaderOptions& options) {
    std::string text = std::to_string(kVersion) + "\n" + optionsJson(options).dump() + "\n";
    for (const std::string& file : files) {
        text += fs::absolute(file).lexically_normal().string() + "\n";
    }
    return sha256OfText(text);
}

std::size_t aligned(std::size_t at) { return (at + kAlign - 1) / kAlign * kAlign; }

/// The bytes of a column’s texts: a length, then the text, one after the other.
std::string packed(const std::vector<std::string>& texts) {
    std::string out;
    for (const std::string& text : texts) {
        const auto size = static_cast<std::uint32_t>(text.size());
        out.append(reinterpret_cast<const char*>(&size), sizeof size);
        out += text;
    }
    return out;
}

/// @return nothing where they do not fill these bytes.
std::optional<std::vector<std::string>> unpacked(std::string_view bytes, std::size_t count) {
    std::vector<std::string> out;
    out.reserve(std::min(count, bytes.size()));
    for (std::size_t i = 0; i < count; ++i) {
        std::uint32_t size = 0;
        if (bytes.size() < sizeof size) {
            return std::nullopt;
        }
        std::memcpy(&size, bytes.data(), sizeof size);
        bytes.remove_prefix(sizeof size);
        if (bytes.size() < size) {
            return std::nullopt;
        }
        out.emplace_back(bytes.substr(0, size));
        bytes.remove_prefix(size);
    }
    return bytes.empty() ? std::optional(std::move(out)) : std::nullopt;
}

/// A column over the mapped bytes; the map lives as long as any copy of it.
std::optional<Column> columnFrom(const Json& json, std::size_t rows,
                                 const std::shared_ptr<const MappedFile>& map) {
    const std::string_view bytes = map->bytes();
    const auto at = json.at("at").get<std::size_t>();
    const bool text = json.at("text").get<bool>();
    const std::size_t cell = text ? sizeof(std::int32_t) : sizeof(double);
    if (at % kAlign != 0 || at > bytes.size() || rows > (bytes.size() - at) / cell) {
        return std::nullopt;
    }
    auto name = json.at("name").get<std::string>();
    if (!text) {
        const auto* cells = reinterpret_cast<const double*>(bytes.data() + at);
        return Column::ofNumbers(std::move(name), std::shared_ptr<const double[]>(map, cells),
                                 rows);
    }
    const auto textsAt = json.at("texts_at").get<std::size_t>();
    const auto textsSize = json.at("texts_size").get<std::size_t>();
    if (textsAt > bytes.size() || textsSize > bytes.size() - textsAt) {
        return std::nullopt;
    }
    auto texts = unpacked(bytes.substr(textsAt, textsSize), json.at("texts").get<std::size_t>());
    if (!texts) {
        return std::nullopt;
    }
    const auto* codes = reinterpret_cast<const std::int32_t*>(bytes.data() + at);
    return Column::ofTexts(std::move(name), std::shared_ptr<const std::int32_t[]>(map, codes), rows,
                           *std::move(texts));
}

std::optional<Import> importFrom(const Json& head, const std::shared_ptr<const MappedFile>& map) {
    Import out;
    const auto rows = head.at("rows").get<std::size_t>();
    for (const Json& column : head.at("columns")) {
        auto one = columnFrom(column, rows, map);
        if (!one) {
            return std::nullopt;
        }
        out.table.columns.push_back(*std::move(one));
        out.table.variables.push_back(variableFrom(column.at("variable")));
        out.evidence.push_back(evidenceFrom(column.at("evidence")));
    }
    out.used = optionsFrom(head.at("used"));
    for (const Json& problem : head.at("problems")) {
        out.problems.push_back(
            {problem.at(0).get<std::size_t>(), problem.at(1).get<std::string>()});
    }
    out.problemCount = head.at("problem_count").get<std::size_t>();
    out.parts = head.at("parts").get<std::vector<std::string>>();
    return out;
}

/// Stores that were not used for longest go until there is room for `bytes` more.
bool makeRoom(const std::string& where, double bytes) {
    std::error_code none;
    std::vector<std::pair<fs::file_time_type, fs::path>> stores;
    double total = 0.0;
    for (const auto& entry : fs::directory_iterator(where, none)) {
        const std::string name = entry.path().filename().string();
        if (!entry.is_regular_file(none)) {
            continue;
        }
        if (!name.ends_with(".columns") && !name.ends_with(".sha256")) {
            // What a killed process left half written, here or on another machine.
            if (isLeftBehind(name) ||
                fs::file_time_type::clock::now() - entry.last_write_time(none) >
                    std::chrono::hours(1)) {
                fs::remove(entry.path(), none);
            }
            continue;
        }
        total += static_cast<double>(entry.file_size(none));
        stores.emplace_back(entry.last_write_time(none), entry.path());
    }
    std::sort(stores.begin(), stores.end());
    const auto free = [&] {
        struct statvfs disk {};
        return ::statvfs(where.c_str(), &disk) == 0
                   ? static_cast<double>(disk.f_bavail) * static_cast<double>(disk.f_frsize)
                   : 0.0;
    };
    for (const auto& [time, path] : stores) {
        if (total + bytes <= kAllStores && free() >= bytes + kStaysFree) {
            break;
        }
        total -= static_cast<double>(fs::file_size(path, none));
        fs::remove(path, none);
    }
    return total + bytes <= kAllStores && free() >= bytes + kStaysFree;
}

bool writeAll(FileHandle& file, std::string_view bytes, const Job& job) {
    constexpr std::size_t kPiece = std::size_t{8} << 20U;
    while (!bytes.empty()) {
        if (job.stopped() || !file.write(bytes.substr(0, kPiece))) {
            return false;
        }
        bytes.remove_prefix(std::min(kPiece, bytes.size()));
    }
    return true;
}

std::string_view cellsOf(const Column& column) {
    return column.isText()
               ? std::string_view(reinterpret_cast<const char*>(column.codes().data()),
                                  column.codes().size_bytes())
               : std::string_view(reinterpret_cast<const char*>(column.numbers().data()),
                                  column.numbers().size_bytes());
}

/// Where each column will lie from the end of the head on, and what is written there.
struct Layout {
    Json columns = Json::array();
    std::vector<std::string> texts;
    std::size_t size = 0;
};

Layout layoutOf(const Import& import) {
    Layout out;
    for (std::size_t c = 0; c < import.table.columns.size(); ++c) {
        const Column& column = import.table.columns[c];
        Json one{{"name", column.name()}, {"text", column.isText()}, {"at", out.size}};
        out.size = aligned(out.size + cellsOf(column).size());
        out.texts.push_back(column.isText() ? packed(column.texts()) : std::string());
        if (column.isText()) {
            one["texts"] = column.texts().size();
            one["texts_at"] = out.size;
            one["texts_size"] = out.texts.back().size();
            out.size = aligned(out.size + out.texts.back().size());
        }
        one["variable"] = variableJson(import.table.variables[c]);
        one["evidence"] = evidenceJson(import.evidence[c]);
        out.columns.push_back(std::move(one));
    }
    return out;
}

}  // namespace

std::string usualFolder() {
    const char* cache = std::getenv("XDG_CACHE_HOME");
    if (cache != nullptr && *cache == '/') {
        return std::string(cache) + "/rapporto/columns";
    }
    const char* home = std::getenv("HOME");
    return home != nullptr && *home == '/' ? std::string(home) + "/.cache/rapporto/columns"
                                           : std::string();
}

void keepIn(const std::string& folder, std::size_t leastBytes, double large) {
    const std::lock_guard lock(settings().mutex);
    settings().large = large;
    settings().folder = folder;
    settings().leastBytes = leastBytes;
}

std::string stampOf(const std::vector<std::string>& files) {
    std::size_t least = 0;
    {
        const std::lock_guard lock(settings().mutex);
        if (settings().folder.empty()) {
            return {};
        }
        least = settings().leastBytes;
    }
    timespec now{};
    (void)::clock_gettime(CLOCK_REALTIME, &now);
    std::string out;
    std::size_t total = 0;
    for (const std::string& file : files) {
        struct stat is {};

        if (::stat(file.c_str(), &is) != 0 || !S_ISREG(is.st_mode) ||
            nanoseconds(now) - nanoseconds(is.st_ctim) < kFresh ||
            nanoseconds(now) - nanoseconds(is.st_mtim) < kFresh) {
            return {};
        }
        total += static_cast<std::size_t>(is.st_size);
        out += fmt::format("{}:{}:{}:{}:{} ", is.st_dev, is.st_ino, is.st_size,
                           nanoseconds(is.st_mtim), nanoseconds(is.st_ctim));
    }
    return total >= least ? out : std::string();
}

std::optional<Import> find(const std::vector<std::string>& files, const ReaderOptions& options) {
    const std::string stamp = stampOf(files);
    if (stamp.empty()) {
        return std::nullopt;
    }
    const std::string path = folder() + "/" + nameOf(files, options) + ".columns";
    auto opened = MappedFile::open(path);
    if (!opened) {
        return std::nullopt;
    }
    const auto map = std::make_shared<const MappedFile>(*std::move(opened));
    const std::string_view bytes = map->bytes();
    if (bytes.size() < kHead || bytes.substr(0, kMagic.size()) != kMagic) {
        return std::nullopt;
    }
    std::uint64_t size = 0;
    std::memcpy(&size, bytes.data() + kMagic.size(), sizeof size);
    if (size > bytes.size() - kHead) {
        return std::nullopt;
    }
    const std::string_view text = bytes.substr(kHead, static_cast<std::size_t>(size));
    if (sha256OfText(text) != bytes.substr(kHead - kSum, kSum)) {
        return std::nullopt;
    }
    try {
        const Json head = Json::parse(text);
        const bool whole = head.at("version").get<int>() == kVersion &&
                           head.at("bytes").get<std::size_t>() == bytes.size() &&
                           head.at("stamp").get<std::string>() == stamp;
        auto out = whole ? importFrom(head, map) : std::nullopt;
        if (out && !map->wasCutShort()) {
            std::error_code none;  // Used just now: others go first when room is short.
            fs::last_write_time(path, fs::file_time_type::clock::now(), none);
            return out;
        }
    } catch (const Json::exception&) {
        return std::nullopt;  // It is made anew.
    }
    return std::nullopt;
}

std::string folderForLarge(double bytes) {
    const std::string where = folder();
    {
        const std::lock_guard lock(settings().mutex);
        if (where.empty() || bytes < settings().large * static_cast<double>(memoryLeft())) {
            return {};
        }
    }
    std::error_code failed;
    fs::create_directories(where, failed);
    return makeRoom(where, 2.0 * bytes) ? where : std::string();
}

bool keep(const Import& import, const std::vector<std::string>& files, const ReaderOptions& options,
          const std::string& stamp, const Job& job) {
    const std::string where = folder();
    if (stamp.empty() || where.empty() || import.table.rows() == 0 || stampOf(files) != stamp) {
        return false;
    }
    std::error_code failed;
    fs::create_directories(where, failed);
    fs::permissions(where, fs::perms::owner_all, failed);  // Cells are nobody else’s business.
    Layout layout = layoutOf(import);
    Json problems = Json::array();
    for (const Problem& problem : import.problems) {
        problems.push_back(Json::array({problem.line, problem.what}));
    }
    Json head{{"version", kVersion},
              {"bytes", 0},
              {"stamp", stamp},
              {"rows", import.table.rows()},
              {"used", optionsJson(import.used)},
              {"problems", problems},
              {"problem_count", import.problemCount},
              {"parts", import.parts},
              {"columns", layout.columns}};
    // The head’s own length moves the columns: it is given more room than it can need.
    const std::size_t digits = 20 * (2 * layout.columns.size() + 1);
    const std::size_t from = aligned(kHead + head.dump().size() + digits);
    for (Json& column : head["columns"]) {
        column["at"] = column["at"].get<std::size_t>() + from;
        if (column.contains("texts_at")) {
            column["texts_at"] = column["texts_at"].get<std::size_t>() + from;
        }
    }
    head["bytes"] = from + layout.size;
    std::string text = head.dump();
    text.resize(from - kHead, ' ');
    if (!makeRoom(where, static_cast<double>(from + layout.size))) {
        return false;
    }
    const std::string path = where + "/" + nameOf(files, options) + ".columns";
    const std::string fresh = nameBeside(path);
    Disk& disk = systemDisk();
    FileHandle file(disk.open(fresh.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0600), disk);
    const auto size = static_cast<std::uint64_t>(text.size());
    bool done = file.isOpen() && file.write(kMagic) &&
                file.write({reinterpret_cast<const char*>(&size), sizeof size}) &&
                file.write(sha256OfText(text)) && file.write(text);
    const auto put = [&](std::string_view bytes) {
        const std::string padding(aligned(bytes.size()) - bytes.size(), '\0');
        done = done && writeAll(file, bytes, job) && file.write(padding);
    };
    for (std::size_t c = 0; done && c < import.table.columns.size(); ++c) {
        put(cellsOf(import.table.columns[c]));
        if (import.table.columns[c].isText()) {
            put(layout.texts[c]);
        }
    }
    // On the disk before it has its name: no cut of the power leaves a whole head without cells.
    done = done && disk.sync(file.get()) == 0 && file.close() == 0 &&
           disk.rename(fresh.c_str(), path.c_str()) == 0;
    if (!done) {
        (void)disk.unlink(fresh.c_str());
        return false;
    }
    fs::permissions(path, fs::perms::owner_read | fs::perms::owner_write, failed);
    return true;
}

Result<std::string> checksumOf(const std::vector<std::string>& files,
                               const std::function<Result<std::string>()>& work) {
    const std::string stamp = stampOf(files);
    if (stamp.empty()) {
        return work();
    }
    const std::string path = folder() + "/" + nameOf(files, {}) + ".sha256";
    const auto known = readWhole(path);
    if (known && known->size() == stamp.size() + kSum && known->starts_with(stamp)) {
        return known->substr(stamp.size());
    }
    auto sum = work();
    if (sum && sum->size() == kSum && stampOf(files) == stamp) {
        std::error_code failed;
        fs::create_directories(folder(), failed);
        (void)replaceFile(path, stamp + *sum);
    }
    return sum;
}

}  // namespace rapporto::column_store
