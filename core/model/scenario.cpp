#include "core/model/scenario.h"

#include "core/base/format.h"
#include "core/expression/derivative.h"

#include <algorithm>
#include <cmath>
#include <set>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

const ColumnFunction* columnFunction(const Node& node) {
    if (node.kind != Node::Kind::Call) {
        return nullptr;
    }
    for (const ColumnFunction& one : columnFunctions()) {
        if (node.text == one.name) {
            return &one;
        }
    }
    return nullptr;
}

/// Functions over columns that look at their own row alone.
bool looksAtItsOwnRow(const std::string& function) {
    return function == "reverse" || function == "bands" || function == "indicator";
}

bool isAggregate(const std::string& function) {
    static const std::set<std::string> kAggregates = {"avg",    "sum",    "min",  "max",
                                                      "median", "stddev", "count"};
    return kAggregates.contains(function);
}

/// The least or largest value a function gives, as an expression of its own.
NodePtr extreme(const char* function, const Node& of) {
    return callNode(function, {std::make_shared<const Node>(of)});
}

/// What a function over columns is, written with numbers that hang on the data alone.
NodePtr withAggregates(const Node& node) {
    const NodePtr& x = node.children.front();
    if (node.text == "centre") {
        return binaryNode("-", x, callNode("avg", {x}));
    }
    if (node.text == "standardise") {
        return binaryNode("/", binaryNode("-", x, callNode("avg", {x})), callNode("stddev", {x}));
    }
    if (node.text == "winsorise") {
        return callNode("least",
                        {callNode("greatest", {x, extreme("min", node)}), extreme("max", node)});
    }
    return nullptr;
}

/// A whole part that reads other rows and therefore is a variable of its own.
bool readsOtherRows(const Node& node) {
    const ColumnFunction* function = columnFunction(node);
    return node.kind == Node::Kind::Over ||
           (function != nullptr && !looksAtItsOwnRow(node.text) && !isAggregate(node.text) &&
            withAggregates(node) == nullptr);
}

}  // namespace

std::vector<std::pair<Key, std::string>> ScenarioVariable::baseAndOthers() const {
    if (!groups) {
        return {{0.0, ""}, {1.0, ""}};
    }
    std::vector<std::pair<Key, std::string>> out = {{levels[base].value, ""}};
    for (std::size_t l = 0; l < levels.size(); ++l) {
        if (l != base) {
            out.emplace_back(levels[l].value, levels[l].label);
        }
    }
    return out;
}

/// Where X is worked out: columns for the leaves (and for derived variables that are named).
struct ScenarioMap::Place {
    std::map<std::string, Leaf> columns;
    ScenarioValues named;  ///< Names that are not followed through.
    std::size_t rows = 0;
    const std::vector<std::size_t>* take = nullptr;  ///< Rows to keep; null: all.
};

void ScenarioMap::addLeaf(const Frame& frame, const std::string& name) {
    if (leaves_.contains(name)) {
        return;
    }
    const Variable* known = frame.variable(name);
    if (known != nullptr) {
        leaves_.emplace(name, Leaf{*frame.column(name), *known});
    } else {
        const auto value = frame.evaluateText(name);
        if (!value) {
            return;
        }
        Variable own;
        own.name = name;
        own.measure = value->measure           ? *value->measure
                      : value->isTruth         ? Measure::YesNo
                      : value->column.isText() ? Measure::Groups
                                               : Measure::Quantity;
        own.levels = value->levels;
        leaves_.emplace(name, Leaf{value->column, own});
    }
    const Leaf& leaf = leaves_.at(name);
    ScenarioVariable out;
    out.name = name;
    out.label = leaf.variable.shown();
    out.unit = leaf.variable.unit;
    out.measure = leaf.variable.measure;
    out.groups = isGrouping(leaf.variable.measure) || leaf.column.isText();
    out.derivedFrom = known == nullptr ? name : "";
    variables_.push_back(std::move(out));
}

