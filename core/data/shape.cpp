#include "core/data/shape.h"

#include "core/base/format.h"
#include "core/data/grouping.h"
#include "core/data/text_index.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>

namespace rapporto {
namespace {

using Places = std::vector<std::int64_t>;  // Rows from 0; −1: no row, hence missing.

/// The cells of `rows`, in that order.
Column gathered(const Column& column, const Places& rows, std::string name) {
    if (column.isText()) {
        std::vector<std::int32_t> codes(rows.size());
        std::transform(rows.begin(), rows.end(), codes.begin(), [&](std::int64_t i) {
            return i < 0 ? -1 : column.codes()[static_cast<std::size_t>(i)];
        });
        return Column::ofTexts(std::move(name), std::move(codes), column.texts());
    }
    std::vector<double> cells(rows.size());
    std::transform(rows.begin(), rows.end(), cells.begin(), [&](std::int64_t i) {
        return i < 0 ? std::nan("") : column.numbers()[static_cast<std::size_t>(i)];
    });
    return Column::ofNumbers(std::move(name), std::move(cells));
}

/// `upper` above `lower`, both of one kind.
Column stacked(const Column& upper, const Column& lower) {
    if (upper.isText()) {
        TextIndex index;
        for (const std::string& text : upper.texts()) {
            index.add(text);
        }
        std::vector<std::int32_t> renumbered;
        for (const std::string& text : lower.texts()) {
            renumbered.push_back(index.add(text));
        }
        std::vector<std::int32_t> codes(upper.codes().begin(), upper.codes().end());
        for (const std::int32_t code : lower.codes()) {
            codes.push_back(code < 0 ? code : renumbered[static_cast<std::size_t>(code)]);
        }
        return Column::ofTexts(upper.name(), std::move(codes), index.take());
    }
    std::vector<double> cells(upper.numbers().begin(), upper.numbers().end());
    cells.insert(cells.end(), lower.numbers().begin(), lower.numbers().end());
    return Column::ofNumbers(upper.name(), std::move(cells));
}

Column missingColumn(const Column& like, std::size_t rows) {
    return gathered(like, Places(rows, -1), like.name());
}

std::string someCells(const Column& column, std::size_t most = 3) {
    std::vector<std::string> shown;
    for (std::size_t i = 0; i < column.size() && shown.size() < most; ++i) {
        if (!column.isMissing(i)) {
            const std::string cell =
                column.isText() ? column.texts()[static_cast<std::size_t>(column.codes()[i])]
                                : exactNumber(column.numbers()[i]);
            if (std::find(shown.begin(), shown.end(), "“" + cell + "”") == shown.end()) {
                shown.push_back("“" + cell + "”");
            }
        }
    }
    return joinedNames(shown);
}

tl::unexpected<Refusal> kindsDiffer(const std::string& name, const Column& here,
                                    const Column& there) {
    const bool text = there.isText();
    return refuse(ErrorCode::WrongType,
                  fmt::format("‘{}’ holds {} here and {} there ({})", name,
                              here.isText() ? "texts" : "numbers", text ? "texts" : "numbers",
                              someCells(text ? there : here)),
                  name, "Read both files alike: give words a missing code or mend the file.",
                  {name});
}

tl::unexpected<Refusal> unknownColumn(const Table& table, const std::string& name,
                                      const std::string& where) {
    std::vector<std::string> known;
    for (const Column& column : table.columns) {
        known.push_back(column.name());
    }
    const auto near = nearestName(name, known);
    return refuse(ErrorCode::UnknownName, "there is no column ‘" + name + "’ in " + where, {},
                  near ? "Did you mean ‘" + *near + "’?" : "", {name});
}

/// `name`, or `name_2`, … while it is taken.
std::string freeName(const Table& table, const std::string& name) {
    std::string free = name;
    for (int k = 2; table.find(free) >= 0; ++k) {
        free = fmt::format("{}_{}", name, k);
    }
    return free;
}

void add(Table& table, Column column, Variable variable) {
    variable.name = column.name();
    table.columns.push_back(std::move(column));
    table.variables.push_back(std::move(variable));
}

std::string rowsText(std::size_t count) { return plural(count, "row", "rows"); }

/// The rows grouped by several columns at once; rows that lack one are in no group.
Grouping groupByAll(const std::vector<const Column*>& columns) {
    Grouping groups = groupBy(*columns.front(), false);
    for (std::size_t k = 1; k < columns.size(); ++k) {
        groups = splitBy(groups, groupBy(*columns[k], false));
    }
    return groups;
}

std::string keyOfRow(const std::vector<const Column*>& columns,
                     const std::vector<const Variable*>& variables, std::size_t row) {
    std::vector<std::string> parts;
    for (std::size_t k = 0; k < columns.size(); ++k) {
        parts.push_back(cellText(*columns[k], *variables[k], row));
    }
    return joinedNames(parts);
}

/// First rows of each group in ascending order of the group's keys.
Places sortedFirstRows(const GroupedRows& groups, std::size_t count,
                       const std::vector<const Column*>& by) {
    Places first(count);
    for (std::size_t g = 0; g < count; ++g) {
        first[g] = groups.group(g).front();
    }
    std::sort(first.begin(), first.end(), [&](std::int64_t a, std::int64_t b) {
        const auto i = static_cast<std::size_t>(a);
        const auto j = static_cast<std::size_t>(b);
        for (const Column* column : by) {
            if (column->isText()) {
                const auto& x = column->texts()[static_cast<std::size_t>(column->codes()[i])];
                const auto& y = column->texts()[static_cast<std::size_t>(column->codes()[j])];
                if (x != y) {
                    return x < y;
                }
            } else if (column->numbers()[i] != column->numbers()[j]) {
                return column->numbers()[i] < column->numbers()[j];
            }
        }
        return a < b;
    });
    return first;
}

bool sameCell(const Column& column, std::size_t i, std::size_t j) {
    if (column.isText()) {
        return column.codes()[i] == column.codes()[j];
    }
    const double a = column.numbers()[i];
    const double b = column.numbers()[j];
    return a == b || (std::isnan(a) && std::isnan(b));
}

/// A pair of rows of one group whose cells differ.
std::optional<std::pair<std::size_t, std::size_t>> variation(const Column& column,
                                                             const Grouping& groups) {
    std::vector<std::int64_t> first(static_cast<std::size_t>(groups.count), -1);
    for (std::size_t i = 0; i < groups.of.size(); ++i) {
        if (groups.of[i] < 0) {
            continue;
        }
        std::int64_t& start = first[static_cast<std::size_t>(groups.of[i])];
        if (start < 0) {
            start = static_cast<std::int64_t>(i);
        } else if (!sameCell(column, static_cast<std::size_t>(start), i)) {
            return std::pair{static_cast<std::size_t>(start), i};
        }
    }
    return std::nullopt;
}

/// `node` with every aggregate cut by the groups, unless it says itself over what it goes.
std::shared_ptr<const Node> perGroup(const std::shared_ptr<const Node>& node,
                                     const std::vector<std::string>& by) {
    if (node->kind == Node::Kind::Over) {
        return node;
    }
    auto copy = std::make_shared<Node>(*node);
    for (auto& child : copy->children) {
        child = perGroup(child, by);
    }
    const auto& known = columnFunctions();
    const bool aggregate = node->kind == Node::Kind::Call &&
                           std::any_of(known.begin(), known.end(), [&](const auto& f) {
                               return f.partitions && node->text == f.name;
                           });
    if (!aggregate) {
        return copy;
    }
    auto over = std::make_shared<Node>();
    over->kind = Node::Kind::Over;
    over->text = "over";
    over->position = node->position;
    over->children.push_back(copy);
    for (const std::string& name : by) {
        auto part = std::make_shared<Node>();
        part->kind = Node::Kind::Name;
        part->text = name;
        part->position = node->position;
        over->children.push_back(part);
    }
    return over;
}

/// What a collapsed column is called and measured in when nothing was said.
Variable collapsedVariable(const Derived& column, const Expression& expression,
                           const Evaluated& value, const Frame& frame) {
    Variable v;
    v.name = column.name;
    v.label = column.label;
    v.measure = value.measure.value_or(value.column.isText() ? Measure::Groups : Measure::Quantity);
    v.levels = value.levels;
    const Node& root = expression.root();
    const bool ofOne = root.kind == Node::Kind::Call && root.children.size() == 1 &&
                       root.children.front()->kind == Node::Kind::Name;
    const Variable* source = ofOne ? frame.variable(root.children.front()->text)
                             : root.kind == Node::Kind::Name ? frame.variable(root.text)
                                                             : nullptr;
    if (root.kind == Node::Kind::Call && root.text == "count") {
        v.measure = Measure::Count;
    } else if (source != nullptr) {
        v.unit = source->unit;
        if (root.kind == Node::Kind::Name) {
            v = *source;
            v.name = column.name;
        } else if (v.label.empty()) {
            v.label = root.text + " of " + source->shown();
        }
    }
    return v;
}

}  // namespace

Result<Shaped> appendRows(const Table& here, const Table& below, const std::string& mark,
                          const std::pair<std::string, std::string>& names) {
    Shaped out;
    std::vector<std::string> onlyHere;
    std::vector<std::string> onlyBelow;
    for (std::size_t j = 0; j < here.columns.size(); ++j) {
        const Column& upper = here.columns[j];
        const int at = below.find(upper.name());
        if (at < 0) {
            onlyHere.push_back(upper.name());
            add(out.table, stacked(upper, missingColumn(upper, below.rows())), here.variables[j]);
            continue;
        }
        const Column& lower = below.columns[static_cast<std::size_t>(at)];
        // A column without any cell goes with everything.
        const bool lowerEmpty = lower.countMissing() == lower.size();
        const bool upperEmpty = upper.countMissing() == upper.size();
        if (upper.isText() != lower.isText() && !lowerEmpty && !upperEmpty) {
            return kindsDiffer(upper.name(), upper, lower);
        }
        const bool alike = upper.isText() == lower.isText();
        const Column& kind = upperEmpty && !alike ? lower : upper;
        add(out.table,
            stacked(alike || !upperEmpty ? upper : missingColumn(kind, here.rows()),
                    alike || upperEmpty ? lower : missingColumn(kind, below.rows())),
            upperEmpty && !alike ? below.variables[static_cast<std::size_t>(at)]
                                 : here.variables[j]);
        Variable& v = out.table.variables.back();
        const Variable& other = below.variables[static_cast<std::size_t>(at)];
        for (const Level& level : other.levels) {
            const bool known = std::any_of(v.levels.begin(), v.levels.end(),
                                           [&](const Level& l) { return l.value == level.value; });
            if (!known && !v.levels.empty()) {
                v.levels.push_back(level);
            }
        }
    }
    for (std::size_t j = 0; j < below.columns.size(); ++j) {
        const Column& lower = below.columns[j];
        if (here.find(lower.name()) < 0) {
            onlyBelow.push_back(lower.name());
            add(out.table, stacked(missingColumn(lower, here.rows()), lower), below.variables[j]);
        }
    }
    if (!mark.empty()) {
        if (out.table.find(mark) >= 0) {
            return refuse(ErrorCode::BadSetting, "there is a column ‘" + mark + "’ already", {},
                          "Give the mark another name.", {mark});
        }
        std::vector<std::int32_t> codes(here.rows() + below.rows(), 1);
        std::fill_n(codes.begin(), here.rows(), 0);
        const bool same = names.first == names.second;
        Variable v;
        v.measure = Measure::Groups;
        v.label = "from which table";
        add(out.table,
            Column::ofTexts(mark, std::move(codes),
                            {names.first, same ? names.second + " (2)" : names.second}),
            v);
    }
    out.facts.push_back(fmt::format("{} and {} make {}", rowsText(here.rows()),
                                    rowsText(below.rows()), rowsText(out.table.rows())));
    if (!onlyHere.empty()) {
        out.facts.push_back("only above: " + joinedNames(onlyHere));
    }
    if (!onlyBelow.empty()) {
        out.facts.push_back("only below: " + joinedNames(onlyBelow));
    }
    if (onlyHere.empty() && onlyBelow.empty()) {
        out.facts.push_back("both have the same columns");
    }
    return out;
}

Result<Shaped> joinColumns(const Table& here, const Table& there, const std::vector<KeyPair>& by,
                           const std::vector<std::string>& take) {
    if (by.empty()) {
        return refuse(ErrorCode::BadSetting, "a join needs a key", {},
                      "Name the variable that both tables share.");
    }
    std::vector<Column> keys;  // Both tables' keys, one above the other.
    std::vector<const Column*> hereKeys;
    std::vector<const Column*> thereKeys;
    std::vector<const Variable*> hereVariables;
    std::vector<const Variable*> thereVariables;
    for (const KeyPair& pair : by) {
        const int a = here.find(pair.here);
        const int b = there.find(pair.there);
        if (a < 0) {
            return unknownColumn(here, pair.here, "the table");
        }
        if (b < 0) {
            return unknownColumn(there, pair.there, "the second table");
        }
        hereKeys.push_back(&here.columns[static_cast<std::size_t>(a)]);
        thereKeys.push_back(&there.columns[static_cast<std::size_t>(b)]);
        hereVariables.push_back(&here.variables[static_cast<std::size_t>(a)]);
        thereVariables.push_back(&there.variables[static_cast<std::size_t>(b)]);
        if (hereKeys.back()->isText() != thereKeys.back()->isText()) {
            return kindsDiffer(pair.here, *hereKeys.back(), *thereKeys.back());
        }
        keys.push_back(stacked(*hereKeys.back(), *thereKeys.back()));
    }
    std::vector<const Column*> keyColumns;
    for (const Column& key : keys) {
        keyColumns.push_back(&key);
    }
    const Grouping groups = groupByAll(keyColumns);
    const auto count = static_cast<std::size_t>(groups.count);
    const std::size_t n = here.rows();
    Places partner(count, -1);
    std::vector<bool> repeated(count, false);
    std::size_t repeatedRows = 0;
    std::vector<std::string> examples;
    for (std::size_t i = 0; i < there.rows(); ++i) {
        const std::int32_t g = groups.of[n + i];
        if (g < 0) {
            continue;
        }
        const auto at = static_cast<std::size_t>(g);
        if (partner[at] >= 0) {
            if (!repeated[at] && examples.size() < 3) {
                examples.push_back(keyOfRow(thereKeys, thereVariables, i));
            }
            repeated[at] = true;
            ++repeatedRows;
        } else {
            partner[at] = static_cast<std::int64_t>(i);
        }
    }
    if (repeatedRows > 0) {
        std::vector<std::size_t> uses(count, 0);
        std::size_t most = 0;
        for (std::size_t i = 0; i < n; ++i) {
            if (groups.of[i] >= 0) {
                most = std::max(most, ++uses[static_cast<std::size_t>(groups.of[i])]);
            }
        }
        std::vector<std::string> names;
        for (const KeyPair& pair : by) {
            names.push_back(pair.there);
        }
        return refuse(
            ErrorCode::BadSetting,
            fmt::format(
                "{} in the second table {} the key of an earlier one ({}): a row here would "
                "have several partners",
                rowsText(repeatedRows), repeatedRows == 1 ? "repeats" : "repeat",
                joinedNames(examples)),
            joinedNames(names),
            most <= 1 ? "Each row here is unique: start from the second table and join this one to "
                        "it, or add a key."
                      : "Add a key that tells them apart, or collapse the second table to one row "
                        "a key first.",
            names);
    }
    Places rows(n, -1);
    std::vector<bool> used(count, false);
    std::size_t without = 0;
    std::size_t unmatched = 0;
    std::vector<std::string> lost;
    bool more = false;
    for (std::size_t i = 0; i < n; ++i) {
        if (groups.of[i] < 0) {
            ++without;
            continue;
        }
        const auto at = static_cast<std::size_t>(groups.of[i]);
        rows[i] = partner[at];
        if (rows[i] < 0) {
            ++unmatched;
            if (!more) {
                const std::string key = keyOfRow(hereKeys, hereVariables, i);
                const bool named = std::find(lost.begin(), lost.end(), key) != lost.end();
                more = !named && lost.size() == 3;
                if (!named && !more) {
                    lost.push_back(key);
                }
            }
        }
        used[at] = true;
    }
    Shaped out;
    out.table = here;
    std::vector<std::string> taken = take;
    if (taken.empty()) {
        for (const Column& column : there.columns) {
            if (std::find(thereKeys.begin(), thereKeys.end(), &column) == thereKeys.end()) {
                taken.push_back(column.name());
            }
        }
    }
    std::vector<std::string> renamed;
    for (const std::string& name : taken) {
        const int at = there.find(name);
        if (at < 0) {
            return unknownColumn(there, name, "the second table");
        }
        const std::string free = freeName(out.table, name);
        if (free != name) {
            renamed.push_back(name + " as " + free);
        }
        add(out.table, gathered(there.columns[static_cast<std::size_t>(at)], rows, free),
            there.variables[static_cast<std::size_t>(at)]);
    }
    std::size_t unused = 0;
    for (std::size_t g = 0; g < count; ++g) {
        unused += partner[g] >= 0 && !used[g] ? 1U : 0U;
    }
    out.facts.push_back(fmt::format("{} found their match", rowsText(n - without - unmatched)));
    if (unmatched > 0) {
        out.facts.push_back(fmt::format("{} did not ({}{})", rowsText(unmatched), joinedNames(lost),
                                        more ? ", …" : ""));
    }
    if (without > 0) {
        out.facts.push_back(fmt::format("{} without a key", rowsText(without)));
    }
    if (unused > 0) {
        out.facts.push_back(fmt::format("{} of the second table {} no row here", rowsText(unused),
                                        unused == 1 ? "matches" : "match"));
    }
    if (!renamed.empty()) {
        out.facts.push_back("names that were taken: " + joinedNames(renamed));
    }
    return out;
}

Result<Shaped> collapseRows(const Frame& frame, const std::vector<std::string>& by,
                            const std::vector<Derived>& columns) {
    const Table& table = frame.table();
    if (by.empty()) {
        return refuse(ErrorCode::BadSetting, "collapsing needs the groups that shall remain", {},
                      "Name one variable or more.");
    }
    std::vector<const Column*> keys;
    for (const std::string& name : by) {
        if (frame.column(name) == nullptr) {
            return unknownColumn(table, name, "the table");
        }
        keys.push_back(frame.column(name));
    }
    const Grouping groups = groupByAll(keys);
    if (groups.count == 0) {
        return refuse(ErrorCode::TooFewRows, "no row has a value of " + joinedNames(by));
    }
    const GroupedRows rows = rowsByGroup(groups);
    const Places first = sortedFirstRows(rows, static_cast<std::size_t>(groups.count), keys);
    Shaped out;
    for (std::size_t k = 0; k < by.size(); ++k) {
        add(out.table, gathered(*keys[k], first, by[k]), *frame.variable(by[k]));
    }
    for (const Derived& column : columns) {
        if (column.name.empty() || out.table.find(column.name) >= 0) {
            return refuse(ErrorCode::BadSetting,
                          column.name.empty() ? "a collapsed column needs a name"
                                              : "‘" + column.name + "’ would be there twice");
        }
        const auto parsed = Expression::parse(column.expression);
        if (!parsed) {
            return tl::make_unexpected(parsed.error());
        }
        const auto root = perGroup(std::make_shared<Node>(parsed->root()), by);
        const auto value = evaluate(Expression::of(*root), frame.scope());
        if (!value) {
            return tl::make_unexpected(value.error());
        }
        if (const auto differ = variation(value->column, groups)) {
            return refuse(ErrorCode::BadSetting,
                          fmt::format("‘{}’ varies within {} (rows {} and {})", column.expression,
                                      joinedNames(by), differ->first + 1, differ->second + 1),
                          column.name,
                          "Say what of it is wanted: avg, sum, min, max, median, stddev or count.",
                          {column.name});
        }
        add(out.table, gathered(value->column, first, column.name),
            collapsedVariable(column, *parsed, *value, frame));
    }
    const std::size_t left =
        static_cast<std::size_t>(std::count(groups.of.begin(), groups.of.end(), -1));
    std::size_t smallest = frame.rows();
    std::size_t largest = 0;
    for (std::size_t g = 0; g < first.size(); ++g) {
        smallest = std::min(smallest, rows.group(g).size());
        largest = std::max(largest, rows.group(g).size());
    }
    out.facts.push_back(
        fmt::format("{} make {}, each of {}", rowsText(frame.rows() - left), rowsText(first.size()),
                    smallest == largest ? countText(smallest)
                                        : countText(smallest) + " to " + countText(largest)));
    if (left > 0) {
        out.facts.push_back(fmt::format("{} without {} left out", rowsText(left), joinedNames(by)));
    }
    return out;
}

Result<Shaped> lengthen(const Table& table, const std::string& moment,
                        const std::vector<LongVariable>& variables) {
    std::vector<Key> moments;
    std::vector<bool> moved(table.columns.size(), false);
    for (const LongVariable& variable : variables) {
        const Column* kind = nullptr;
        for (const ColumnAt& one : variable.columns) {
            const int at = table.find(one.column);
            if (at < 0) {
                return unknownColumn(table, one.column, "the table");
            }
            const Column& column = table.columns[static_cast<std::size_t>(at)];
            if (kind != nullptr && kind->isText() != column.isText()) {
                return kindsDiffer(one.column, *kind, column);
            }
            kind = &column;
            moved[static_cast<std::size_t>(at)] = true;
            if (std::find(moments.begin(), moments.end(), one.at) == moments.end()) {
                moments.push_back(one.at);
            }
        }
    }
    if (moments.empty() || moment.empty()) {
        return refuse(ErrorCode::BadSetting,
                      moment.empty() ? "the moment needs a name" : "no column is named to move", {},
                      "Name a variable and the columns it lies in, each with its moment.");
    }
    const bool numbers = std::all_of(moments.begin(), moments.end(), [](const Key& key) {
        return std::holds_alternative<double>(key);
    });
    if (numbers) {
        std::sort(moments.begin(), moments.end());
    }
    const std::size_t m = moments.size();
    const std::size_t n = table.rows();
    Places repeated(n * m);
    for (std::size_t i = 0; i < n * m; ++i) {
        repeated[i] = static_cast<std::int64_t>(i / m);
    }
    Shaped out;
    for (std::size_t j = 0; j < table.columns.size(); ++j) {
        if (!moved[j]) {
            add(out.table, gathered(table.columns[j], repeated, table.columns[j].name()),
                table.variables[j]);
        }
    }
    if (out.table.find(moment) >= 0) {
        return refuse(ErrorCode::BadSetting, "there is a column ‘" + moment + "’ already", {},
                      "Give the moment another name.", {moment});
    }
    Variable when;
    when.label = "moment";
    if (numbers) {
        std::vector<double> cells(n * m);
        for (std::size_t i = 0; i < n * m; ++i) {
            cells[i] = std::get<double>(moments[i % m]);
        }
        when.measure = Measure::Count;
        add(out.table, Column::ofNumbers(moment, std::move(cells)), when);
    } else {
        std::vector<std::int32_t> codes(n * m);
        std::vector<std::string> texts;
        for (std::size_t i = 0; i < n * m; ++i) {
            codes[i] = static_cast<std::int32_t>(i % m);
        }
        for (const Key& key : moments) {
            texts.push_back(keyText(key));
        }
        when.measure = Measure::Groups;
        add(out.table, Column::ofTexts(moment, std::move(codes), std::move(texts)), when);
    }
    std::vector<std::string> holes;
    for (const LongVariable& variable : variables) {
        if (variable.columns.empty()) {
            continue;
        }
        if (variable.name.empty() || out.table.find(variable.name) >= 0) {
            return refuse(ErrorCode::BadSetting, "‘" + variable.name + "’ would be there twice", {},
                          "Give the variable another name.", {variable.name});
        }
        // All its columns one below the other, then each row and moment picks its cell.
        const auto place = [&](const Key& at) {
            const auto found = std::find_if(variable.columns.begin(), variable.columns.end(),
                                            [&](const ColumnAt& one) { return one.at == at; });
            return found == variable.columns.end()
                       ? std::int64_t{-1}
                       : static_cast<std::int64_t>(found - variable.columns.begin());
        };
        const auto columnOf = [&](std::size_t k) -> const Column& {
            return table.columns[static_cast<std::size_t>(table.find(variable.columns[k].column))];
        };
        Column pile = columnOf(0);
        for (std::size_t k = 1; k < variable.columns.size(); ++k) {
            pile = stacked(pile, columnOf(k));
        }
        std::vector<std::int64_t> places;
        for (const Key& at : moments) {
            places.push_back(place(at));
            if (places.back() < 0) {
                holes.push_back(variable.name + " at " + keyText(at));
            }
        }
        Places rows(n * m);
        for (std::size_t i = 0; i < n * m; ++i) {
            const std::int64_t k = places[i % m];
            rows[i] =
                k < 0 ? -1 : k * static_cast<std::int64_t>(n) + static_cast<std::int64_t>(i / m);
        }
        Variable v =
            table.variables[static_cast<std::size_t>(table.find(variable.columns.front().column))];
        v.label.clear();
        add(out.table, gathered(pile, rows, variable.name), v);
    }
    out.facts.push_back(fmt::format("{} at {} make {}", rowsText(n), plural(m, "moment", "moments"),
                                    rowsText(n * m)));
    if (!holes.empty()) {
        out.facts.push_back("no column for " + joinedNames(holes));
    }
    return out;
}

Result<Shaped> widen(const Frame& frame, const std::string& unit, const std::string& moment,
                     const std::vector<std::string>& variables) {
    const Table& table = frame.table();
    for (const std::string& name : {unit, moment}) {
        if (frame.column(name) == nullptr) {
            return unknownColumn(table, name, "the table");
        }
    }
    const Column& units = *frame.column(unit);
    const Column& times = *frame.column(moment);
    const Grouping byUnit = groupByAll({&units});
    const Grouping byMoment = groupByAll({&times});
    constexpr std::int32_t kMostMoments = 1000;
    if (byMoment.count > kMostMoments) {
        return refuse(ErrorCode::BadSetting,
                      fmt::format("‘{}’ has {} values: each would become a column", moment,
                                  countText(static_cast<std::size_t>(byMoment.count))),
                      {}, "Choose the variable that holds the moments.", {moment});
    }
    Shaped out;
    for (std::size_t j = 0; j < table.columns.size(); ++j) {
        const std::string& name = table.columns[j].name();
        const bool moves = name == moment ||
                           std::find(variables.begin(), variables.end(), name) != variables.end();
        if (moves || name == unit) {
            continue;
        }
        if (const auto differ = variation(table.columns[j], byUnit)) {
            return refuse(ErrorCode::BadSetting,
                          fmt::format("‘{}’ varies within {} (rows {} and {})", name, unit,
                                      differ->first + 1, differ->second + 1),
                          name, "Add it to the variables that get a column a moment.", {name});
        }
    }
    const Grouping cells = splitBy(byUnit, byMoment);
    const GroupedRows rowsOfUnit = rowsByGroup(byUnit);
    const Places first =
        sortedFirstRows(rowsOfUnit, static_cast<std::size_t>(byUnit.count), {&units});
    const GroupedRows rowsOfMoment = rowsByGroup(byMoment);
    const Places moments =
        sortedFirstRows(rowsOfMoment, static_cast<std::size_t>(byMoment.count), {&times});
    std::vector<std::int64_t> seen(static_cast<std::size_t>(cells.count), -1);
    std::size_t left = 0;
    for (std::size_t i = 0; i < cells.of.size(); ++i) {
        if (cells.of[i] < 0) {
            ++left;
            continue;
        }
        std::int64_t& at = seen[static_cast<std::size_t>(cells.of[i])];
        if (at >= 0) {
            return refuse(ErrorCode::BadSetting,
                          fmt::format("rows {} and {} are both {} {} at {}", at + 1, i + 1, unit,
                                      cellText(units, *frame.variable(unit), i),
                                      cellText(times, *frame.variable(moment), i)),
                          {}, "A unit has each moment once: set one aside or collapse first.",
                          {unit, moment});
        }
        at = static_cast<std::int64_t>(i);
    }
    for (std::size_t j = 0; j < table.columns.size(); ++j) {
        const std::string& name = table.columns[j].name();
        if (name == moment) {
            continue;
        }
        if (std::find(variables.begin(), variables.end(), name) == variables.end()) {
            add(out.table, gathered(table.columns[j], first, name), table.variables[j]);
            continue;
        }
        for (const std::int64_t when : moments) {
            const auto at = static_cast<std::size_t>(when);
            std::vector<std::int64_t> rowOf(static_cast<std::size_t>(byUnit.count), -1);
            for (const std::uint32_t row :
                 rowsOfMoment.group(static_cast<std::size_t>(byMoment.of[at]))) {
                if (byUnit.of[row] >= 0) {
                    rowOf[static_cast<std::size_t>(byUnit.of[row])] = row;
                }
            }
            Places rows(first.size());
            for (std::size_t g = 0; g < first.size(); ++g) {
                const auto group =
                    static_cast<std::size_t>(byUnit.of[static_cast<std::size_t>(first[g])]);
                rows[g] = rowOf[group];
            }
            const std::string shown =
                times.isText() ? times.texts()[static_cast<std::size_t>(times.codes()[at])]
                : frame.variable(moment)->measure == Measure::Date
                    ? dateText(times.numbers()[at])
                    : exactNumber(times.numbers()[at]);
            Variable v = table.variables[j];
            v.label = v.label.empty() ? "" : v.label + ", " + shown;
            add(out.table,
                gathered(table.columns[j], rows, freeName(out.table, name + "_" + shown)), v);
        }
    }
    out.facts.push_back(fmt::format(
        "{} make {} with {}", rowsText(frame.rows() - left), rowsText(first.size()),
        plural(moments.size(), "column for each variable", "columns for each variable")));
    if (left > 0) {
        out.facts.push_back(
            fmt::format("{} without {} or {} left out", rowsText(left), unit, moment));
    }
    return out;
}

std::vector<LongVariable> longVariablesIn(const Table& table) {
    std::vector<LongVariable> found;
    for (const Column& column : table.columns) {
        const std::string& name = column.name();
        const auto digits = name.find_last_not_of("0123456789") + 1;
        // Nine digits are a whole number for certain; more is an identifier.
        if (digits == 0 || digits >= name.size() || name.size() - digits > 9) {
            continue;
        }
        std::string stem = name.substr(0, digits);
        while (stem.size() > 1 && (stem.back() == '_' || stem.back() == '.' || stem.back() == '-' ||
                                   stem.back() == ' ')) {
            stem.pop_back();
        }
        const auto at = std::find_if(found.begin(), found.end(),
                                     [&](const LongVariable& v) { return v.name == stem; });
        LongVariable& variable = at == found.end() ? found.emplace_back() : *at;
        variable.name = stem;
        variable.columns.push_back({name, std::stod(name.substr(digits))});
    }
    // A column alone, or of another kind than its first sister, is no series.
    for (LongVariable& variable : found) {
        const bool text =
            table.columns[static_cast<std::size_t>(table.find(variable.columns[0].column))]
                .isText();
        std::erase_if(variable.columns, [&](const ColumnAt& one) {
            return table.columns[static_cast<std::size_t>(table.find(one.column))].isText() != text;
        });
        std::sort(variable.columns.begin(), variable.columns.end(),
                  [](const ColumnAt& a, const ColumnAt& b) { return a.at < b.at; });
    }
    std::erase_if(found, [](const LongVariable& v) { return v.columns.size() < 2; });
    return found;
}

std::vector<std::string> varyingWithin(const Frame& frame, const std::string& unit) {
    std::vector<std::string> names;
    const Column* units = frame.column(unit);
    if (units == nullptr) {
        return names;
    }
    const Grouping groups = groupBy(*units, false);
    for (const Column& column : frame.table().columns) {
        if (column.name() != unit && variation(column, groups)) {
            names.push_back(column.name());
        }
    }
    return names;
}

}  // namespace rapporto
