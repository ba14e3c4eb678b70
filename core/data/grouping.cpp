#include "core/data/grouping.h"

#include <algorithm>
#include <bit>
#include <cmath>

namespace rapporto {
namespace {

/// Numbers 64-bit keys in order of appearance; open addressing.
class KeyIndex {
  public:
    std::int32_t add(std::uint64_t key) {
        if (static_cast<std::size_t>(count_) * 4 >= slots_.size() * 3) {
            grow();
        }
        const std::size_t mask = slots_.size() - 1;
        std::size_t place = mixed(key) & mask;
        while (slots_[place].code >= 0 && slots_[place].key != key) {
            place = (place + 1) & mask;
        }
        if (slots_[place].code < 0) {
            slots_[place] = {key, count_++};
        }
        return slots_[place].code;
    }

    [[nodiscard]] std::int32_t count() const { return count_; }

  private:
    struct Slot {
        std::uint64_t key = 0;
        std::int32_t code = -1;
    };

    static std::size_t mixed(std::uint64_t key) {
        key = (key ^ (key >> 30U)) * 0xBF58476D1CE4E5B9U;
        key = (key ^ (key >> 27U)) * 0x94D049BB133111EBU;
        return static_cast<std::size_t>(key ^ (key >> 31U));
    }

    void grow() {
        std::vector<Slot> old(slots_.empty() ? 64 : 2 * slots_.size());
        old.swap(slots_);
        const std::size_t mask = slots_.size() - 1;
        for (const Slot& slot : old) {
            if (slot.code >= 0) {
                std::size_t place = mixed(slot.key) & mask;
                while (slots_[place].code >= 0) {
                    place = (place + 1) & mask;
                }
                slots_[place] = slot;
            }
        }
    }

    std::vector<Slot> slots_;
    std::int32_t count_ = 0;
};

constexpr std::uint64_t kMissingKey = ~std::uint64_t{0};

}  // namespace

Grouping groupBy(const Column& column, bool missingIsGroup) {
    Grouping out;
    out.of.resize(column.size());
    KeyIndex index;
    for (std::size_t i = 0; i < column.size(); ++i) {
        if (column.isMissing(i)) {
            out.of[i] = missingIsGroup ? index.add(kMissingKey) : -1;
        } else {
            // Adding zero makes one zero of the two.
            out.of[i] = index.add(column.isText()
                                      ? static_cast<std::uint64_t>(column.codes()[i])
                                      : std::bit_cast<std::uint64_t>(column.numbers()[i] + 0.0));
        }
    }
    out.count = index.count();
    return out;
}

Grouping splitBy(const Grouping& a, const Grouping& b) {
    Grouping out;
    out.of.resize(a.of.size());
    KeyIndex index;
    for (std::size_t i = 0; i < a.of.size(); ++i) {
        out.of[i] = a.of[i] < 0 || b.of[i] < 0
                        ? -1
                        : index.add(static_cast<std::uint64_t>(a.of[i]) << 32U |
                                    static_cast<std::uint32_t>(b.of[i]));
    }
    out.count = index.count();
    return out;
}

GroupedRows rowsByGroup(const Grouping& grouping) {
    GroupedRows out;
    out.starts.assign(static_cast<std::size_t>(grouping.count) + 1, 0);
    for (const std::int32_t g : grouping.of) {
        if (g >= 0) {
            ++out.starts[static_cast<std::size_t>(g) + 1];
        }
    }
    for (std::size_t g = 1; g < out.starts.size(); ++g) {
        out.starts[g] += out.starts[g - 1];
    }
    out.rows.resize(out.starts.back());
    std::vector<std::size_t> at(out.starts.begin(), out.starts.end());
    for (std::size_t i = 0; i < grouping.of.size(); ++i) {
        if (grouping.of[i] >= 0) {
            out.rows[at[static_cast<std::size_t>(grouping.of[i])]++] =
                static_cast<std::uint32_t>(i);
        }
    }
    return out;
}

}  // namespace rapporto
