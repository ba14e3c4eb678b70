#include "core/left/column_relation.h"

#include <algorithm>
#include <limits>
#include <optional>

namespace rapporto {
namespace {

/// Rows worked on together: their columns stay in the cache.
constexpr std::size_t kBlock = 1024;

class TableStream : public RowStream {
  public:
    TableStream(std::shared_ptr<const Table> table, std::shared_ptr<const NumbersOfTexts> numbers,
                RowRange range)
        : table_(std::move(table)),
          numbers_(std::move(numbers)),
          to_(range.begin),
          end_(range.end),
          texts_(table_->columns.size()),
          ready_(table_->columns.size(), false) {}

    bool next() override {
        from_ = to_;
        to_ = std::min(end_, from_ + kBlock);
        rows_ = to_ - from_;
        ready_.assign(ready_.size(), false);
        return rows_ > 0;
    }

    const double* column(std::size_t place) override {
        const Column& column = table_->columns[place];
        if (!column.isText()) {
            return column.numbers().data() + from_;
        }
        std::vector<double>& out = texts_[place];
        if (!ready_[place]) {
            const auto codes = column.codes().subspan(from_, rows_);
            const std::vector<double>& numbers = (*numbers_)[place];
            out.resize(rows_);
            std::transform(codes.begin(), codes.end(), out.begin(), [&](std::int32_t code) {
                return code < 0 ? std::numeric_limits<double>::quiet_NaN()
                                : numbers[static_cast<std::size_t>(code)];
            });
            ready_[place] = true;
        }
        return out.data();
    }

  private:
    std::shared_ptr<const Table> table_;
    std::shared_ptr<const NumbersOfTexts> numbers_;
    std::size_t from_ = 0;
    std::size_t to_;
    std::size_t end_;
    std::vector<std::vector<double>> texts_;
    std::vector<bool> ready_;
};

class GroupedStream : public RowStream {
  public:
    GroupedStream(std::shared_ptr<const SummedGroups> rows, RowRange range)
        : all_(std::move(rows)), to_(range.begin), end_(range.end) {}

    bool next() override {
        from_ = to_;
        to_ = std::min(end_, from_ + kBlock);
        rows_ = to_ - from_;
        return rows_ > 0;
    }

    const double* column(std::size_t place) override { return all_->values[place].data() + from_; }

  private:
    std::shared_ptr<const SummedGroups> all_;
    std::size_t from_ = 0;
    std::size_t to_;
    std::size_t end_;
};

/// Some rows of a block, in order; each column is gathered when it is first asked for.
class Gathered : public BlockOfRows {
  public:
    void begin(BlockOfRows& of, const std::vector<std::uint32_t>* which, std::size_t columns) {
        of_ = &of;
        which_ = which;
        rows_ = which == nullptr ? of.rows() : which->size();
        values_.resize(columns);
        ready_.assign(columns, false);
    }

    const double* column(std::size_t place) override {
        const double* all = of_->column(place);
        if (which_ == nullptr) {
            return all;
        }
        std::vector<double>& out = values_[place];
        if (!ready_[place]) {
            out.resize(rows_);
            std::transform(which_->begin(), which_->end(), out.begin(),
                           [all](std::uint32_t row) { return all[row]; });
            ready_[place] = true;
        }
        return out.data();
    }

  private:
    BlockOfRows* of_ = nullptr;
    const std::vector<std::uint32_t>* which_ = nullptr;  ///< Null: all.
    std::vector<std::vector<double>> values_;
    std::vector<bool> ready_;
};

class SelectedStream : public RowStream {
  public:
    SelectedStream(std::unique_ptr<RowStream> from, const SelectedValues& what)
        : from_(std::move(from)), what_(what), whether_(*what.program), values_(*what.program) {}

    bool next() override {
        while (from_->next()) {
            const bool all = what_.where.empty() || choose();
            if (!all && which_.empty()) {
                continue;
            }
            gathered_.begin(*from_, all ? nullptr : &which_, what_.program->columns().size());
            rows_ = gathered_.rows();
            values_.begin(gathered_);
            return true;
        }
        rows_ = 0;
        return false;
    }

    const double* column(std::size_t place) override { return values_.of(what_.steps[place]); }

  private:
    /// @return true where the condition holds for every row.
    bool choose() {
        whether_.begin(*from_);
        const double* holds = whether_.of(what_.where.front());
        which_.clear();
        for (std::size_t i = 0; i < from_->rows(); ++i) {
            if (holds[i] == 1.0) {
                which_.push_back(static_cast<std::uint32_t>(i));
            }
        }
        return which_.size() == from_->rows();
    }

