#include "core/base/hash.h"

#include <fmt/format.h>
#include <nettle/sha2.h>

#include <array>
#include <fstream>

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

Result<std::string> sha256OfFile(const std::string& path) {
    std::ifstream in(path, std::ios::binary);
    if (!in) {
        return refuse(ErrorCode::File, "the file cannot be opened", path);
    }
    sha256_ctx context;
    sha256_init(&context);
    std::vector<char> block(1U << 20U);
    while (in.read(block.data(), static_cast<std::streamsize>(block.size())) || in.gcount() > 0) {
        sha256_update(&context, static_cast<std::size_t>(in.gcount()),
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
