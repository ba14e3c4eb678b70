#include "core/base/hash.h"

#include "core/base/disk.h"

#include <fmt/format.h>
#include <nettle/sha2.h>
#include <unistd.h>

#include <array>
#include <cerrno>

namespace rapporto {
namespace {

std::string digestText(sha256_ctx& context) {
    std::array<std::uint8_t, SHA256_DIGEST_SIZE> digest{};
    sha256_digest(&context, digest.size(), digest.data());
    std::string hex;
    for (const std::uint8_t byte : digest) {
        hex += fmt::format("{:02x}", byte);
    }
    return hex;
}

}  // namespace

std::uint64_t contentHash(std::string_view bytes, std::uint64_t seed) {
    for (const char c : bytes) {
        seed = (seed ^ static_cast<unsigned char>(c)) * 1099511628211ULL;
    }
    return seed;
}

Result<std::string> sha256OfFile(const std::string& path, const Job& job) {
    const auto file = openForReading(path);
    if (!file) {
        return tl::make_unexpected(file.error());
    }
    sha256_ctx context;
    sha256_init(&context);
    std::vector<char> block(1U << 20U);
    for (;;) {
        if (job.stopped()) {
            return refuse(ErrorCode::Stopped, "reading was stopped");
        }
        const ssize_t got = ::read(file->get(), block.data(), block.size());
        if (got < 0 && errno == EINTR) {
            continue;
        }
        if (got < 0) {
            return tl::make_unexpected(fileTrouble("the file cannot be read", path, errno));
        }
        if (got == 0) {
            break;
        }
        sha256_update(&context, static_cast<std::size_t>(got),
                      reinterpret_cast<const std::uint8_t*>(block.data()));
    }
    return digestText(context);
}

std::string sha256OfText(std::string_view text) {
    sha256_ctx context;
    sha256_init(&context);
    sha256_update(&context, text.size(), reinterpret_cast<const std::uint8_t*>(text.data()));
    return digestText(context);
}

}  // namespace rapporto
