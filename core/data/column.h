#pragma once

#include "core/base/compiled_once.h"

#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <variant>
#include <vector>

namespace rapporto {

/// A named column: numbers, or codes into a list of texts. Immutable and a regular value: a copy
/// costs O(1) and shares the cells.
///
/// A missing number is a quiet NaN and a missing text the code −1, and nothing else is; an
/// infinity never gets in.
class Column {
  public:
    [[nodiscard]] static Column ofNumbers(std::string name, std::vector<double> cells);

    /// The first `size` of `cells`, shared.
    [[nodiscard]] static Column ofNumbers(std::string name, std::shared_ptr<const double[]> cells,
                                          std::size_t size);

    /// @param codes  indices into `texts`, or −1.
    [[nodiscard]] static Column ofTexts(std::string name, std::vector<std::int32_t> codes,
                                        std::vector<std::string> texts);

    /// The first `size` of `codes`, shared.
    [[nodiscard]] static Column ofTexts(std::string name,
                                        std::shared_ptr<const std::int32_t[]> codes,
                                        std::size_t size, std::vector<std::string> texts);

    [[nodiscard]] const std::string& name() const { return name_; }

    [[nodiscard]] bool isText() const { return texts_ != nullptr; }

    [[nodiscard]] std::size_t size() const { return size_; }

    /// The numbers, valid while any copy lives; empty for a text column.
    [[nodiscard]] std::span<const double> numbers() const;

    /// The codes, valid while any copy lives; empty for a number column.
    [[nodiscard]] std::span<const std::int32_t> codes() const;

    /// The distinct texts that the codes point to.
    [[nodiscard]] const std::vector<std::string>& texts() const;

    [[nodiscard]] bool isMissing(std::size_t row) const;

    [[nodiscard]] std::size_t countMissing() const;

    [[nodiscard]] Column renamed(std::string name) const;

    /// True when both share the same cells (no comparison of content).
    [[nodiscard]] bool sharesCellsWith(const Column& other) const;

  private:
    Column() = default;

    std::string name_;
    std::size_t size_ = 0;
    std::shared_ptr<const double[]> cells_;
    std::shared_ptr<const std::int32_t[]> codes_;
    std::shared_ptr<const std::vector<std::string>> texts_;
};

/// What kind of thing a variable measures; decides how it enters a model and a picture.
enum class Measure : std::uint8_t { Quantity, Count, YesNo, Groups, OrderedGroups, Date, Text };

/// "quantity", "count", "yes-no", "groups", "ordered-groups", "date", "text": as the study file
/// has.
[[nodiscard]] std::string measureName(Measure measure);
[[nodiscard]] bool isGrouping(Measure measure);

/// A value as a study file names it: a number or a text.
using Key = std::variant<double, std::string>;

[[nodiscard]] std::string keyText(const Key& key);

struct Level {
    Key value;
    std::string label;  ///< Empty: shown as its value.

    friend bool operator==(const Level&, const Level&) = default;
};

/// Numbers from `low` to `high`, both included.
struct KeyRange {
    double low = 0.0;
    double high = 0.0;

    friend bool operator==(const KeyRange&, const KeyRange&) = default;
};

/// What is known about a column beside its cells.
struct Variable {
    RAPPORTO_COMPILED_ONCE(Variable);

    std::string name;
    std::string label;  ///< For people; empty: the name.
    std::string unit;
    Measure measure = Measure::Quantity;
    std::vector<Key> missing;  ///< Codes that mean “no answer”.
    std::vector<KeyRange> missingRanges;
    std::vector<Level> levels;  ///< Of groups, in their order; empty: as found in the cells.
    std::vector<Key> base;      ///< The base level of groups; at most one.
    std::string note;
    std::string expression;  ///< Of a derived variable; empty for a column of the source.

    [[nodiscard]] const std::string& shown() const { return label.empty() ? name : label; }

    friend bool operator==(const Variable&, const Variable&) = default;
};

/// Columns of one length with what is known of each. Row i of the table is row i + 1 of the source.
struct Table {
    std::vector<Column> columns;
    std::vector<Variable> variables;  ///< As many as columns, same order, same names.

    [[nodiscard]] std::size_t rows() const { return columns.empty() ? 0 : columns.front().size(); }

    /// Index of a name, or −1.
    [[nodiscard]] int find(const std::string& name) const;
};

/// Days since 1970-01-01 as ISO 8601 text.
[[nodiscard]] std::string dateText(double days);

/// One cell for people: number, label of a level, date; empty when missing.
[[nodiscard]] std::string cellText(const Column& column, const Variable& variable, std::size_t row);

}  // namespace rapporto
