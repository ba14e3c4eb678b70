#include "core/report/writers/archive.h"

#include <zip.h>

#include <memory>

namespace rapporto {
namespace {

tl::unexpected<Refusal> cannotPack(const char* why) {
    return refuse(ErrorCode::File, std::string("the document cannot be packed: ") + why, "report",
                  "Choose another file type.");
}

/// 1980-01-01, where the calendar of such archives begins.
constexpr zip_uint16_t kFirstDay = (1U << 5U) | 1U;

}  // namespace

Result<std::string> packedArchive(const std::vector<ReportFile>& files) {
    zip_error_t error;
    zip_error_init(&error);
    zip_source_t* into = zip_source_buffer_create(nullptr, 0, 0, &error);
    if (into == nullptr) {
        return cannotPack(zip_error_strerror(&error));
    }
    // Kept, as closing the archive gives up its own share of it.
    const std::unique_ptr<zip_source_t, void (*)(zip_source_t*)> kept(into, &zip_source_free);
    zip_source_keep(into);
    zip_t* archive = zip_open_from_source(into, ZIP_TRUNCATE, &error);
    if (archive == nullptr) {
        return cannotPack(zip_error_strerror(&error));
    }
    for (std::size_t i = 0; i < files.size(); ++i) {
        zip_source_t* from =
            zip_source_buffer(archive, files[i].bytes.data(), files[i].bytes.size(), 0);
        const zip_int64_t at = zip_file_add(archive, files[i].name.c_str(), from, ZIP_FL_ENC_UTF_8);
        if (at < 0) {
            zip_source_free(from);
            const std::string why = zip_strerror(archive);
            zip_discard(archive);
            return cannotPack(why.c_str());
        }
        const auto index = static_cast<zip_uint64_t>(at);
        zip_set_file_compression(archive, index, i == 0 ? ZIP_CM_STORE : ZIP_CM_DEFLATE, 0);
        zip_file_set_dostime(archive, index, 0, kFirstDay, 0);
    }
    if (zip_close(archive) != 0) {
        const std::string why = zip_strerror(archive);
        zip_discard(archive);
        return cannotPack(why.c_str());
    }
    zip_stat_t stat;
    std::string bytes;
    if (zip_source_open(into) != 0 || zip_source_stat(into, &stat) != 0) {
        return cannotPack(zip_error_strerror(zip_source_error(into)));
    }
    bytes.resize(stat.size);
    const zip_int64_t got = zip_source_read(into, bytes.data(), bytes.size());
    zip_source_close(into);
    if (got < 0 || static_cast<std::size_t>(got) != bytes.size()) {
        return cannotPack("it was cut short");
    }
    return bytes;
}

}  // namespace rapporto