void ScenarioMap::gather(const Frame& frame, const Node& node) {
    if (node.kind == Node::Kind::Name) {
        const Variable* variable = frame.variable(node.text);
        const bool through = variable != nullptr && !variable->expression.empty() &&
                             !isGrouping(variable->measure) && !frame.column(node.text)->isText();
        const auto parsed =
            through ? Expression::parse(variable->expression) : Result<Expression>(Expression());
        if (!through || !parsed) {
            addLeaf(frame, node.text);
        } else if (derived_.emplace(node.text, variable->expression).second) {
            gather(frame, parsed->root());
        }
        return;
    }
    if (readsOtherRows(node)) {
        addLeaf(frame, Expression::of(node).canonical());
        return;
    }
    if (columnFunction(node) != nullptr && isAggregate(node.text)) {
        const std::string text = Expression::of(node).canonical();
        const auto value = frame.evaluateText(text);
        if (value && value->column.size() > 0) {
            constants_[text] = value->column.numbers()[0];
        }
        return;
    }
    if (const NodePtr instead = columnFunction(node) != nullptr ? withAggregates(node) : nullptr) {
        gather(frame, *instead);
        return;
    }
    for (const NodePtr& child : node.children) {
        gather(frame, *child);
    }
}

void ScenarioMap::addGroupings(const Frame& frame, const Design& design) {
    Design slopes;
    slopes.rows = design.rows;
    slopes.weights = design.weights;
    for (const DesignLevel& level : design.levels) {
        ScenarioVariable grouping;
        grouping.name = level.name;
        grouping.measure = Measure::Groups;
        grouping.groups = true;
        const Variable* known = frame.variable(level.name);
        grouping.label = known != nullptr ? known->shown() : level.name;
        for (const std::string& label : level.labels) {
            FoundLevel group;
            group.label = label;
            grouping.levels.push_back(std::move(group));
        }
        const auto cells = frame.evaluateText(level.name);
        for (std::size_t i = 0; cells && i < level.of.size(); ++i) {
            FoundLevel& group = grouping.levels[static_cast<std::size_t>(level.of[i])];
            if (group.count++ == 0) {
                const Column& column = cells->column;
                const std::size_t row = design.rows[i];
                group.code = column.isText() ? column.codes()[row] : column.numbers()[row];
                group.value = column.isText()
                                  ? column.texts()[static_cast<std::size_t>(column.codes()[row])]
                                  : keyText(Key(column.numbers()[row]));
            }
        }
        groupings_.push_back(std::move(grouping));
        slopesOf_.push_back(static_cast<Index>(level.slopeNames.size()));
        for (const std::string& name : level.slopeNames) {
            const auto at = static_cast<Index>(slopes.columns.size());
            DesignTerm term;
            term.name = name;
            term.columns = {at};
            DesignFactor factor;
            factor.text = name;
            term.factors = {std::move(factor)};
            DesignColumn column;
            column.term = static_cast<int>(slopes.terms.size());
            slopes.terms.push_back(std::move(term));
            slopes.columns.push_back(std::move(column));
        }
    }
    if (slopes.terms.empty()) {
        return;
    }
    if (auto map = make(frame, slopes)) {
        ofGroups_ = std::make_shared<const ScenarioMap>(*std::move(map));
    }
}

const ScenarioVariable* ScenarioMap::grouping(const std::string& name) const {
    const auto at = std::find_if(groupings_.begin(), groupings_.end(),
                                 [&](const auto& one) { return one.name == name; });
    return at == groupings_.end() ? nullptr : &*at;
}

