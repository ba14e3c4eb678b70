#include "core/model/forecast.h"

#include "core/base/format.h"
#include "core/data/frame.h"
#include "core/expression/expression.h"
#include "core/model/feasible_ar.h"
#include "core/model/names_behind.h"
#include "core/model/retransformed.h"
#include "core/model/rows_left.h"
#include "core/numerics/distributions.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <set>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// How the outcome hangs on one variable of the source: its level, or its logarithm, or the change
/// of either.
struct OutcomeForm {
    std::string variable;  ///< Empty: it is something else.
    bool changes = false;
    bool logged = false;
};

/// What stands inside of a call with nothing beside it, or null.
const Node* insideOf(const Node& node, const char* function) {
    return node.kind == Node::Kind::Call && node.text == function && node.children.size() == 1
               ? node.children.front().get()
               : nullptr;
}

OutcomeForm formOf(const Frame& frame, const std::string& outcome) {
    OutcomeForm out;
    std::string text = outcome;
    for (int depth = 0; depth < 20; ++depth) {
        const auto parsed = Expression::parse(text);
        if (!parsed) {
            return {};
        }
        const Node& root = parsed->root();
        if (root.kind == Node::Kind::Name) {
            const Variable* variable = frame.variable(root.text);
            if (variable == nullptr) {
                return {};
            }
            if (variable->expression.empty()) {
                out.variable = root.text;
                return out;
            }
            text = variable->expression;
        } else if (const Node* changed = insideOf(root, "change");
                   changed != nullptr && !out.changes && !out.logged) {
            out.changes = true;
            text = Expression::of(*changed).canonical();
        } else if (const Node* logged = insideOf(root, "ln"); logged != nullptr && !out.logged) {
            out.logged = true;
            text = Expression::of(*logged).canonical();
        } else {
            return {};
        }
    }
    return {};
}

/// A date so many months later, on the same day or the last one of the month.
double monthsLater(double days, int months) {
    using namespace std::chrono;
    const sys_days from{std::chrono::days(static_cast<int>(std::floor(days)))};
    const year_month_day day{from};
    const bool last = day == year_month_day_last{day.year(), month_day_last{day.month()}};
    const year_month there = day.year() / day.month() + std::chrono::months(months);
    const year_month_day_last end{there.year(), month_day_last{there.month()}};
    const auto to = last || day.day() > end.day()
                        ? sys_days(end)
                        : sys_days(year_month_day{there.year(), there.month(), day.day()});
    return static_cast<double>(to.time_since_epoch().count());
}

/// The time so many steps after a moment.
double timeAfter(const TimeOrder& order, bool isDate, double last, double before, int steps) {
    if (order.frequency == Frequency::Order) {
        const double apart = last > before ? last - before : 1.0;
        return last + apart * steps;
    }
    const double by = order.step * steps;
    if (!isDate) {
        return last + by;
    }
    const auto months = [&](int a) { return monthsLater(last, static_cast<int>(by) * a); };
    switch (order.frequency) {
        case Frequency::Year:
            return months(12);
        case Frequency::Half:
            return months(6);
        case Frequency::Quarter:
            return months(3);
        case Frequency::Month:
            return months(1);
        case Frequency::Week:
            return last + 7.0 * by;
        default:
            return last + by;
    }
}

/// A part that looks at all rows: rows to come would change what it says of those there are.
bool looksAtAllRows(const Node& node) {
    static const std::set<std::string> kOwnRow = {"extract", "reverse", "bands", "indicator"};
    const auto& all = columnFunctions();
    const auto function = std::find_if(all.begin(), all.end(), [&](const ColumnFunction& one) {
        return node.kind == Node::Kind::Call && node.text == one.name;
    });
    const bool own =
        function != all.end() && !function->needsLayout && !kOwnRow.contains(node.text);
    return node.kind == Node::Kind::Over || own ||
           std::any_of(node.children.begin(), node.children.end(),
                       [](const auto& child) { return looksAtAllRows(*child); });
}

tl::unexpected<Refusal> refuseWay(const std::string& what, const std::string& help,
                                  const std::string& name) {
    return refuse(ErrorCode::BadSetting, what, "forecast", help, {name});
}

