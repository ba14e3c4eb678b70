#include "core/left/column_engine.h"

#include "core/base/format.h"
#include "core/left/row_sums.h"
#include "core/study/answer.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <map>

namespace rapporto {
namespace {

using Kind = StatementNode::Kind;

struct NamedSum {
    const char* name;
    SumKind kind;
};

constexpr std::array<NamedSum, 6> kSums = {{{"count", SumKind::Present},
                                            {"sum", SumKind::Sum},
                                            {"min", SumKind::Least},
                                            {"max", SumKind::Greatest},
                                            {"avg", SumKind::Mean},
                                            {"stddev_samp", SumKind::Spread}}};

const NamedSum* sumOf(const StatementNode& node) {
    const auto* at = std::find_if(kSums.begin(), kSums.end(),
                                  [&](const NamedSum& one) { return node.text == one.name; });
    return node.kind == Kind::Call && at != kSums.end() ? at : nullptr;
}

bool hasSum(const StatementNode& node) {
    return sumOf(node) != nullptr ||
           std::any_of(node.children.begin(), node.children.end(), &hasSum);
}

/// What a statement with sums needs of each row, and its values with names in place of the sums.
class Sums {
  public:
    Sums(const ColumnRelation& from, const Statement& statement, TextNumbers& texts)
        : program_(std::make_shared<ColumnProgram>(from.columns, texts)), statement_(statement) {}

    /// Adds up, and gives the groups with columns “by 0”, “by 1”, “sum 0” …
    Result<SummedGroups> run(const ColumnRelation& from, const Job& job) {
        for (const StatementNode& by : statement_.groupBy) {
            const auto step = program_->add(by);
            if (!step) {
                return tl::make_unexpected(step.error());
            }
            sums_.by.push_back(*step);
            columns_.push_back(
                {"", fmt::format("by {}", columns_.size()), (*program_)[*step].text});
        }
        if (sums_.by.size() > kMostKeys) {
            return notAskedFor("groups by more than two values");
        }
        for (const Statement::Item& item : statement_.items) {
            auto told = replaced(item.value);
            if (!told) {
                return tl::make_unexpected(told.error());
            }
            values_.push_back(*std::move(told));
        }
        if (statement_.having) {
            auto told = replaced(*statement_.having);
            if (!told) {
                return tl::make_unexpected(told.error());
            }
            having_ = *std::move(told);
        }
        sums_.program = program_;
        auto out = addUp(from, sums_, job);
        if (out) {
            out->columns = columns_;
        }
        return out;
    }

    /// The items, of the groups.
    [[nodiscard]] const std::vector<StatementNode>& values() const { return values_; }

    [[nodiscard]] const std::optional<StatementNode>& having() const { return having_; }

  private:
    static constexpr std::size_t kMostKeys = 2;

    static StatementNode named(std::string name) {
        StatementNode out;
        out.kind = Kind::Column;
        out.text = std::move(name);
        return out;
    }

    Result<StatementNode> replaced(const StatementNode& node) {
        const auto by = std::find(statement_.groupBy.begin(), statement_.groupBy.end(), node);
        if (by != statement_.groupBy.end()) {
            return named(fmt::format("by {}", by - statement_.groupBy.begin()));
        }
        if (const NamedSum* sum = sumOf(node)) {
            return added(*sum, node);
        }
        StatementNode out = node;
        for (StatementNode& child : out.children) {
            auto told = replaced(child);
            if (!told) {
                return told;
            }
            child = *std::move(told);
        }
        return out;
    }

    Result<StatementNode> added(const NamedSum& of, const StatementNode& node) {
        RowSum sum;
        sum.kind = of.kind;
        if (node.distinct || node.children.size() != 1) {
            return notAskedFor("different values counted");
        }
        const StatementNode& inner = node.children.front();
        if (inner.kind == Kind::Star) {
            sum.kind = SumKind::Rows;
        } else if (inner.kind == Kind::Binary && inner.text == "*" && of.kind == SumKind::Sum) {
            const auto left = program_->add(inner.children[0]);
            const auto right = left ? program_->add(inner.children[1]) : left;
            if (!right) {
                return tl::make_unexpected(right.error());
            }
            sum.step = *left;
            sum.times = {*right};
        } else {
            const auto step = program_->add(inner);
            if (!step) {
                return tl::make_unexpected(step.error());
            }
            sum.step = *step;
            sum.text = (*program_)[*step].text;
        }
        sums_.sums.push_back(sum);
        const std::string name = fmt::format("sum {}", sums_.sums.size() - 1);
        columns_.push_back(
            {"", name, sum.text && (sum.kind == SumKind::Least || sum.kind == SumKind::Greatest)});
        return named(name);
    }