Result<std::vector<MatrixXd>> ScenarioMap::columnsOfGroups(
    const std::vector<ScenarioValues>& scenarios, const std::string& slopeIn) const {
    const auto m = static_cast<Index>(scenarios.size());
    MatrixXd slopes(m, 0);
    if (ofGroups_) {
        std::vector<ScenarioValues> own = scenarios;
        for (ScenarioValues& one : own) {
            std::erase_if(one, [&](const auto& value) { return !ofGroups_->isTerm(value.first); });
        }
        if (!slopeIn.empty() && !ofGroups_->isTerm(slopeIn)) {
            slopes = MatrixXd::Zero(m, static_cast<Index>(ofGroups_->columns_.size()));
        } else {
            auto found = slopeIn.empty() ? ofGroups_->at(own) : ofGroups_->slopesAt(slopeIn, own);
            if (!found) {
                return tl::make_unexpected(found.error());
            }
            slopes = *std::move(found);
        }
    }
    std::vector<MatrixXd> out;
    Index from = 0;
    for (const Index count : slopesOf_) {
        MatrixXd one(m, count + 1);
        one.col(0).setConstant(slopeIn.empty() ? 1.0 : 0.0);
        one.rightCols(count) = slopes.middleCols(from, count);
        from += count;
        out.push_back(std::move(one));
    }
    return out;
}

Result<ScenarioMap> ScenarioMap::make(const Frame& frame, const Design& design) {
    ScenarioMap out;
    out.addGroupings(frame, design);
    if (design.zeroX.cols() > 0) {
        Design zero;
        zero.rows = design.rows;
        zero.weights = design.weights;
        zero.columns = design.zeroColumns;
        zero.terms = design.zeroTerms;
        zero.hasConstant = true;
        auto map = make(frame, zero);
        if (!map) {
            return map;
        }
        out.zero_ = std::make_shared<const ScenarioMap>(*std::move(map));
    }
    out.terms_ = design.terms;
    out.columns_ = design.columns;
    out.rows_ = design.rows;
    for (const DesignTerm& term : design.terms) {
        for (const DesignFactor& factor : term.factors) {
            const auto parsed = Expression::parse(factor.text);
            if (!parsed) {
                return tl::make_unexpected(parsed.error());
            }
            out.gather(frame, parsed->root());
        }
    }
    for (ScenarioVariable& variable : out.variables_) {
        const Leaf& leaf = out.leaves_.at(variable.name);
        if (variable.groups) {
            variable.levels = levelsOf(leaf.column, leaf.variable, out.rows_);
            for (std::size_t l = 0; l < variable.levels.size(); ++l) {
                const bool chosen =
                    !leaf.variable.base.empty() &&
                    (variable.levels[l].value == keyText(leaf.variable.base.front()) ||
                     variable.levels[l].label == keyText(leaf.variable.base.front()));
                variable.base = chosen ? l : variable.base;
            }
            continue;
        }
        const auto cells = leaf.column.numbers();
        double total = 0.0;
        double sum = 0.0;
        variable.low = std::numeric_limits<double>::infinity();
        variable.high = -variable.low;
        const auto weight = [&](std::size_t i) {
            return design.weights.size() > 0 ? design.weights(static_cast<Index>(i)) : 1.0;
        };
        for (std::size_t i = 0; i < out.rows_.size(); ++i) {
            const double x = cells[out.rows_[i]];
            if (std::isnan(x)) {
                continue;  // A branch of the term does without it.
            }
            sum += weight(i) * x;
            total += weight(i);
            variable.low = std::min(variable.low, x);
            variable.high = std::max(variable.high, x);
        }
        variable.mean = sum / total;
        double squares = 0.0;
        for (std::size_t i = 0; i < out.rows_.size(); ++i) {
            const double d = cells[out.rows_[i]] - variable.mean;
            squares += std::isnan(d) ? 0.0 : weight(i) * d * d;
        }
        variable.sd = std::sqrt(squares / total);
        if (frame.moments() != nullptr) {
            variable.ranged = false;
            variable.low = variable.mean - 3.0 * variable.sd;
            variable.high = variable.mean + 3.0 * variable.sd;
        }
    }
    return out;
}

const ScenarioVariable* ScenarioMap::find(const std::string& name) const {
    const auto at = std::find_if(variables_.begin(), variables_.end(),
                                 [&](const auto& one) { return one.name == name; });
    return at == variables_.end() ? nullptr : &*at;
}

std::optional<VectorXd> ScenarioMap::used(const std::string& name) const {
    const auto leaf = leaves_.find(name);
    if (leaf == leaves_.end() || leaf->second.column.isText()) {
        return std::nullopt;
    }
    VectorXd out(static_cast<Index>(rows_.size()));
    for (std::size_t i = 0; i < rows_.size(); ++i) {
        out(static_cast<Index>(i)) = leaf->second.column.numbers()[rows_[i]];
    }
    return out;
}