/// The table with rows of the moments to come, in which variables go on.
class Ahead {
  public:
    Ahead(const Frame& frame, const Design& design, const ScenarioMap& map,
          const ForecastRequest& request)
        : frame_(frame), design_(design), map_(map), request_(request) {}

    Result<void> make() {
        form_ = formOf(frame_, design_.outcome);
        if (auto done = setMoments(); !done) {
            return done;
        }
        if (auto done = refuseLooksAtAllRows(); !done) {
            return done;
        }
        std::set<std::string> needed = {frame_.layout().time};
        for (const ScenarioVariable& leaf : map_.variables()) {
            needed.merge(namesBehind(frame_, textOf(leaf)));
        }
        if (!form_.variable.empty()) {
            needed.insert(form_.variable);
        }
        for (const auto& [name, way] : request_.terms) {
            const Variable* known = frame_.variable(name);
            if (known == nullptr || !needed.contains(name)) {
                return refuse(ErrorCode::UnknownName, "the terms do not hang on ‘" + name + "’",
                              "forecast", "Name a variable of the terms.", {name});
            }
            if (name == form_.variable || name == frame_.layout().time) {
                return refuseWay("‘" + name + "’ is what is foretold, or the time itself",
                                 "Say how the other variables go on.", name);
            }
            if (!known->expression.empty()) {
                return refuseWay("‘" + name + "’ is worked out from others", "Say how those go on.",
                                 name);
            }
        }
        for (std::size_t c = 0; c < frame_.table().columns.size(); ++c) {
            const Variable& variable = frame_.table().variables[c];
            if (!needed.contains(variable.name)) {
                continue;
            }
            if (!variable.expression.empty()) {
                derived_.push_back({variable.name, variable.expression, variable.label});
                continue;
            }
            auto column = goingOn(frame_.table().columns[c], variable);
            if (!column) {
                return tl::make_unexpected(column.error());
            }
            if (variable.name == form_.variable) {
                outcomeAt_ = static_cast<int>(table_.columns.size());
            }
            table_.columns.push_back(*std::move(column));
            table_.variables.push_back(variable);
        }
        for (const ScenarioVariable& leaf : map_.variables()) {
            const bool past = !form_.variable.empty() &&
                              namesBehind(frame_, textOf(leaf)).contains(form_.variable);
            (past ? onPast_ : apart_).push_back(&leaf);
        }
        if (auto done = refusePastOfParts(); !done) {
            return done;
        }
        return readApart();
    }

    [[nodiscard]] int count() const { return request_.moments; }

    [[nodiscard]] bool onItsPast() const { return !onPast_.empty(); }

    [[nodiscard]] const OutcomeForm& form() const { return form_; }

    [[nodiscard]] double time(int ahead) const { return times_[at(ahead)]; }

    /// X at one moment, where the outcome was foretold so far; a row.
    [[nodiscard]] Result<VectorXd> rowAt(int ahead, const VectorXd& foretold) const {
        auto rows = rowsFrom(ahead, ahead + 1, foretold);
        return rows ? Result<VectorXd>(VectorXd(rows->row(0))) : tl::make_unexpected(rows.error());
    }

    /// X at moments `from` to under `to`.
    [[nodiscard]] Result<MatrixXd> rowsFrom(int from, int to, const VectorXd& foretold) const {
        std::vector<ScenarioValues> scenarios(apartAt_.begin() + from, apartAt_.begin() + to);
        if (!onPast_.empty()) {
            const Frame there = withOutcome(foretold);
            for (const ScenarioVariable* leaf : onPast_) {
                const auto value = valuesOf(there, *leaf);
                if (!value) {
                    return tl::make_unexpected(value.error());
                }
                for (int h = from; h < to; ++h) {
                    const Key& key = (*value)[at(h)];
                    if (isAbsent(key)) {
                        return notThere(*leaf);
                    }
                    scenarios[static_cast<std::size_t>(h - from)][leaf->name] = key;
                }
            }
        }
        return map_.at(scenarios);
    }

    /// Levels of what an outcome in changes is the change of: the last one, on its own scale.
    [[nodiscard]] double lastLevel() const {
        const double level = frame_.column(form_.variable)->numbers()[lastRow_];
        return form_.logged ? std::log(level) : level;
    }

