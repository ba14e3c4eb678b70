#pragma once

#include <cstdint>

namespace rapporto {

/// A counter-based stream of random bits: the i-th number of a stream hangs on (seed, stream, i)
/// alone, so that draws can be made in any order on any thread.
/// Source: Steele, Lea & Flood (2014), OOPSLA (the mixing of SplitMix64).
class RandomStream {
  public:
    RandomStream(std::uint64_t seed, std::uint64_t stream)
        : key_(mixed(mixed(seed + kStep) ^ (stream * kStep + 1))) {}

    /// 64 random bits, the next of the stream.
    std::uint64_t next() { return mixed(key_ + kStep * ++counter_); }

    /// From 0 to under `size`, by a multiplication in place of a division: over by less than
    /// size / 2⁶⁴.
    std::uint64_t below(std::uint64_t size) {
        __extension__ using Wide = unsigned __int128;
        return static_cast<std::uint64_t>((static_cast<Wide>(next()) * size) >> 64U);
    }

    /// From 0 to under 1, in steps of 2⁻⁵³.
    double uniform() { return static_cast<double>(next() >> 11U) * 0x1.0p-53; }

  private:
    static constexpr std::uint64_t kStep = 0x9E3779B97F4A7C15U;

    static std::uint64_t mixed(std::uint64_t x) {
        x = (x ^ (x >> 30U)) * 0xBF58476D1CE4E5B9U;
        x = (x ^ (x >> 27U)) * 0x94D049BB133111EBU;
        return x ^ (x >> 31U);
    }

    std::uint64_t key_;
    std::uint64_t counter_ = 0;
};

}  // namespace rapporto