Result<Expression> ScenarioMap::resolved(const std::string& text,
                                         const ScenarioValues& named) const {
    const auto parsed = Expression::parse(text);
    if (!parsed) {
        return parsed;
    }
    std::function<NodePtr(const Node&)> other = [&](const Node& node) -> NodePtr {
        if (node.kind == Node::Kind::Name) {
            const auto through = derived_.find(node.text);
            if (through == derived_.end() || named.contains(node.text)) {
                return std::make_shared<const Node>(node);
            }
            const auto inner = Expression::parse(through->second);
            return replaced(std::make_shared<const Node>(inner->root()), other);
        }
        if (readsOtherRows(node)) {
            return nameNode(Expression::of(node).canonical());
        }
        if (columnFunction(node) != nullptr && isAggregate(node.text)) {
            const auto constant = constants_.find(Expression::of(node).canonical());
            return constant == constants_.end() ? nullptr : numberNode(constant->second);
        }
        const NodePtr instead = columnFunction(node) != nullptr ? withAggregates(node) : nullptr;
        return instead ? replaced(instead, other) : nullptr;
    };
    return Expression::of(*replaced(std::make_shared<const Node>(parsed->root()), other));
}

Result<Column> ScenarioMap::columnFor(const std::string& name,
                                      const std::vector<const Key*>& values) const {
    const ScenarioVariable* variable = find(name);
    const auto leaf = leaves_.find(name);
    const bool groups = variable != nullptr && variable->groups;
    std::vector<double> numbers;
    std::vector<std::int32_t> codes;
    for (const Key* value : values) {
        if (!groups) {
            if (value != nullptr && !std::holds_alternative<double>(*value)) {
                return refuse(ErrorCode::WrongType,
                              "‘" + name + "’ is a number, not ‘" + keyText(*value) + "’", "at", "",
                              {name});
            }
            numbers.push_back(value != nullptr ? std::get<double>(*value)
                                               : (variable != nullptr ? variable->mean : 0.0));
            continue;
        }
        std::size_t level = variable->base;
        if (value != nullptr) {
            const std::string wanted = keyText(*value);
            const auto at = std::find_if(
                variable->levels.begin(), variable->levels.end(), [&](const FoundLevel& l) {
                    return l.value == wanted || l.label == wanted ||
                           (std::holds_alternative<double>(*value) &&
                            !leaf->second.column.isText() && l.code == std::get<double>(*value));
                });
            if (at == variable->levels.end()) {
                std::string known;
                for (const FoundLevel& l : variable->levels) {
                    known += (known.empty() ? "" : ", ") + l.label;
                }
                return refuse(ErrorCode::WrongType,
                              "‘" + name + "’ has no level ‘" + wanted + "’ in the rows used", "at",
                              "Its levels are " + known + ".", {name});
            }
            level = static_cast<std::size_t>(at - variable->levels.begin());
        }
        numbers.push_back(variable->levels[level].code);
        codes.push_back(static_cast<std::int32_t>(variable->levels[level].code));
    }
    if (groups && leaf->second.column.isText()) {
        return Column::ofTexts(name, std::move(codes), leaf->second.column.texts());
    }
    return Column::ofNumbers(name, std::move(numbers));
}