    /// The place of the last moment among the rows of the design.
    [[nodiscard]] Index lastRow() const { return last_; }

    /// As the source writes it; of months without their day.
    [[nodiscard]] std::string momentText(int ahead) const {
        const auto c = static_cast<std::size_t>(table_.find(frame_.layout().time));
        const std::string text = cellText(table_.columns[c], table_.variables[c], rows_[at(ahead)]);
        const Frequency frequency = frame_.timeOrder()->frequency;
        const bool months = frequency == Frequency::Month || frequency == Frequency::Quarter;
        return table_.variables[c].measure == Measure::Date && months ? text.substr(0, 7) : text;
    }

    [[nodiscard]] const std::vector<std::pair<std::string, std::string>>& words() const {
        return words_;
    }

  private:
    /// A leaf as an expression.
    static std::string textOf(const ScenarioVariable& leaf) {
        return leaf.derivedFrom.empty() ? quotedName(leaf.name) : leaf.derivedFrom;
    }

    static std::size_t at(int ahead) { return static_cast<std::size_t>(ahead); }

    [[nodiscard]] Result<void> refuseLooksAtAllRows() const {
        for (const ScenarioVariable& leaf : map_.variables()) {
            const auto parsed = Expression::parse(leaf.derivedFrom);
            if (parsed && looksAtAllRows(parsed->root())) {
                return refuseWay(
                    "‘" + leaf.name + "’ looks at all rows, which rows to come would change",
                    "Take it out, or put what it says of these rows into a column.", leaf.name);
            }
        }
        return {};
    }

    /// An outcome that is made of several variables does not tell what they will be.
    [[nodiscard]] Result<void> refusePastOfParts() const {
        const std::set<std::string> own = namesBehind(frame_, design_.outcome);
        for (const ScenarioVariable* leaf : apart_) {
            const auto read = namesBehind(frame_, leaf->derivedFrom);
            if (form_.variable.empty() &&
                std::any_of(read.begin(), read.end(),
                            [&](const std::string& name) { return own.contains(name); })) {
                return refuseWay("‘" + leaf->name +
                                     "’ reads the past of what the outcome is made of, which the "
                                     "outcome alone does not foretell",
                                 "Ask for an outcome of one variable: its level, its logarithm or "
                                 "the change of either.",
                                 leaf->name);
            }
        }
        return {};
    }

    /// Where the moments to come stand: in rows that there are, or in new ones below.
    Result<void> setMoments() {
        const auto& order = frame_.timeOrder();
        if (!order) {
            return tl::make_unexpected(order.error());
        }
        last_ = std::max_element(design_.moments.begin(), design_.moments.end()) -
                design_.moments.begin();
        lastRow_ = design_.rows[static_cast<std::size_t>(last_)];
        const auto& variable = *frame_.variable(frame_.layout().time);
        const auto cells = frame_.column(frame_.layout().time)->numbers();
        const double last = cells[lastRow_];
        double before = last;
        for (const double x : cells) {
            before = x < last && (before == last || x > before) ? x : before;
        }
        std::map<std::int64_t, std::size_t> there;
        for (std::size_t i = 0; i < order->moment.size(); ++i) {
            there.emplace(order->moment[i], i);
        }
        size_ = frame_.rows();
        for (int h = 0; h < count(); ++h) {
            const auto known = there.find(order->moment[lastRow_] + h + 1);
            const bool has = known != there.end();
            rows_.push_back(has ? known->second : size_++);
            times_.push_back(
                has ? cells[known->second]
                    : timeAfter(*order, variable.measure == Measure::Date, last, before, h + 1));
        }
        return {};
    }

