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

struct Sha256::State {
    sha256_ctx context;
};

Sha256::Sha256() : state_(std::make_unique<State>()) { sha256_init(&state_->context); }

Sha256::~Sha256() = default;

void Sha256::add(std::string_view bytes) {
    sha256_update(&state_->context, bytes.size(),
                  reinterpret_cast<const std::uint8_t*>(bytes.data()));
}

std::string Sha256::hex() { return digestText(state_->context); }

Result<std::string> sha256OfFile(const std::string& path, const Job& job) {
    const auto file = openForReading(path);
    if (!file) {
        return tl::make_unexpected(file.error());
    }
    Sha256 sum;
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
        sum.add({block.data(), static_cast<std::size_t>(got)});
    }
    return sum.hex();
}

std::string sha256OfText(std::string_view text) {
    Sha256 sum;
    sum.add(text);
    return sum.hex();
}

}  // namespace rapporto
