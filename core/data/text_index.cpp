#include "core/data/text_index.h"

#include <cstring>
#include <utility>

namespace rapporto {
namespace {

// Loads of fixed sizes: the library's memcpy and memcmp cost more than the few bytes of a cell.
std::uint64_t eightFrom(const char* p) {
    std::uint64_t word = 0;
    std::memcpy(&word, p, 8);
    return word;
}

std::uint64_t fourFrom(const char* p) {
    std::uint32_t word = 0;
    std::memcpy(&word, p, 4);
    return word;
}

/// The first and the last bytes of a text of 1 to 16 bytes; with its size they say all of it.
struct Ends {
    std::uint64_t first;
    std::uint64_t last;

    friend bool operator==(const Ends&, const Ends&) = default;
};

Ends endsOf(std::string_view text) {
    const char* p = text.data();
    const std::size_t n = text.size();
    if (n >= 8) {
        return {eightFrom(p), eightFrom(p + n - 8)};
    }
    if (n >= 4) {
        return {fourFrom(p), fourFrom(p + n - 4)};
    }
    const auto byte = [&](std::size_t i) {
        return std::uint64_t{static_cast<unsigned char>(p[i])};
    };
    return n == 0 ? Ends{0, 0} : Ends{byte(0) | byte(n / 2) << 8U, byte(n - 1)};
}

/// Multiplications and shifts by the finaliser of Steele, Lea & Flood (2014).
std::uint32_t hashOf(std::string_view text) {
    std::uint64_t h = text.size() * 0x9E3779B97F4A7C15U;
    const auto mix = [&](std::uint64_t word) {
        h = (h ^ word) * 0xBF58476D1CE4E5B9U;
        h ^= h >> 29U;
    };
    for (; text.size() > 16; text.remove_prefix(8)) {
        mix(eightFrom(text.data()));
    }
    const Ends ends = endsOf(text);
    mix(ends.first);
    mix(ends.last);
    h *= 0x94D049BB133111EBU;
    return static_cast<std::uint32_t>(h >> 32U);
}

bool same(std::string_view a, std::string_view b) {
    return a.size() == b.size() && (a.size() <= 16 ? endsOf(a) == endsOf(b) : a == b);
}

}  // namespace

std::int32_t TextIndex::add(std::string_view text) {
    // Neighbouring rows often hold the same text.
    if (last_ >= 0 && same(texts_[static_cast<std::size_t>(last_)], text)) {
        return last_;
    }
    if (texts_.size() * 4 >= slots_.size() * 3) {
        grow();
    }
    const std::uint32_t hash = hashOf(text);
    const std::size_t mask = slots_.size() - 1;
    std::size_t place = hash & mask;
    while (slots_[place].code >= 0) {
        const Slot& slot = slots_[place];
        if (slot.hash == hash && same(texts_[static_cast<std::size_t>(slot.code)], text)) {
            return last_ = slot.code;
        }
        place = (place + 1) & mask;
    }
    slots_[place] = {hash, static_cast<std::int32_t>(texts_.size())};
    texts_.emplace_back(text);
    return last_ = slots_[place].code;
}

std::vector<std::string> TextIndex::take() {
    slots_ = {};
    last_ = -1;
    return std::exchange(texts_, {});
}

void TextIndex::grow() {
    std::vector<Slot> old(slots_.empty() ? 16 : 2 * slots_.size());
    old.swap(slots_);
    const std::size_t mask = slots_.size() - 1;
    for (const Slot& slot : old) {
        if (slot.code >= 0) {
            std::size_t place = slot.hash & mask;
            while (slots_[place].code >= 0) {
                place = (place + 1) & mask;
            }
            slots_[place] = slot;
        }
    }
}

}  // namespace rapporto