    /// A column of the source with what it is at the moments to come.
    Result<Column> goingOn(const Column& column, const Variable& variable) {
        const auto asked = request_.terms.find(variable.name);
        const bool told = asked != request_.terms.end();
        const GoesOn way = told ? asked->second : GoesOn{};
        const bool ownMoments = variable.name == frame_.layout().time;
        if (column.isText()) {
            std::vector<std::int32_t> codes(column.codes().begin(), column.codes().end());
            auto texts = column.texts();
            codes.resize(size_, -1);
            auto filled =
                fill(codes, variable, way, told, std::int32_t{-1},
                     [&](const Key& key) -> std::optional<std::int32_t> {
                         const auto at = std::find(texts.begin(), texts.end(), keyText(key));
                         return at == texts.end()
                                    ? std::nullopt
                                    : std::optional(static_cast<std::int32_t>(at - texts.begin()));
                     });
            if (!filled) {
                return tl::make_unexpected(filled.error());
            }
            return Column::ofTexts(variable.name, std::move(codes), std::move(texts));
        }
        std::vector<double> cells(column.numbers().begin(), column.numbers().end());
        cells.resize(size_, std::nan(""));
        if (ownMoments) {
            for (int h = 0; h < count(); ++h) {
                cells[rows_[at(h)]] = times_[at(h)];
            }
        } else if (variable.name == form_.variable) {
            for (int h = 0; h < count(); ++h) {
                cells[rows_[at(h)]] = std::nan("");  // Nobody looks ahead.
            }
        } else {
            auto filled = fill(cells, variable, way, told, std::nan(""),
                               [&](const Key& key) { return numberOf(variable, key); });
            if (!filled) {
                return tl::make_unexpected(filled.error());
            }
        }
        return Column::ofNumbers(variable.name, std::move(cells));
    }

    static std::optional<double> numberOf(const Variable& variable, const Key& key) {
        if (const double* number = std::get_if<double>(&key)) {
            return *number;
        }
        for (const Level& level : variable.levels) {
            if (level.label == keyText(key) && std::holds_alternative<double>(level.value)) {
                return std::get<double>(level.value);
            }
        }
        return std::nullopt;
    }

    static bool isAbsent(const Key& key) {
        return std::holds_alternative<double>(key) && std::isnan(std::get<double>(key));
    }

    static tl::unexpected<Refusal> notThere(const ScenarioVariable& leaf) {
        return refuseWay("‘" + leaf.name + "’ has no value at a moment to come",
                         "It reads rows that are not there, or its variables have no such value: "
                         "take it out, or say how they go on.",
                         leaf.name);
    }

    static bool isMissing(double x) { return std::isnan(x); }

    static bool isMissing(std::int32_t code) { return code < 0; }

    template <class Cell, class Read>
    Result<void> fill(std::vector<Cell>& cells, const Variable& variable, const GoesOn& way,
                      bool told, Cell none, Read read) {
        const Cell last = lastKnown(cells, none);
        Cell mean = none;
        if constexpr (std::is_same_v<Cell, double>) {
            if (way.way == "mean" && !isGrouping(variable.measure)) {
                double sum = 0.0;
                double count = 0.0;
                for (const std::size_t row : design_.rows) {
                    sum += isMissing(cells[row]) ? 0.0 : cells[row];
                    count += isMissing(cells[row]) ? 0.0 : 1.0;
                }
                mean = sum / count;
            }
        }
        if (way.way == "mean" && isMissing(mean)) {
            return refuseWay("‘" + variable.name + "’ has groups, of which there is no mean",
                             "Let it stay as it was, or give its levels.", variable.name);
        }
        const auto season = static_cast<std::size_t>(design_.seasonLags);
        if (way.way == "season" && season < 2) {
            return refuseWay("the series has one moment a year: there is no season",
                             "Let ‘" + variable.name + "’ stay as it was, or give its values.",
                             variable.name);
        }
        std::vector<Cell> path;
        bool fromTable = false;
        for (int h = 0; h < count(); ++h) {
            const Cell own = cells[rows_[at(h)]];
            if (!told && !isMissing(own)) {
                path.push_back(own);
                fromTable = true;
                continue;
            }
            const Cell stays = h > 0 && !told ? path.back() : last;
            if (way.way == "values") {
                const Key& key = way.values[std::min(at(h), way.values.size() - 1)];
                const auto value = read(key);
                if (!value) {
                    return refuse(ErrorCode::WrongType,
                                  "‘" + variable.name + "’ cannot be ‘" + keyText(key) + "’",
                                  "forecast", "Give a number, or a level that occurs.",
                                  {variable.name});
                }
                path.push_back(*value);
            } else if (way.way == "season") {
                path.push_back(h < static_cast<int>(season) ? aYearBefore(cells, h, last)
                                                            : path[at(h) - season]);
            } else {
                path.push_back(way.way == "mean" ? mean : stays);
            }
        }
        for (int h = 0; h < count(); ++h) {
            cells[rows_[at(h)]] = path[at(h)];
        }
        words_.emplace_back(variable.name, way.way == "values"   ? "as it was given"
                                           : way.way == "season" ? "as a year before"
                                           : way.way == "mean"   ? "at its mean"
                                           : fromTable           ? "as the table has it"
                                                                 : "as it was last");
        return {};
    }

