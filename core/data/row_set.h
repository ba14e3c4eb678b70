#pragma once

#include <bit>
#include <cstddef>
#include <cstdint>
#include <initializer_list>
#include <iterator>
#include <span>
#include <vector>

namespace rapporto {

/// A set of rows (from 0) as bits: membership in one look, a million rows in an eighth of a
/// megabyte. Iterates in ascending order. A regular value.
class RowSet {
  public:
    class Iterator {
      public:
        using value_type = std::size_t;
        using difference_type = std::ptrdiff_t;
        using pointer = const std::size_t*;
        using reference = std::size_t;
        using iterator_category = std::input_iterator_tag;

        Iterator(const std::vector<std::uint64_t>* words, std::size_t word)
            : words_(words), word_(word), rest_(word < words->size() ? (*words)[word] : 0) {
            settle();
        }

        std::size_t operator*() const {
            return word_ * 64 + static_cast<std::size_t>(std::countr_zero(rest_));
        }

        Iterator& operator++() {
            rest_ &= rest_ - 1;
            settle();
            return *this;
        }

        friend bool operator==(const Iterator& a, const Iterator& b) {
            return a.word_ == b.word_ && a.rest_ == b.rest_;
        }

      private:
        void settle() {
            while (rest_ == 0 && word_ < words_->size()) {
                ++word_;
                rest_ = word_ < words_->size() ? (*words_)[word_] : 0;
            }
        }

        const std::vector<std::uint64_t>* words_;
        std::size_t word_;
        std::uint64_t rest_;
    };

    RowSet() = default;

    RowSet(std::initializer_list<std::size_t> rows) {
        for (const std::size_t row : rows) {
            insert(row);
        }
    }

    void insert(std::size_t row) {
        const std::size_t word = row / 64;
        if (word >= words_.size()) {
            words_.resize(word + 1, 0);
        }
        const std::uint64_t bit = std::uint64_t{1} << (row % 64);
        count_ += (words_[word] & bit) == 0 ? 1 : 0;
        words_[word] |= bit;
    }

    void erase(std::size_t row) {
        if (contains(row)) {
            words_[row / 64] &= ~(std::uint64_t{1} << (row % 64));
            --count_;
            // One set has one form, so that comparing words compares sets.
            while (!words_.empty() && words_.back() == 0) {
                words_.pop_back();
            }
        }
    }

    [[nodiscard]] bool contains(std::size_t row) const {
        return row / 64 < words_.size() && ((words_[row / 64] >> (row % 64)) & 1U) != 0;
    }

    [[nodiscard]] std::size_t size() const { return count_; }

    [[nodiscard]] bool empty() const { return count_ == 0; }

    void clear() { *this = {}; }

    [[nodiscard]] Iterator begin() const { return {&words_, 0}; }

    [[nodiscard]] Iterator end() const { return {&words_, words_.size()}; }

    friend bool operator==(const RowSet&, const RowSet&) = default;

  private:
    std::vector<std::uint64_t> words_;
    std::size_t count_ = 0;
};

}  // namespace rapporto