    std::shared_ptr<ColumnProgram> program_;
    const Statement& statement_;
    RowSums sums_;
    std::vector<StatementColumn> columns_;
    std::vector<StatementNode> values_;
    std::optional<StatementNode> having_;
};

}  // namespace

struct ColumnEngine::State {
    std::string name;
    std::shared_ptr<const Table> cells;
    std::shared_ptr<NumbersOfTexts> numbers;
    TextNumbers texts;
    ColumnRelation table;
    /// Groups by what they were asked for: means that several statements take off are worked out
    /// once.
    std::map<std::string, std::shared_ptr<const SummedGroups>> groups;

    /// Numbers the texts of columns that a statement reads from the table.
    void numberTexts(const Statement& statement) {
        for (const StatementSource* of :
             {&statement.from, statement.join ? &statement.join->source : nullptr}) {
            if (of != nullptr && of->inner) {
                numberTexts(*of->inner);
            }
        }
        if (statement.from.table != name) {
            return;
        }
        for (const Statement::Item& item : statement.items) {
            numberTexts(item.value);
        }
        for (const StatementNode& by : statement.groupBy) {
            numberTexts(by);
        }
        if (statement.where) {
            numberTexts(*statement.where);
        }
    }

    void numberTexts(const StatementNode& node) {
        for (std::size_t c = 0; c < cells->columns.size(); ++c) {
            const Column& column = cells->columns[c];
            const bool named = node.kind == Kind::Star ||
                               (node.kind == Kind::Column && node.text == column.name());
            if (!named || !column.isText() || !(*numbers)[c].empty()) {
                continue;
            }
            for (const std::string& text : column.texts()) {
                (*numbers)[c].push_back(texts.of(text));
            }
        }
        for (const StatementNode& child : node.children) {
            numberTexts(child);
        }
    }

    Result<ColumnRelation> source(const StatementSource& of, const Job& job) {
        auto out = of.inner ? relation(*of.inner, job)
                   : of.table == name
                       ? Result<ColumnRelation>(table)
                       : tl::make_unexpected(notAskedFor("‘" + of.table + "’").value());
        if (out && !of.alias.empty()) {
            for (StatementColumn& column : out->columns) {
                column.of = of.alias;
            }
        }
        return out;
    }

    Result<ColumnRelation> joined(ColumnRelation left, const Statement::Joined& with,
                                  const Job& job) {
        const auto right = source(with.source, job);
        if (!right) {
            return right;
        }
        auto rows = std::make_shared<const SummedGroups>(allOf(*right));
        const auto place = [](const ColumnRelation& in, const StatementNode& node) {
            const auto at =
                std::find_if(in.columns.begin(), in.columns.end(), [&](const StatementColumn& one) {
                    return one.name == node.text && one.of == node.of;
                });
            return static_cast<std::size_t>(at - in.columns.begin());
        };
        const std::size_t a = place(left, with.left);
        const std::size_t b = place(*right, with.right);
        if (a >= left.columns.size() || b >= right->columns.size()) {
            return notAskedFor("rows put together by more than a column");
        }
        return joinedWith(std::move(left), a, std::move(rows), b);
    }

    Result<ColumnRelation> relation(const Statement& statement, const Job& job) {
        if (const auto known = groups.find(statement.text); known != groups.end()) {
            return relationOf(known->second, "");
        }
        auto from = source(statement.from, job);
        if (from && statement.join) {
            from = joined(*std::move(from), *statement.join, job);
        }
        if (!from) {
            return from;
        }
        const bool adds = !statement.groupBy.empty() ||
                          std::any_of(statement.items.begin(), statement.items.end(),
                                      [](const auto& item) { return hasSum(item.value); });
        if (!adds) {
            return selected(*std::move(from), statement.items, {}, statement.where);
        }
        if (statement.where) {
            Statement::Item all;
            all.value.kind = Kind::Star;
            from = selected(*std::move(from), {all}, {}, statement.where);
            if (!from) {
                return from;
            }
        }
        Sums sums(*from, statement, texts);
        auto found = sums.run(*from, job);
        if (!found) {
            return tl::make_unexpected(found.error());
        }
        auto out = selected(relationOf(std::make_shared<const SummedGroups>(*std::move(found)), ""),
                            statement.items, sums.values(), sums.having());
        if (!out || statement.groupBy.empty()) {
            return out;
        }
        const auto kept = std::make_shared<const SummedGroups>(allOf(*out));
        groups[statement.text] = kept;
        return relationOf(kept, "");
    }