    /// The last value at or before the last moment.
    template <class Cell>
    Cell lastKnown(const std::vector<Cell>& cells, Cell none) const {
        const auto& order = *frame_.timeOrder();
        const std::int64_t now = order.moment[lastRow_];
        Cell out = none;
        std::int64_t when = TimeOrder::kNoMoment;
        for (std::size_t i = 0; i < frame_.rows(); ++i) {
            const std::int64_t moment = order.moment[i];
            if (moment != TimeOrder::kNoMoment && moment <= now && moment > when &&
                !isMissing(cells[i])) {
                when = moment;
                out = cells[i];
            }
        }
        return out;
    }

    template <class Cell>
    Cell aYearBefore(const std::vector<Cell>& cells, int ahead, Cell last) const {
        const auto& order = *frame_.timeOrder();
        const std::int64_t wanted = order.moment[lastRow_] + ahead + 1 - design_.seasonLags;
        for (std::size_t i = 0; i < frame_.rows(); ++i) {
            if (order.moment[i] == wanted && !isMissing(cells[i])) {
                return cells[i];
            }
        }
        return last;
    }

    /// The table with the outcome as it was foretold.
    [[nodiscard]] Frame withOutcome(const VectorXd& foretold) const {
        Table table = table_;
        Column& column = table.columns[static_cast<std::size_t>(outcomeAt_)];
        std::vector<double> cells(column.numbers().begin(), column.numbers().end());
        double level = form_.changes ? lastLevel() : 0.0;
        for (Index h = 0; h < foretold.size(); ++h) {
            level = form_.changes ? level + foretold(h) : foretold(h);
            cells[rows_[static_cast<std::size_t>(h)]] = form_.logged ? std::exp(level) : level;
        }
        column = Column::ofNumbers(column.name(), std::move(cells));
        return Frame::make(table, {}, derived_, Sample{}, frame_.layout());
    }

    /// A leaf at every moment to come.
    [[nodiscard]] Result<std::vector<Key>> valuesOf(const Frame& there,
                                                    const ScenarioVariable& leaf) const {
        const auto value = there.evaluateText(textOf(leaf));
        if (!value) {
            return tl::make_unexpected(value.error());
        }
        std::vector<Key> out;
        for (int h = 0; h < count(); ++h) {
            const std::size_t row = rows_[at(h)];
            if (value->column.isMissing(row)) {
                out.emplace_back(std::nan(""));
            } else if (value->column.isText()) {
                out.emplace_back(
                    value->column.texts()[static_cast<std::size_t>(value->column.codes()[row])]);
            } else {
                out.emplace_back(value->column.numbers()[row]);
            }
        }
        return out;
    }

    /// What does not hang on the outcome’s past, once.
    Result<void> readApart() {
        apartAt_.assign(at(count()), {});
        if (apart_.empty()) {
            return {};
        }
        const Frame there = Frame::make(table_, {}, derived_, Sample{}, frame_.layout());
        for (const ScenarioVariable* leaf : apart_) {
            const auto value = valuesOf(there, *leaf);
            if (!value) {
                return tl::make_unexpected(value.error());
            }
            for (int h = 0; h < count(); ++h) {
                const Key& key = (*value)[at(h)];
                if (isAbsent(key)) {
                    return notThere(*leaf);
                }
                apartAt_[at(h)][leaf->name] = key;
            }
        }
        return {};
    }

    const Frame& frame_;
    const Design& design_;
    const ScenarioMap& map_;
    const ForecastRequest& request_;
    OutcomeForm form_;
    Table table_;  ///< Of what is needed, with rows of the moments to come.
    std::vector<Derived> derived_;
    int outcomeAt_ = -1;       ///< Its variable in the table.
    Index last_ = 0;           ///< The last moment among the rows of the design …
    std::size_t lastRow_ = 0;  ///< … and of the source.
    std::size_t size_ = 0;
    std::vector<std::size_t> rows_;  ///< Of each moment to come.
    std::vector<double> times_;
    std::vector<const ScenarioVariable*> onPast_;
    std::vector<const ScenarioVariable*> apart_;
    std::vector<ScenarioValues> apartAt_;
    std::vector<std::pair<std::string, std::string>> words_;
};