Result<ScenarioMap::Place> ScenarioMap::placeOf(
    const std::vector<ScenarioValues>& scenarios) const {
    Place place;
    place.rows = scenarios.size();
    std::set<std::string> names;
    for (const ScenarioVariable& variable : variables_) {
        names.insert(variable.name);
    }
    for (const ScenarioValues& scenario : scenarios) {
        for (const auto& [name, value] : scenario) {
            if (!isTerm(name)) {
                if (knows(name)) {
                    continue;  // What is known of a group is added elsewhere.
                }
                std::vector<std::string> known;
                for (const ScenarioVariable& v : variables_) {
                    known.push_back(v.name);
                }
                const auto near = nearestName(name, known);
                return refuse(ErrorCode::UnknownName, "the terms do not hang on ‘" + name + "’",
                              "at",
                              near ? "Did you mean ‘" + *near + "’?"
                                   : "They hang on " + joinedNames(known) + ".",
                              {name});
            }
            names.insert(name);
            place.named[name] = value;
        }
    }
    for (const std::string& name : names) {
        std::vector<const Key*> values;
        for (const ScenarioValues& scenario : scenarios) {
            const auto at = scenario.find(name);
            values.push_back(at == scenario.end() ? nullptr : &at->second);
            if (at == scenario.end() && derived_.contains(name)) {
                return refuse(ErrorCode::BadSetting,
                              "‘" + name + "’ is named in one scenario and not in another", "at",
                              "Name it in all, or name what it is made of.", {name});
            }
        }
        auto column = columnFor(name, values);
        if (!column) {
            return tl::make_unexpected(column.error());
        }
        Variable variable;
        variable.name = name;
        if (const auto leaf = leaves_.find(name); leaf != leaves_.end()) {
            variable = leaf->second.variable;
        }
        place.columns.emplace(name, Leaf{*std::move(column), variable});
    }
    return place;
}

Result<MatrixXd> ScenarioMap::matrix(const Place& place, const std::string& slopeIn) const {
    Scope scope;
    scope.rows = place.rows;
    scope.find = [&](const std::string& name) -> NamedColumn {
        const auto at = place.columns.find(name);
        return at == place.columns.end() ? NamedColumn{}
                                         : NamedColumn{&at->second.column, &at->second.variable};
    };
    for (const auto& [name, leaf] : place.columns) {
        scope.names.push_back(name);
    }
    const std::size_t m = place.take != nullptr ? place.take->size() : place.rows;
    const auto row = [&](std::size_t i) { return place.take != nullptr ? (*place.take)[i] : i; };
    // One factor: its columns, or their slopes.
    const auto factorColumns = [&](const DesignFactor& factor,
                                   bool slope) -> Result<std::vector<VectorXd>> {
        auto expression = resolved(factor.text, place.named);
        if (!expression) {
            return tl::make_unexpected(expression.error());
        }
        std::vector<VectorXd> out;
        const auto length = static_cast<Index>(m);
        if (slope && factor.groups) {
            if (mentions(expression->root(), slopeIn)) {
                return refuse(ErrorCode::WrongType,
                              "‘" + factor.text + "’ jumps: it has no slope in " + slopeIn, "",
                              "Compare two values of " + slopeIn + " under Predict instead.",
                              {slopeIn});
            }
            out.assign(factor.levels.size() - 1, VectorXd::Zero(length));
            return out;
        }
        if (slope) {
            auto d = derivative(std::make_shared<const Node>(expression->root()), slopeIn);
            if (!d) {
                return tl::make_unexpected(d.error());
            }
            expression = Expression::of(**d);
        }
        const auto value = evaluate(*expression, scope);
        if (!value) {
            return tl::make_unexpected(value.error());
        }
        const auto cell = [&](std::size_t i) {
            return value->column.isText() ? static_cast<double>(value->column.codes()[row(i)])
                                          : value->column.numbers()[row(i)];
        };
        if (!factor.groups) {
            VectorXd column(length);
            for (std::size_t i = 0; i < m; ++i) {
                column(static_cast<Index>(i)) = cell(i);
            }
            out.push_back(std::move(column));
            return out;
        }
        for (std::size_t l = 0; l < factor.levels.size(); ++l) {
            if (l == factor.base) {
                continue;
            }
            double code = factor.levels[l].code;
            if (value->column.isText()) {
                const auto& texts = value->column.texts();
                const auto at = std::find(texts.begin(), texts.end(), factor.levels[l].value);
                code = at == texts.end() ? -2.0 : static_cast<double>(at - texts.begin());
            }
            VectorXd column(length);
            for (std::size_t i = 0; i < m; ++i) {
                column(static_cast<Index>(i)) = cell(i) == code ? 1.0 : 0.0;
            }
            out.push_back(std::move(column));
        }
        return out;
    };
    const auto multiplied = [](const std::vector<VectorXd>& a, const std::vector<VectorXd>& b) {
        std::vector<VectorXd> out;
        for (const VectorXd& x : a) {
            for (const VectorXd& y : b) {
                out.emplace_back(x.cwiseProduct(y));
            }
        }
        return out;
    };
    MatrixXd X = MatrixXd::Zero(static_cast<Index>(m), static_cast<Index>(columns_.size()));
    if (slopeIn.empty() && !columns_.empty() && columns_.front().term < 0) {
        X.col(0).setOnes();
    }
    for (const DesignTerm& term : terms_) {
        std::vector<std::vector<VectorXd>> parts;
        for (const DesignFactor& factor : term.factors) {
            auto part = factorColumns(factor, false);
            if (!part) {
                return tl::make_unexpected(part.error());
            }
            parts.push_back(*std::move(part));
        }
        const std::size_t rounds = slopeIn.empty() ? 1 : parts.size();
        for (std::size_t r = 0; r < rounds; ++r) {
            // The product rule: each factor's slope times the others.
            std::vector<VectorXd> all;
            for (std::size_t f = 0; f < parts.size(); ++f) {
                std::vector<VectorXd> part = parts[f];
                if (!slopeIn.empty() && f == r) {
                    auto slope = factorColumns(term.factors[f], true);
                    if (!slope) {
                        return tl::make_unexpected(slope.error());
                    }
                    part = *std::move(slope);
                }
                all = f == 0 ? std::move(part) : multiplied(all, part);
            }
            for (std::size_t c = 0; c < all.size(); ++c) {
                X.col(term.columns[c]) += all[c];
            }
        }
        for (const Index c : term.columns) {
            if (!X.col(c).allFinite()) {
                return refuse(ErrorCode::BadSetting,
                              "‘" + term.name + "’ has no " +
                                  (slopeIn.empty() ? "value" : "slope in " + slopeIn) + " there",
                              "at", "Choose values where it is defined.", {term.name});
            }
        }
    }
    return X;
}

