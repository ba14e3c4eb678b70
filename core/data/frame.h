#pragma once

#include "core/base/compiled_once.h"
#include "core/base/result.h"
#include "core/data/column.h"
#include "core/data/layout.h"
#include "core/data/moments.h"
#include "core/expression/expression.h"

#include <map>
#include <memory>
#include <optional>

namespace rapporto {

/// A variable computed from others.
struct Derived {
    std::string name;
    std::string expression;
    std::string label;

    friend bool operator==(const Derived&, const Derived&) = default;
};

struct SetAside {
    std::size_t row = 0;  ///< From 1, of the source.
    std::string reason;

    friend bool operator==(const SetAside&, const SetAside&) = default;
};

/// Something odd about the data that a person has looked at and lets stand.
struct AcceptedOddity {
    std::string odd;  ///< Its id.
    std::string reason;

    friend bool operator==(const AcceptedOddity&, const AcceptedOddity&) = default;
};

/// Which rows a study speaks about.
struct Sample {
    std::string where;  ///< A condition; empty: all rows.
    std::vector<SetAside> setAside;
    std::vector<AcceptedOddity> accepted = {};

    friend bool operator==(const Sample&, const Sample&) = default;
};

/// A value that is read as another: one level spelled twice.
struct ReadAs {
    Key from;
    Key to;

    friend bool operator==(const ReadAs&, const ReadAs&) = default;
};

/// What a person said about a variable, where it differs from what the import found.
struct VariableEntry {
    RAPPORTO_COMPILED_ONCE(VariableEntry);

    std::string name;
    std::optional<std::string> label;
    std::optional<std::string> unit;
    std::optional<std::string> note;
    std::optional<Measure> measure;
    std::optional<std::vector<Key>> missing;
    std::optional<std::vector<KeyRange>> missingRanges;
    std::optional<std::vector<Level>> levels;
    std::optional<Key> base;
    std::optional<std::vector<ReadAs>> readAs = {};

    friend bool operator==(const VariableEntry&, const VariableEntry&) = default;
};

enum class RowState : std::uint8_t { In, SetAside, ByRule };

class LeftTable;

/// A table made ready: missing codes applied, derived variables computed, rows marked. Immutable;
/// columns that need no change share the table's cells.
class Frame {
  public:
    /// A derived variable that cannot be computed is left out and its refusal kept (`broken`); so
    /// is the sample rule's (`ruleRefusal`), in which case no row is removed by rule.
    [[nodiscard]] static Frame make(const Table& table, const std::vector<VariableEntry>& entries,
                                    const std::vector<Derived>& derived, const Sample& sample,
                                    const Layout& layout);

    /// A frame without rows of its own: variables of which only moments are known. Its table holds
    /// rows that have these moments, for computation alone; they are not observations.
    [[nodiscard]] static Frame ofMoments(std::shared_ptr<const SummaryMatrix> moments,
                                         const std::vector<VariableEntry>& entries);

    /// A frame whose rows stay with an engine. Its table holds rows that stand in for them, of the
    /// same columns and levels, so that names, measures and derived variables are what they are;
    /// their cells are no observations and are never shown.
    [[nodiscard]] static Frame ofLeft(std::shared_ptr<const LeftTable> left, const Table& standIn,
                                      double rows, const std::vector<VariableEntry>& entries,
                                      const std::vector<Derived>& derived, const Layout& layout);

    /// Null where the rows are at hand.
    [[nodiscard]] const std::shared_ptr<const LeftTable>& left() const { return left_; }

    /// The same frame, which no question may be asked of for this reason.
    [[nodiscard]] Frame refusedFor(Refusal refusal) const;

    [[nodiscard]] const std::optional<Refusal>& refusal() const { return refusal_; }

    /// The same frame with one variable more, which nothing of the study knows.
    [[nodiscard]] Frame with(Column column) const;

    /// The same rows with columns of the table in place of those of the same names; what is derived
    /// is worked out anew, and rows stay in the sample or out of it as they are.
    [[nodiscard]] Frame filled(const std::vector<Column>& columns,
                               const std::vector<VariableEntry>& entries,
                               const std::vector<Derived>& derived) const;

    /// Null where rows are at hand. Where they stay with an engine it tells their number alone.
    [[nodiscard]] const SummaryMatrix* moments() const { return moments_.get(); }

    [[nodiscard]] std::size_t rows() const { return table_.rows(); }

    /// Source columns first, then derived ones.
    [[nodiscard]] const Table& table() const { return table_; }

    [[nodiscard]] const std::vector<RowState>& states() const { return states_; }

    [[nodiscard]] std::size_t count(RowState state) const;

    [[nodiscard]] const Layout& layout() const { return layout_; }

    /// The rows in time, worked out when first asked for. From any thread.
    [[nodiscard]] const Result<TimeOrder>& timeOrder() const;

    [[nodiscard]] const std::map<std::string, Refusal>& broken() const { return broken_; }

    [[nodiscard]] const std::optional<Refusal>& ruleRefusal() const { return ruleRefusal_; }

    /// What is odd about the data and was let stand.
    [[nodiscard]] const std::vector<AcceptedOddity>& accepted() const { return accepted_; }

    /// Rows where a derived variable had no value though its parts did (ln of zero, …).
    [[nodiscard]] std::size_t undefinedIn(const std::string& derived) const;

    /// Why a derived variable has no value in some rows, by cause.
    [[nodiscard]] std::vector<Loss> lossesIn(const std::string& derived) const;

    /// The refusal of a broken derived variable that `names` needs, if any.
    [[nodiscard]] std::optional<Refusal> brokenAmong(const std::set<std::string>& names) const;

    [[nodiscard]] Scope scope() const;

    /// Parses and evaluates; broken derived variables are named as the cause.
    [[nodiscard]] Result<Evaluated> evaluateText(const std::string& expression) const;

    /// What is known of `name`, or null.
    [[nodiscard]] const Variable* variable(const std::string& name) const;
    [[nodiscard]] const Column* column(const std::string& name) const;

  private:
    Table table_;
    std::map<std::string, std::size_t> index_;
    std::vector<RowState> states_;
    Layout layout_;
    std::map<std::string, Refusal> broken_;
    std::map<std::string, std::vector<Loss>> losses_;
    struct LazyOrder;
    std::shared_ptr<LazyOrder> order_;
    std::optional<Refusal> ruleRefusal_;
    std::vector<AcceptedOddity> accepted_;
    std::optional<Refusal> refusal_;
    std::shared_ptr<const SummaryMatrix> moments_;
    std::shared_ptr<const LeftTable> left_;
};

/// The levels of a grouping variable that occur in `rows` (all when empty), in the variable's
/// order: as listed, else numbers ascending and texts by code point. Pairs of cell key and label.
struct FoundLevel {
    double code = 0.0;  ///< The number, or the text's code.
    std::string label;  ///< The level's label, else its value.
    std::string value;  ///< The value as text.
    std::size_t count = 0;
};

[[nodiscard]] std::vector<FoundLevel> levelsOf(const Column& column, const Variable& variable,
                                               const std::vector<std::size_t>& rows = {});

}  // namespace rapporto