/// Foretold values with their gradients by the coefficients and by the shocks to come.
struct Path {
    VectorXd value;      ///< H.
    MatrixXd gradients;  ///< H × kept columns.
    MatrixXd shocks;     ///< H × H, lower triangle.
};

Result<Path> pathOf(const Ahead& ahead, const Design& design, const Fit& fit, double sigma,
                    const Job& job) {
    const auto H = static_cast<Index>(ahead.count());
    const auto& kept = fit.solution.kept;
    const VectorXd& b = fit.solution.coefficients;
    const double rho = fit.echo ? fit.echo->rho : 0.0;
    VectorXd now = VectorXd::Zero(b.size());
    double left = 0.0;
    if (fit.echo) {
        now = columnsOfRows(design, fit)(ahead.lastRow(), kept).transpose();
        left = leftOfRows(design, fit)(ahead.lastRow());
    }
    Path out{VectorXd::Zero(H), MatrixXd::Zero(H, b.size()), MatrixXd::Zero(H, H)};
    MatrixXd rows(H, b.size());
    const auto fades = [&](Index h) { return std::pow(rho, static_cast<double>(h + 1)); };
    if (!ahead.onItsPast()) {
        const auto X = ahead.rowsFrom(0, ahead.count(), {});
        if (!X) {
            return tl::make_unexpected(X.error());
        }
        rows = (*X)(Eigen::all, kept);
        for (Index h = 0; h < H; ++h) {
            out.value(h) = rows.row(h).dot(b) + fades(h) * left;
        }
    } else {
        for (Index h = 0; h < H; ++h) {
            if (job.stopped()) {
                return tl::make_unexpected(
                    Refusal{ErrorCode::Stopped, "the forecast was stopped", "forecast", "", {}});
            }
            const auto row = ahead.rowAt(static_cast<int>(h), out.value.head(h));
            if (!row) {
                return tl::make_unexpected(row.error());
            }
            rows.row(h) = (*row)(kept).transpose();
            out.value(h) = rows.row(h).dot(b) + fades(h) * left;
        }
    }
    MatrixXd D = MatrixXd::Zero(H, H);
    const double step = 1e-3 * (sigma > 0.0 ? sigma : 1.0);
    for (Index i = 0; ahead.onItsPast() && i + 1 < H; ++i) {
        std::optional<VectorXd> moved[2];
        for (const int side : {0, 1}) {
            VectorXd at = out.value;
            at(i) += side == 0 ? -step : step;
            const auto X = ahead.rowsFrom(static_cast<int>(i) + 1, ahead.count(), at);
            if (!X) {
                return tl::make_unexpected(X.error());
            }
            moved[side] = VectorXd((*X)(Eigen::all, kept) * b);
        }
        D.col(i).tail(H - i - 1) = (*moved[1] - *moved[0]) / (2.0 * step);
        if (job.stopped()) {
            return tl::make_unexpected(
                Refusal{ErrorCode::Stopped, "the forecast was stopped", "forecast", "", {}});
        }
    }
    for (Index h = 0; h < H; ++h) {
        out.gradients.row(h) = rows.row(h) - fades(h) * now.transpose();
        for (Index j = 0; j <= h; ++j) {
            out.shocks(h, j) = j == h ? 1.0 : std::pow(rho, static_cast<double>(h - j));
        }
        for (Index i = 0; i < h; ++i) {
            out.gradients.row(h) += D(h, i) * out.gradients.row(i);
            out.shocks.row(h) += D(h, i) * out.shocks.row(i);
        }
    }
    return out;
}

std::optional<double> lawOf(const Fit& fit) {
    return fit.coefficients.empty() ? std::optional(fit.dfResidual) : fit.coefficients.front().df;
}

double smearing(const Design& design, const Fit& fit) {
    return leftOfRows(design, fit).array().exp().mean();
}

}  // namespace

