#include "core/io/sheet_archive.h"

#include "core/base/disk.h"
#include "core/base/room.h"

#include <fmt/format.h>
#include <sys/stat.h>
#include <zip.h>

namespace rapporto {
namespace {

// Sheets of one value all over pack to a few hundredths; a trap to a thousandth and less.
constexpr double kMostUnpacked = 200.0;
constexpr double kAlwaysUnpacked = 64e6;
// A parsed document takes several times its text.
constexpr double kMemoryForAByte = 8.0;

struct ClosePart {
    void operator()(zip_file_t* part) const { zip_fclose(part); }
};

}  // namespace

void SheetArchive::Close::operator()(zip* archive) const { zip_discard(archive); }

Refusal brokenSheet(const std::string& why, const std::string& path) {
    return {ErrorCode::Syntax,
            "this spreadsheet cannot be read: " + why,
            path,
            "Open it where it was made and save it again.",
            {}};
}

Result<SheetArchive> SheetArchive::open(const std::string& path) {
    const auto handle = openForReading(path);
    if (!handle) {
        return tl::make_unexpected(handle.error());
    }

    struct stat info {};

    SheetArchive out;
    out.path_ = path;
    out.bytes_ = fstat(handle->get(), &info) == 0 ? static_cast<std::size_t>(info.st_size) : 0;
    int code = 0;
    out.archive_.reset(zip_open(path.c_str(), ZIP_RDONLY, &code));
    if (!out.archive_) {
        return tl::make_unexpected(brokenSheet(code == ZIP_ER_NOZIP || code == ZIP_ER_INCONS
                                                   ? "it is no archive of one"
                                                   : "its archive is broken",
                                               path));
    }
    return out;
}

bool SheetArchive::has(const std::string& part) const {
    return zip_name_locate(archive_.get(), part.c_str(), 0) >= 0;
}

Result<void> SheetArchive::parse(const std::string& part, pugi::xml_document& into,
                                 std::vector<char>& text, const Job& job) const {
    zip_stat_t info;
    zip_stat_init(&info);
    if (zip_stat(archive_.get(), part.c_str(), 0, &info) != 0 ||
        (info.valid & ZIP_STAT_SIZE) == 0) {
        return tl::make_unexpected(brokenSheet("there is no part ‘" + part + "’ in it", path_));
    }
    const auto size = static_cast<double>(info.size);
    if (size > kAlwaysUnpacked && size > kMostUnpacked * static_cast<double>(bytes_)) {
        return refuse(ErrorCode::TooLarge,
                      fmt::format("it would unpack to {:.0f} times what it holds",
                                  size / static_cast<double>(bytes_)),
                      path_, "Nothing that a spreadsheet writes does: ask where it came from.");
    }
    if (auto room = roomFor(size * kMemoryForAByte, "this spreadsheet", path_); !room) {
        return room;
    }
    const std::unique_ptr<zip_file_t, ClosePart> file(
        zip_fopen_index(archive_.get(), info.index, 0));
    if (!file) {
        return tl::make_unexpected(
            brokenSheet("its part ‘" + part + "’ cannot be unpacked", path_));
    }
    text.resize(info.size);
    std::size_t at = 0;
    while (at < text.size()) {
        const auto got = zip_fread(file.get(), text.data() + at,
                                   std::min<std::size_t>(text.size() - at, std::size_t{1} << 20U));
        if (got <= 0) {
            return tl::make_unexpected(
                brokenSheet("its part ‘" + part + "’ ends before it should", path_));
        }
        at += static_cast<std::size_t>(got);
        if (job.stopped()) {
            return refuse(ErrorCode::Stopped, "reading was stopped");
        }
    }
    const auto parsed = into.load_buffer_inplace(
        text.data(), text.size(), pugi::parse_default | pugi::parse_ws_pcdata_single);
    if (!parsed) {
        return tl::make_unexpected(brokenSheet(
            fmt::format("{} (‘{}’, byte {})", parsed.description(), part, parsed.offset), path_));
    }
    return {};
}

}  // namespace rapporto
