#include "core/data/frame.h"

#include "core/base/format.h"
#include "core/base/shown_names.h"

#include <algorithm>
#include <cmath>
#include <mutex>
#include <numeric>
#include <unordered_map>

namespace rapporto {

RAPPORTO_COMPILED_HERE(VariableEntry);

namespace {

Column withoutCodes(const Column& column, const std::vector<Key>& codes,
                    const std::vector<KeyRange>& ranges) {
    if (codes.empty() && (ranges.empty() || column.isText())) {
        return column;
    }
    if (column.isText()) {
        std::vector<bool> drop(column.texts().size(), false);
        for (std::size_t i = 0; i < drop.size(); ++i) {
            drop[i] = std::any_of(codes.begin(), codes.end(), [&](const Key& key) {
                return keyText(key) == column.texts()[i];
            });
        }
        std::vector<std::int32_t> cells(column.codes().begin(), column.codes().end());
        for (auto& code : cells) {
            code = code >= 0 && drop[static_cast<std::size_t>(code)] ? -1 : code;
        }
        return Column::ofTexts(column.name(), std::move(cells), column.texts());
    }
    std::vector<double> cells(column.numbers().begin(), column.numbers().end());
    for (const Key& key : codes) {
        if (const double* code = std::get_if<double>(&key)) {
            std::replace(cells.begin(), cells.end(), *code, std::nan(""));
        }
    }
    for (const KeyRange& range : ranges) {
        std::replace_if(
            cells.begin(), cells.end(), [&](double x) { return x >= range.low && x <= range.high; },
            std::nan(""));
    }
    return Column::ofNumbers(column.name(), std::move(cells));
}

/// Values that a person had read as others. A text that stands for none of the levels there makes
/// one of its own.
Column readAsTold(const Column& column, const std::vector<VariableEntry>& entries) {
    const auto entry = std::find_if(entries.begin(), entries.end(), [&](const VariableEntry& e) {
        return e.name == column.name() && e.readAs && !e.readAs->empty();
    });
    if (entry == entries.end()) {
        return column;
    }
    if (!column.isText()) {
        std::vector<double> cells(column.numbers().begin(), column.numbers().end());
        for (double& cell : cells) {
            for (const ReadAs& one : *entry->readAs) {
                const auto* from = std::get_if<double>(&one.from);
                const auto* to = std::get_if<double>(&one.to);
                if (from != nullptr && to != nullptr && cell == *from) {
                    cell = *to;
                    break;
                }
            }
        }
        return Column::ofNumbers(column.name(), std::move(cells));
    }
    std::vector<std::string> texts = column.texts();
    std::vector<std::int32_t> becomes(texts.size());
    std::iota(becomes.begin(), becomes.end(), 0);
    for (const ReadAs& one : *entry->readAs) {
        const auto from = std::find(texts.begin(), texts.end(), keyText(one.from));
        auto to = std::find(texts.begin(), texts.end(), keyText(one.to));
        if (from == texts.end()) {
            continue;
        }
        const auto place = static_cast<std::size_t>(from - texts.begin());
        if (to == texts.end()) {
            texts.push_back(keyText(one.to));
            becomes.push_back(static_cast<std::int32_t>(texts.size() - 1));
            to = texts.end() - 1;
        }
        becomes[place] = static_cast<std::int32_t>(to - texts.begin());
    }
    // What is read as something that is itself read as another goes all the way, in a few steps.
    for (std::size_t step = 0; step < entry->readAs->size(); ++step) {
        for (std::int32_t& code : becomes) {
            code = becomes[static_cast<std::size_t>(code)];
        }
    }
    std::vector<std::int32_t> codes(column.codes().begin(), column.codes().end());
    for (std::int32_t& code : codes) {
        code = code < 0 ? code : becomes[static_cast<std::size_t>(code)];
    }
    return Column::ofTexts(column.name(), std::move(codes), std::move(texts));
}

Variable described(Variable variable, const std::vector<VariableEntry>& entries) {
    const auto entry = std::find_if(entries.begin(), entries.end(), [&](const VariableEntry& e) {
        return e.name == variable.name;
    });
    if (entry == entries.end()) {
        return variable;
    }
    variable.label = entry->label.value_or(variable.label);
    variable.unit = entry->unit.value_or(variable.unit);
    variable.note = entry->note.value_or(variable.note);
    variable.measure = entry->measure.value_or(variable.measure);
    variable.missing = entry->missing.value_or(variable.missing);
    variable.missingRanges = entry->missingRanges.value_or(variable.missingRanges);
    variable.levels = entry->levels.value_or(variable.levels);
    if (entry->base) {
        variable.base = {*entry->base};
    }
    return variable;
}

Measure measureOfDerived(const Evaluated& value) {
    if (value.measure) {
        return *value.measure;
    }
    if (value.column.isText()) {
        return Measure::Groups;
    }
    return value.isTruth ? Measure::YesNo : Measure::Quantity;
}

/// It calls a function of the rows in time, which reads the layout’s unit and time too.
bool readsOrder(const Node& node) {
    const auto& functions = columnFunctions();
    return (node.kind == Node::Kind::Call && std::any_of(functions.begin(), functions.end(),
                                                         [&](const ColumnFunction& one) {
                                                             return one.needsLayout &&
                                                                    node.text == one.name;
                                                         })) ||
           std::any_of(node.children.begin(), node.children.end(),
                       [](const auto& child) { return child != nullptr && readsOrder(*child); });
}

/// Derived variables in an order in which each finds its parts; a circle is refused by its path.
class DerivedOrder {
  public:
    DerivedOrder(const std::vector<Derived>& all, const Layout& layout)
        : all_(all), layout_(layout), state_(all.size(), 0) {
        for (std::size_t i = 0; i < all.size(); ++i) {
            places_[all[i].name].push_back(i);
        }
        for (std::size_t i = 0; i < all.size(); ++i) {
            visit(i);
        }
    }