bool canForecast(const Design& design, const Fit& fit) {
    return design.layout == Layout::Kind::Series && !design.moments.empty() &&
           fit.likelihood == nullptr && fit.quantile == nullptr && fit.levels == nullptr &&
           fit.event == nullptr && fit.dynamic == nullptr && fit.pooled == nullptr && !fit.bent &&
           design.effects.empty() && design.weights.size() == 0;
}

Result<Forecast> forecastOf(const Frame& frame, const Design& design, const Fit& fit,
                            const ScenarioMap& map, const ForecastRequest& request, double alpha,
                            const Job& job) {
    if (!canForecast(design, fit)) {
        return refuse(ErrorCode::BadSetting,
                      "moments to come are foretold from one linear equation of a series, and this "
                      "question is another",
                      "forecast",
                      "Say in Data that a row is a moment, and ask by least squares without "
                      "weights.");
    }
    Ahead ahead(frame, design, map, request);
    if (const auto done = ahead.make(); !done) {
        return tl::make_unexpected(done.error());
    }
    const double sigma = fit.statistics.sigma;
    const auto path = pathOf(ahead, design, fit, sigma, job);
    if (!path) {
        return tl::make_unexpected(path.error());
    }
    const auto k = path->gradients.cols();
    const MatrixXd V = fit.covariance.topLeftCorner(k, k);
    const auto df = lawOf(fit);
    const double reach = criticalValue(alpha, df);
    const auto ends = [&](double value, const Eigen::RowVectorXd& g,
                          const Eigen::RowVectorXd& shocks) {
        const double scatter = std::sqrt(std::max((g * V * g.transpose())(0, 0), 0.0) +
                                         sigma * sigma * shocks.squaredNorm());
        return std::pair(value - reach * scatter, value + reach * scatter);
    };
    Forecast out;
    out.goesOn = ahead.words();
    out.onItsPast = ahead.onItsPast();
    out.dates = frame.variable(frame.layout().time)->measure == Measure::Date;
    out.echo = fit.echo ? fit.echo->rho : 0.0;
    const OutcomeForm& form = ahead.form();
    Eigen::RowVectorXd sumOfGradients = Eigen::RowVectorXd::Zero(k);
    Eigen::RowVectorXd sumOfShocks = Eigen::RowVectorXd::Zero(ahead.count());
    double level = form.changes ? ahead.lastLevel() : 0.0;
    if (form.changes) {
        out.levelOf = form.variable;
    }
    const double factor = design.outcomeLogOf.empty() ? 1.0 : smearing(design, fit);
    for (int h = 0; h < ahead.count(); ++h) {
        ForecastPoint point;
        point.time = ahead.time(h);
        point.moment = ahead.momentText(h);
        const Eigen::RowVectorXd g = path->gradients.row(h);
        const Eigen::RowVectorXd shocks = path->shocks.row(h);
        point.mean = estimateOf(path->value(h), (g * V * g.transpose())(0, 0), df, alpha);
        std::tie(point.rowLow, point.rowHigh) = ends(path->value(h), g, shocks);
        if (!design.outcomeLogOf.empty()) {
            Prediction logged;
            logged.mean = point.mean;
            logged.rowLow = point.rowLow;
            logged.rowHigh = point.rowHigh;
            point.original = carriedBack(logged, factor);
        }
        if (form.changes) {
            sumOfGradients += g;
            sumOfShocks += shocks;
            level += path->value(h);
            Estimate at = estimateOf(level, (sumOfGradients * V * sumOfGradients.transpose())(0, 0),
                                     df, alpha);
            std::tie(point.levelRowLow, point.levelRowHigh) =
                ends(level, sumOfGradients, sumOfShocks);
            if (form.logged) {
                at.se *= std::exp(level);
                for (double* x :
                     {&at.value, &at.low, &at.high, &point.levelRowLow, &point.levelRowHigh}) {
                    *x = std::exp(*x);
                }
                at.statistic.reset();
                at.p.reset();
            }
            point.level = at;
        }
        out.points.push_back(std::move(point));
    }
    if (fit.exact) {
        out.notes.emplace_back("The terms tell the outcome exactly: there is no scatter.");
    }
    return out;
}

}  // namespace rapporto