Result<MatrixXd> ScenarioMap::at(const std::vector<ScenarioValues>& scenarios) const {
    const auto place = placeOf(scenarios);
    return place ? matrix(*place, "") : tl::make_unexpected(place.error());
}

Result<MatrixXd> ScenarioMap::slopesAt(const std::string& name,
                                       const std::vector<ScenarioValues>& scenarios) const {
    auto place = placeOf(scenarios);
    if (!place) {
        return tl::make_unexpected(place.error());
    }
    return matrix(*place, name);
}

Result<MatrixXd> ScenarioMap::usedWith(const std::string& name, const Key& value) const {
    const auto one = placeOf({ScenarioValues{{name, value}}});
    if (!one) {
        return tl::make_unexpected(one.error());
    }
    Place place;
    place.columns = leaves_;
    place.rows = leaves_.empty() ? 0 : leaves_.begin()->second.column.size();
    place.take = &rows_;
    place.named = one->named;
    const Column& cell = one->columns.at(name).column;
    const Column whole =
        cell.isText()
            ? Column::ofTexts(name, std::vector<std::int32_t>(place.rows, cell.codes()[0]),
                              cell.texts())
            : Column::ofNumbers(name, std::vector<double>(place.rows, cell.numbers()[0]));
    place.columns.insert_or_assign(name, Leaf{whole, one->columns.at(name).variable});
    return matrix(place, "");
}

Result<MatrixXd> ScenarioMap::slopes(const std::string& name) const {
    Place place;
    place.columns = leaves_;
    place.rows = leaves_.empty() ? 0 : leaves_.begin()->second.column.size();
    place.take = &rows_;
    if (!leaves_.contains(name)) {
        return refuse(
            ErrorCode::UnknownName, "the terms do not hang on ‘" + name + "’", "effects",
            derived_.contains(name) ? "It is worked out from other variables: name those." : "",
            {name});
    }
    return matrix(place, name);
}

}  // namespace rapporto