    std::vector<std::size_t> order;
    std::map<std::string, Refusal> refused;  ///< What stands in a circle, or at the end of a chain.

  private:
    static constexpr std::size_t kLongestChain = 1000;  // The stack holds many times more.

    void visit(std::size_t i) {
        if (state_[i] != 0) {
            return;
        }
        if (path_.size() >= kLongestChain) {
            refused.emplace(all_[i].name,
                            Refusal{ErrorCode::TooLarge,
                                    "it stands behind " + std::to_string(path_.size()) +
                                        " definitions that each need the next",
                                    all_[i].name,
                                    "Bring what the first of them says into fewer.",
                                    {all_[i].name}});
            state_[i] = 2;
            return;
        }
        state_[i] = 1;
        path_.push_back(i);
        if (const auto parsed = Expression::parse(all_[i].expression)) {
            std::set<std::string> names = parsed->names();
            if (readsOrder(parsed->root())) {
                names.insert({layout_.unit, layout_.time});
            }
            for (const std::string& name : names) {
                const auto places = places_.find(name);
                if (places == places_.end()) {
                    continue;
                }
                for (const std::size_t j : places->second) {
                    state_[j] == 1 ? refuseCircle(j) : visit(j);
                }
            }
        }
        path_.pop_back();
        state_[i] = 2;
        order.push_back(i);
    }

    void refuseCircle(std::size_t start) {
        const auto from = std::find(path_.begin(), path_.end(), start);
        std::string path;
        for (auto it = from; it != path_.end(); ++it) {
            path += all_[*it].name + " → ";
        }
        path += all_[start].name;
        for (auto it = from; it != path_.end(); ++it) {
            refused.emplace(all_[*it].name, Refusal{ErrorCode::Circular,
                                                    "the definitions go in a circle: " + path,
                                                    all_[*it].name,
                                                    "Change one of them.",
                                                    {all_[*it].name}});
        }
    }

