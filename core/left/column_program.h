#pragma once

#include "core/left/statement.h"

#include <cmath>
#include <cstdint>
#include <map>
#include <string>
#include <unordered_map>
#include <utility>
#include <vector>

namespace rapporto {

/// The refusal of what no question is asked in.
[[nodiscard]] tl::unexpected<Refusal> notAskedFor(const std::string& what);

/// Texts by number, for all columns and constants of an engine: two texts are the same where their
/// numbers are.
class TextNumbers {
  public:
    [[nodiscard]] double of(const std::string& text);

    [[nodiscard]] const std::string& operator[](double number) const {
        return texts_[static_cast<std::size_t>(number)];
    }

  private:
    std::vector<std::string> texts_;
    std::unordered_map<std::string, std::size_t> known_;
};

/// A column as a statement can name it.
struct StatementColumn {
    std::string of;
    std::string name;
    bool text = false;
};

/// Columns of one block of rows. Null is NaN; a truth is 1 or 0; a text is its number.
class BlockOfRows {
  public:
    BlockOfRows() = default;
    BlockOfRows(const BlockOfRows&) = delete;
    BlockOfRows& operator=(const BlockOfRows&) = delete;
    virtual ~BlockOfRows() = default;

    /// @return rows() numbers, valid until the block moves on.
    [[nodiscard]] virtual const double* column(std::size_t place) = 0;

    [[nodiscard]] std::size_t rows() const { return rows_; }

  protected:
    std::size_t rows_ = 0;
};

/// Values over the columns of a relation: equal ones are one step and are worked out once a block.
class ColumnProgram {
  public:
    enum class Does : std::uint8_t {
        Constant,
        Column,
        Add,
        Less,
        Times,
        Over,
        Negative,
        Equal,
        Unequal,
        Below,
        AtMost,
        TextBelow,
        TextAtMost,
        And,
        Or,
        Not,
        IsNull,
        Case,    ///< Conditions and values in turn, then what else there is.
        LookUp,  ///< The value of a number in a list, then what else there is.
        Power,
        Function,
        Least,
        Greatest,
        Coalesce,
        NullIf,
        NthOfPart,  ///< Which row of those with the same value.
    };

    using Function = double (*)(double);

    struct Step {
        Does does = Does::Constant;
        std::vector<std::uint32_t> of;
        double number = 0.0;                          ///< Of a constant; place of a column.
        Function function = nullptr;                  ///< Of one number.
        std::vector<std::pair<double, double>> list;  ///< In order of what is looked up.
        bool text = false;                            ///< The value is one.
    };

    ColumnProgram(std::vector<StatementColumn> columns, TextNumbers& texts)
        : columns_(std::move(columns)), texts_(&texts) {}

    /// Puts a value among the steps.
    ///
    /// @return its step, or Syntax.
    [[nodiscard]] Result<std::uint32_t> add(const StatementNode& node);

    [[nodiscard]] const Step& operator[](std::uint32_t step) const { return steps_[step]; }

    [[nodiscard]] std::size_t size() const { return steps_.size(); }

    [[nodiscard]] const std::vector<StatementColumn>& columns() const { return columns_; }

    [[nodiscard]] const TextNumbers& texts() const { return *texts_; }

  private:
    [[nodiscard]] Result<std::uint32_t> addColumn(const StatementNode& node);
    [[nodiscard]] Result<std::uint32_t> addBinary(const StatementNode& node);
    [[nodiscard]] std::uint32_t putBinary(const std::string& by, std::vector<std::uint32_t> of);
    [[nodiscard]] Result<std::uint32_t> addCall(const StatementNode& node);
    [[nodiscard]] Result<std::vector<std::uint32_t>> addAll(const StatementNode& node);
    [[nodiscard]] std::uint32_t put(Step step);
    [[nodiscard]] std::uint32_t putCase(std::vector<std::uint32_t> of);

    std::vector<StatementColumn> columns_;
    TextNumbers* texts_;
    std::vector<Step> steps_;
    std::map<std::string, std::uint32_t> known_;
};

/// Works out steps of a program over one block after the other; of one thread.
class ColumnValues {
  public:
    explicit ColumnValues(const ColumnProgram& program)
        : program_(program), values_(program.size()), ready_(program.size(), 0) {}

    /// From now on of this block.
    void begin(BlockOfRows& block);

    /// @return values of the block’s rows, valid until the next begin().
    [[nodiscard]] const double* of(std::uint32_t step);

  private:
    void work(const ColumnProgram::Step& step, double* out);
    void choose(const ColumnProgram::Step& step, double* out);
    void count(const ColumnProgram::Step& step, double* out);

    const ColumnProgram& program_;
    BlockOfRows* block_ = nullptr;
    std::vector<std::vector<double>> values_;
    std::vector<std::uint64_t> ready_;  ///< The turn that the value is of.
    std::uint64_t turn_ = 0;
    std::map<std::uint32_t, std::unordered_map<double, double>> seen_;  ///< Rows of each part.
};

}  // namespace rapporto