    std::unique_ptr<RowStream> from_;
    SelectedValues what_;
    ColumnValues whether_;
    ColumnValues values_;
    std::vector<std::uint32_t> which_;
    Gathered gathered_;
};

class JoinedStream : public RowStream {
  public:
    JoinedStream(std::unique_ptr<RowStream> left, std::size_t leftColumn,
                 std::shared_ptr<const SummedGroups> right, std::shared_ptr<const ValuePlaces> rows,
                 std::size_t leftColumns)
        : left_(std::move(left)),
          by_(leftColumn),
          right_(std::move(right)),
          found_(std::move(rows)),
          leftColumns_(leftColumns),
          values_(right_->values.size()),
          ready_(right_->values.size(), false) {}

    bool next() override {
        while (left_->next()) {
            const double* by = left_->column(by_);
            which_.clear();
            partner_.clear();
            for (std::size_t i = 0; i < left_->rows(); ++i) {
                const std::uint32_t at = by[i] != by[i] ? ValuePlaces::kNone : found_->find(by[i]);
                if (at != ValuePlaces::kNone) {
                    which_.push_back(static_cast<std::uint32_t>(i));
                    partner_.push_back(at);
                }
            }
            if (!which_.empty()) {
                gathered_.begin(*left_, which_.size() == left_->rows() ? nullptr : &which_,
                                leftColumns_);
                ready_.assign(ready_.size(), false);
                rows_ = which_.size();
                return true;
            }
        }
        rows_ = 0;
        return false;
    }

    const double* column(std::size_t place) override {
        if (place < leftColumns_) {
            return gathered_.column(place);
        }
        const std::size_t own = place - leftColumns_;
        std::vector<double>& out = values_[own];
        if (!ready_[own]) {
            out.resize(rows_);
            std::transform(partner_.begin(), partner_.end(), out.begin(),
                           [&](std::uint32_t row) { return right_->values[own][row]; });
            ready_[own] = true;
        }
        return out.data();
    }

  private:
    std::unique_ptr<RowStream> left_;
    std::size_t by_;
    std::shared_ptr<const SummedGroups> right_;
    std::shared_ptr<const ValuePlaces> found_;
    std::size_t leftColumns_;
    std::vector<std::uint32_t> which_;
    std::vector<std::uint32_t> partner_;
    Gathered gathered_;
    std::vector<std::vector<double>> values_;
    std::vector<bool> ready_;
};

}  // namespace

std::uint32_t ValuePlaces::add(double value, std::uint32_t next) {
    const auto at = static_cast<std::size_t>(value >= 0.0 && value < kDirect ? value : kDirect);
    if (at < kDirect && static_cast<double>(at) == value) {
        if (at >= direct_.size()) {
            direct_.resize(std::max(at + 1, 2 * direct_.size()), kNone);
        }
        direct_[at] = direct_[at] == kNone ? next : direct_[at];
        return direct_[at];
    }
    return others_.try_emplace(bitsOf(value), next).first->second;
}

ColumnRelation relationOf(std::shared_ptr<const Table> table, const std::string& name,
                          std::shared_ptr<const NumbersOfTexts> numbers) {
    ColumnRelation out;
    for (const Column& column : table->columns) {
        out.columns.push_back({name, column.name(), column.isText()});
    }
    out.rows = table->rows();
    out.open = [table = std::move(table), numbers = std::move(numbers)](RowRange range) {
        return std::make_unique<TableStream>(table, numbers, range);
    };
    return out;
}

ColumnRelation relationOf(std::shared_ptr<const SummedGroups> rows, const std::string& name) {
    ColumnRelation out;
    out.columns = rows->columns;
    for (StatementColumn& column : out.columns) {
        column.of = name;
    }
    out.rows = rows->rows;
    out.open = [rows = std::move(rows)](RowRange range) {
        return std::make_unique<GroupedStream>(rows, range);
    };
    return out;
}

ColumnRelation selectedFrom(ColumnRelation from, SelectedValues values,
                            std::vector<StatementColumn> names) {
    ColumnRelation out;
    out.columns = std::move(names);
    out.rows = from.rows;
    out.open = [from = std::move(from), values = std::move(values)](RowRange range) {
        return std::make_unique<SelectedStream>(from.open(range), values);
    };
    return out;
}

ColumnRelation joinedWith(ColumnRelation left, std::size_t leftColumn,
                          std::shared_ptr<const SummedGroups> right, std::size_t rightColumn) {
    ColumnRelation out;
    out.columns = left.columns;
    out.columns.insert(out.columns.end(), right->columns.begin(), right->columns.end());
    out.rows = left.rows;
    auto rows = std::make_shared<ValuePlaces>();
    for (std::size_t i = 0; i < right->rows; ++i) {
        rows->add(right->values[rightColumn][i], static_cast<std::uint32_t>(i));
    }
    out.open = [left = std::move(left), leftColumn, right = std::move(right),
                rows = std::move(rows)](RowRange range) {
        return std::make_unique<JoinedStream>(left.open(range), leftColumn, right, rows,
                                              left.columns.size());
    };
    return out;
}

}  // namespace rapporto
