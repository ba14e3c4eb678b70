#pragma once

#include "core/data/text_index.h"
#include "core/io/csv.h"

#include <string>
#include <vector>

namespace rapporto {

/// Collects the cells of one column that come typed one by one, and settles at the end what the
/// column is: numbers, dates or truths when all its cells are, else texts.
class ColumnCollector {
  public:
    void addMissing(std::size_t count = 1);
    void addNumber(double value);
    void addText(std::string_view text);
    void addDate(double days);  ///< Since 1970-01-01.
    void addTruth(bool value);

    [[nodiscard]] std::size_t size() const { return kinds_.size(); }

    /// Appends the finished column with its variable and evidence.
    void finish(std::string name, const ReaderOptions& options, Import& import);

  private:
    enum class Kind : std::uint8_t { Missing, Number, Text, Date, Truth };

    [[nodiscard]] std::string shown(std::size_t row) const;

    std::vector<Kind> kinds_;
    std::vector<double> values_;  ///< A number, days, a truth, or the code of a text.
    TextIndex texts_;
    std::size_t counts_[5] = {};
};

/// Names as a header gives them, repaired: an empty one becomes `column_3`, a repeated one
/// `name_2`; each repair is a problem at `line`.
[[nodiscard]] std::vector<std::string> repairedNames(const std::vector<std::string>& found,
                                                     std::size_t line, Import& import);

}  // namespace rapporto