    /// The rows of a relation, which are few.
    static SummedGroups allOf(const ColumnRelation& relation) {
        SummedGroups out;
        out.columns = relation.columns;
        out.values.resize(relation.columns.size());
        const auto block = relation.open({0, relation.rows});
        while (block->next()) {
            out.rows += block->rows();
            for (std::size_t c = 0; c < out.values.size(); ++c) {
                const double* column = block->column(c);
                out.values[c].insert(out.values[c].end(), column, column + block->rows());
            }
        }
        return out;
    }

    /// @param values  in place of the items’ own; empty: theirs.
    Result<ColumnRelation> selected(ColumnRelation from, const std::vector<Statement::Item>& items,
                                    const std::vector<StatementNode>& values,
                                    const std::optional<StatementNode>& where) {
        auto program = std::make_shared<ColumnProgram>(from.columns, texts);
        SelectedValues out;
        std::vector<StatementColumn> names;
        const auto put = [&](const StatementNode& node, StatementColumn as) -> Result<void> {
            const auto step = program->add(node);
            if (!step) {
                return tl::make_unexpected(step.error());
            }
            as.text = (*program)[*step].text;
            out.steps.push_back(*step);
            names.push_back(std::move(as));
            return {};
        };
        for (std::size_t i = 0; i < items.size(); ++i) {
            const StatementNode& value = values.empty() ? items[i].value : values[i];
            if (value.kind != Kind::Star) {
                if (auto done = put(value, {"", items[i].name, false}); !done) {
                    return tl::make_unexpected(done.error());
                }
                continue;
            }
            for (const StatementColumn& column : from.columns) {
                StatementNode node;
                node.kind = Kind::Column;
                node.text = column.name;
                node.of = column.of;
                if (!value.of.empty() && value.of != column.of) {
                    continue;
                }
                if (auto done = put(node, column); !done) {
                    return tl::make_unexpected(done.error());
                }
            }
        }
        if (where) {
            const auto step = program->add(*where);
            if (!step) {
                return tl::make_unexpected(step.error());
            }
            out.where = {*step};
        }
        out.program = std::move(program);
        return selectedFrom(std::move(from), std::move(out), std::move(names));
    }

    /// The rows of a relation as they are told.
    Result<ServerRows> told(const ColumnRelation& relation, std::size_t most, const Job& job) {
        ServerRows out;
        for (const StatementColumn& column : relation.columns) {
            out.names.push_back(column.name);
        }
        const auto block = relation.open({0, relation.rows});
        while (out.rows.size() < most && block->next()) {
            if (job.stopped()) {
                return stoppedWork();
            }
            const std::size_t first = out.rows.size();
            const std::size_t count = std::min(most - first, block->rows());
            out.rows.resize(first + count);
            for (std::size_t c = 0; c < relation.columns.size(); ++c) {
                const double* values = block->column(c);
                for (std::size_t i = 0; i < count; ++i) {
                    out.rows[first + i].push_back(values[i] != values[i] ? std::nullopt
                                                  : relation.columns[c].text
                                                      ? std::optional(texts[values[i]])
                                                      : std::optional(exactNumber(values[i])));
                }
            }
        }
        return out;
    }
};

ColumnEngine::ColumnEngine(std::string name, std::shared_ptr<const Table> table)
    : state_(std::make_unique<State>()) {
    state_->cells = table;
    state_->numbers = std::make_shared<NumbersOfTexts>(table->columns.size());
    state_->table = relationOf(std::move(table), name, state_->numbers);
    state_->name = std::move(name);
}

ColumnEngine::~ColumnEngine() = default;

Result<ServerRows> ColumnEngine::ask(const std::string& sql, const Job& job) {
    const auto statement = parseStatement(sql);
    if (!statement) {
        return tl::make_unexpected(statement.error());
    }
    state_->numberTexts(*statement);
    const auto relation = state_->relation(*statement, job);
    if (!relation) {
        return tl::make_unexpected(relation.error());
    }
    return state_->told(*relation, statement->limit.value_or(std::size_t(-1)), job);
}

}  // namespace rapporto