    const std::vector<Derived>& all_;
    const Layout& layout_;
    std::unordered_map<std::string, std::vector<std::size_t>> places_;
    std::vector<int> state_;
    std::vector<std::size_t> path_;
};

}  // namespace

Frame Frame::make(const Table& table, const std::vector<VariableEntry>& entries,
                  const std::vector<Derived>& derived, const Sample& sample, const Layout& layout) {
    Frame frame;
    frame.layout_ = layout;
    frame.accepted_ = sample.accepted;
    frame.order_ = std::make_shared<LazyOrder>();
    for (std::size_t i = 0; i < table.columns.size(); ++i) {
        Variable variable = described(table.variables[i], entries);
        frame.table_.columns.push_back(withoutCodes(readAsTold(table.columns[i], entries),
                                                    variable.missing, variable.missingRanges));
        frame.index_[variable.name] = i;
        frame.table_.variables.push_back(std::move(variable));
    }
    DerivedOrder order(derived, layout);
    frame.broken_ = order.refused;
    for (const std::size_t i : order.order) {
        const Derived& one = derived[i];
        if (frame.broken_.contains(one.name)) {
            continue;
        }
        auto value =
            frame.index_.contains(one.name)
                ? Result<Evaluated>(refuse(ErrorCode::BadSetting,
                                           "‘" + one.name + "’ already names another variable"))
                : frame.evaluateText(one.expression);
        if (!value) {
            Refusal refusal = value.error();
            refusal.where = one.name + (refusal.where.empty() ? "" : ", " + refusal.where);
            frame.broken_.emplace(one.name, refusal);
            continue;
        }
        frame.index_[one.name] = frame.table_.columns.size();
        Variable inferred;
        inferred.name = one.name;
        inferred.measure = measureOfDerived(*value);
        inferred.label = one.label;
        inferred.levels = value->levels;
        Variable variable = described(inferred, entries);
        variable.expression = one.expression;
        frame.table_.variables.push_back(variable);
        frame.table_.columns.push_back(value->column.renamed(one.name));
        frame.losses_[one.name] = value->losses;
    }
    frame.states_.assign(frame.rows(), RowState::In);
    if (!sample.where.empty()) {
        auto rule = frame.evaluateText(sample.where);
        if (rule && rule->column.isText()) {
            rule = refuse(ErrorCode::WrongType, "the rule is a text, not a condition");
        }
        if (rule) {
            for (std::size_t i = 0; i < frame.rows(); ++i) {
                // As in SQL: a row whose condition is unknown is not taken.
                const double value = rule->column.numbers()[i];
                frame.states_[i] =
                    std::isnan(value) || value == 0.0 ? RowState::ByRule : RowState::In;
            }
        } else {
            frame.ruleRefusal_ = rule.error();
            frame.ruleRefusal_->where =
                "the sample rule" + (rule.error().where.empty() ? "" : ", " + rule.error().where);
        }
    }
    for (const SetAside& one : sample.setAside) {
        if (one.row >= 1 && one.row <= frame.rows()) {
            frame.states_[one.row - 1] = RowState::SetAside;
        }
    }
    return frame;
}

Frame Frame::ofMoments(std::shared_ptr<const SummaryMatrix> moments,
                       const std::vector<VariableEntry>& entries) {
    std::vector<VariableEntry> words = entries;
    for (VariableEntry& entry : words) {
        entry.missing.reset();
        entry.missingRanges.reset();
        entry.measure.reset();
    }
    Frame frame = make(rowsWithMoments(*moments), words, {}, {}, {});
    frame.moments_ = std::move(moments);
    return frame;
}

Frame Frame::ofLeft(std::shared_ptr<const LeftTable> left, const Table& standIn, double rows,
                    const std::vector<VariableEntry>& entries, const std::vector<Derived>& derived,
                    const Layout& layout) {
    Frame frame = make(standIn, entries, derived, {}, layout);
    SummaryMatrix count;
    count.n = rows;
    frame.moments_ = std::make_shared<const SummaryMatrix>(std::move(count));
    frame.left_ = std::move(left);
    return frame;
}

Frame Frame::refusedFor(Refusal refusal) const {
    Frame out = *this;
    out.refusal_ = std::move(refusal);
    return out;
}

Frame Frame::filled(const std::vector<Column>& columns, const std::vector<VariableEntry>& entries,
                    const std::vector<Derived>& derived) const {
    Table table;
    for (std::size_t c = 0; c < table_.columns.size(); ++c) {
        const Variable& variable = table_.variables[c];
        if (!variable.expression.empty()) {
            continue;
        }
        const auto other = std::find_if(columns.begin(), columns.end(), [&](const Column& one) {
            return one.name() == variable.name;
        });
        table.columns.push_back(other == columns.end() ? table_.columns[c] : *other);
        table.variables.push_back(variable);
        // The cells are as they were told to be read: codes are gone already.
        table.variables.back().missing.clear();
        table.variables.back().missingRanges.clear();
    }
    std::vector<VariableEntry> words = entries;
    for (VariableEntry& entry : words) {
        entry.missing.reset();
        entry.missingRanges.reset();
        entry.readAs.reset();
    }
    Frame out = make(table, words, derived, {}, layout_);
    out.states_ = states_;
    out.ruleRefusal_ = ruleRefusal_;
    out.accepted_ = accepted_;
    out.refusal_ = refusal_;
    return out;
}

Frame Frame::with(Column column) const {
    Frame out = *this;
    Variable variable;
    variable.name = column.name();
    out.index_[variable.name] = out.table_.columns.size();
    out.table_.variables.push_back(std::move(variable));
    out.table_.columns.push_back(std::move(column));
    return out;
}

std::size_t Frame::count(RowState state) const {
    return static_cast<std::size_t>(std::count(states_.begin(), states_.end(), state));
}

std::size_t Frame::undefinedIn(const std::string& derived) const {
    std::size_t rows = 0;
    for (const Loss& loss : lossesIn(derived)) {
        rows += loss.rows;
    }
    return rows;
}

std::vector<Loss> Frame::lossesIn(const std::string& derived) const {
    const auto found = losses_.find(derived);
    return found == losses_.end() ? std::vector<Loss>{} : found->second;
}

struct Frame::LazyOrder {
    std::once_flag once;
    std::optional<Result<TimeOrder>> order;
};

const Result<TimeOrder>& Frame::timeOrder() const {
    std::call_once(order_->once, [this] { order_->order = orderRows(table_, layout_); });
    return *order_->order;
}

std::optional<Refusal> Frame::brokenAmong(const std::set<std::string>& names) const {
    for (const auto& name : names) {
        if (const auto found = broken_.find(name); found != broken_.end()) {
            return found->second;
        }
    }
    return std::nullopt;
}

Scope Frame::scope() const {
    Scope scope;
    scope.rows = rows();
    scope.timeOrder = [this]() -> const Result<TimeOrder>& { return timeOrder(); };
    for (const auto& [name, place] : index_) {
        scope.names.push_back(name);
    }
    scope.find = [this](const std::string& name) -> NamedColumn {
        const auto found = index_.find(name);
        return found == index_.end()
                   ? NamedColumn{}
                   : NamedColumn{&table_.columns[found->second], &table_.variables[found->second]};
    };
    return scope;
}

Result<Evaluated> Frame::evaluateText(const std::string& expression) const {
    const auto placed = [&](Refusal refusal) {
        refusal.where = "‘" + expression + "’, " + refusal.where;
        return tl::make_unexpected(std::move(refusal));
    };
    const auto evaluated = [&](const std::string& text) -> Result<Evaluated> {
        const auto parsed = Expression::parse(text);
        if (!parsed) {
            return placed(parsed.error());
        }
        if (const auto cause = brokenAmong(parsed->names())) {
            return tl::make_unexpected(*cause);
        }
        auto value = evaluate(*parsed, scope());
        return value ? std::move(value) : Result<Evaluated>(placed(value.error()));
    };
    auto value = evaluated(expression);
    // A name that has to be quoted is taken without its quotes, too, where it can be nothing else.
    return value || !index_.contains(expression) ? value : evaluated(quotedName(expression));
}

const Variable* Frame::variable(const std::string& name) const {
    const auto found = findNamed(index_, name);
    return found == index_.end() ? nullptr : &table_.variables[found->second];
}

const Column* Frame::column(const std::string& name) const {
    const auto found = findNamed(index_, name);
    return found == index_.end() ? nullptr : &table_.columns[found->second];
}

std::vector<FoundLevel> levelsOf(const Column& column, const Variable& variable,
                                 const std::vector<std::size_t>& rows) {
    const std::size_t n = rows.empty() ? column.size() : rows.size();
    const auto row = [&](std::size_t i) { return rows.empty() ? i : rows[i]; };
    std::vector<FoundLevel> found;
    if (column.isText()) {
        std::vector<std::size_t> counts(column.texts().size(), 0);
        for (std::size_t i = 0; i < n; ++i) {
            const std::int32_t code = column.codes()[row(i)];
            counts[static_cast<std::size_t>(std::max(code, 0))] += code >= 0 ? 1U : 0U;
        }
        for (std::size_t k = 0; k < counts.size(); ++k) {
            if (counts[k] > 0) {
                found.push_back(
                    {static_cast<double>(k), column.texts()[k], column.texts()[k], counts[k]});
            }
        }
        std::sort(found.begin(), found.end(),
                  [](const FoundLevel& a, const FoundLevel& b) { return a.value < b.value; });
    } else {
        std::map<double, std::size_t> counts;
        for (std::size_t i = 0; i < n; ++i) {
            const double x = column.numbers()[row(i)];
            if (!std::isnan(x)) {
                ++counts[x];
            }
        }
        for (const auto& [value, count] : counts) {
            found.push_back({value, exactNumber(value), exactNumber(value), count});
        }
    }
    // Listed levels come first, in their order, with their labels.
    std::vector<FoundLevel> ordered;
    for (const Level& level : variable.levels) {
        const auto it = std::find_if(found.begin(), found.end(), [&](const FoundLevel& f) {
            return f.value == keyText(level.value);
        });
        if (it != found.end()) {
            it->label = level.label.empty() ? it->label : level.label;
            ordered.push_back(*it);
            found.erase(it);
        }
    }
    ordered.insert(ordered.end(), found.begin(), found.end());
    return ordered;
}

}  // namespace rapporto
