#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

namespace rapporto {

/// Gives every different text the next whole number. Open addressing with eight bytes a slot, so
/// that a column of almost unique texts costs little more than the texts.
class TextIndex {
  public:
    /// The code of `text`: the old one, or as many as there were texts.
    std::int32_t add(std::string_view text);

    [[nodiscard]] const std::vector<std::string>& texts() const { return texts_; }

    /// The texts by code; the index is empty after it.
    [[nodiscard]] std::vector<std::string> take();

  private:
    struct Slot {
        std::uint32_t hash = 0;
        std::int32_t code = -1;
    };

    void grow();

    std::vector<std::string> texts_;
    std::vector<Slot> slots_;  // Its size is a power of two.
    std::int32_t last_ = -1;
};

}  // namespace rapporto
