#include "core/left/left_rows.h"

#include "core/base/format.h"
#include "core/data/text_index.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdlib>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// Sums of one statement; an engine's answer has some 1,600 cells.
constexpr std::size_t kSums = 1200;

/// Stand in a statement for the table, and for what keeps columns from being put in place of their
/// names, until it is sent.
constexpr std::string_view kTable = "{the table}";
constexpr std::string_view kOnce = "{once}";

void replaceAll(std::string& in, std::string_view what, const std::string& by) {
    for (auto at = in.find(what); at != std::string::npos; at = in.find(what, at + by.size())) {
        in.replace(at, what.size(), by);
    }
}

std::string textIn(const Key& key) {
    const auto* number = std::get_if<double>(&key);
    return number != nullptr ? exactNumber(*number) : std::get<std::string>(key);
}

/// A cell as the study reads it: values that are read as others, then codes for “no answer”.
std::string asRead(std::string sql, bool text, const VariableEntry* entry,
                   const Variable& variable) {
    const auto written = [&](const Key& key) -> std::optional<std::string> {
        if (text) {
            return ServerConnection::literal(textIn(key));
        }
        const auto* number = std::get_if<double>(&key);
        return number == nullptr ? std::nullopt : std::optional(sqlNumber(*number));
    };
    if (entry != nullptr && entry->readAs && !entry->readAs->empty()) {
        std::string cases;
        for (const ReadAs& one : *entry->readAs) {
            Key to = one.to;
            // Of texts, what is read as something that is read as another goes all the way.
            for (std::size_t step = 0; text && step < entry->readAs->size(); ++step) {
                for (const ReadAs& next : *entry->readAs) {
                    to = textIn(next.from) == textIn(to) ? next.to : to;
                }
            }
            const auto from = written(one.from);
            const auto instead = written(to);
            if (from && instead) {
                cases += " when " + *from + " then " + *instead;
            }
        }
        if (!cases.empty()) {
            sql = "(case " + sql + cases + " else " + sql + " end)";
        }
    }
    std::string gone;
    const auto orGone = [&](const std::string& condition) {
        gone += (gone.empty() ? "" : " or ") + condition;
    };
    for (const Key& code : variable.missing) {
        if (const auto value = written(code)) {
            orGone(sql + " = " + *value);
        }
    }
    for (const KeyRange& range : variable.missingRanges) {
        if (!text) {
            orGone("(" + sql + " >= " + sqlNumber(range.low) + " and " + sql +
                   " <= " + sqlNumber(range.high) + ")");
        }
    }
    return gone.empty() ? sql : "(case when " + gone + " then null else " + sql + " end)";
}

}  // namespace

LeftRows::LeftRows(const Study& study, const Frame& frame, Job job)
    : study_(study), frame_(frame), table_(*frame.left()), job_(std::move(job)) {}

std::size_t wholeOf(double count) {
    constexpr double kMost = 9e15;
    return static_cast<std::size_t>(std::clamp(count, 0.0, kMost));
}

RowCounts countsOf(const LeftCounts& counts) {
    RowCounts out;
    out.source = wholeOf(counts.source);
    out.inSample = wholeOf(counts.inSample);
    out.used = wholeOf(counts.used);
    out.byRule = out.source - std::min(out.source, out.inSample);
    out.missing = out.inSample - out.used;
    for (const auto& lack : counts.lacks) {
        out.missingBy.push_back({lack.name, wholeOf(lack.rows), wholeOf(lack.alone)});
    }
    std::stable_sort(out.missingBy.begin(), out.missingBy.end(),
                     [](const auto& a, const auto& b) { return a.rows > b.rows; });
    return out;
}

Result<void> LeftRows::begin(const std::string& where) {
    if (!study_.shape.empty()) {
        return refuse(ErrorCode::BadSetting, "the table is shaped, and its rows " + words().stay,
                      "the shape", words().view);
    }
    if (!study_.sample.setAside.empty()) {
        return refuse(ErrorCode::BadSetting,
                      "rows are set aside by number, and " + words().engine +
                          " is asked for rows by what they hold",
                      "the sample", "Say by a rule which rows count, or " + words().fetch + ".");
    }
    auto engine = table_.connect(job_);
    if (!engine) {
        return tl::make_unexpected(engine.error());
    }
    engine_ = *std::move(engine);
    for (const std::string& text : {study_.sample.where, where}) {
        if (text.empty()) {
            continue;
        }
        auto holds = condition(text);
        if (!holds) {
            return tl::make_unexpected(holds.error());
        }
        rule_ += (rule_.empty() ? "" : " and ") + *holds;
    }
    return {};
}

Result<std::string> LeftRows::condition(const std::string& text) {
    const auto evaluated = frame_.evaluateText(text);
    if (!evaluated) {
        return tl::make_unexpected(evaluated.error());
    }
    const auto parsed = Expression::parse(text);
    const auto value = sqlOf(
        *parsed, [this](const Node& node) { return nameSql(node); }, words());
    if (!value) {
        return tl::make_unexpected(value.error());
    }
    if (value->type == SqlValue::Type::Text) {
        return refuse(ErrorCode::WrongType, "the rule is a text, not a condition", text,
                      "Write a comparison.");
    }
    return value->type == SqlValue::Type::Truth ? value->sql : "(" + value->sql + " <> 0)";
}

Result<SqlValue> LeftRows::cell(const std::string& name) {
    const auto known = cells_.find(name);
    const bool text = table_.variable(name)->kind == ServerKind::Text;
    SqlValue out{text ? SqlValue::Type::Text : SqlValue::Type::Number, {}, frame_.variable(name)};
    if (known != cells_.end()) {
        out.sql = known->second;
        return out;
    }
    const auto entry = std::find_if(study_.variables.begin(), study_.variables.end(),
                                    [&](const VariableEntry& one) { return one.name == name; });
    out.sql = fmt::format("r{}", cells_.size());
    cellSql_[out.sql] =
        asRead(table_.cellSql(name), text, entry == study_.variables.end() ? nullptr : &*entry,
               *frame_.variable(name));
    cells_[name] = out.sql;
    return out;
}

Result<SqlValue> LeftRows::nameSql(const Node& node) {
    const std::string& name = node.text;
    if (table_.variable(name) != nullptr) {
        return cell(name);
    }
    if (const auto broken = frame_.broken().find(name); broken != frame_.broken().end()) {
        return tl::make_unexpected(broken->second);
    }
    const Variable* variable = frame_.variable(name);
    if (variable == nullptr || variable->expression.empty() || within_.contains(name)) {
        return refuse(ErrorCode::UnknownName, "there is no variable ‘" + name + "’",
                      fmt::format("position {}", node.position), "", {name});
    }
    const auto parsed = Expression::parse(variable->expression);
    if (!parsed) {
        return tl::make_unexpected(parsed.error());
    }
    within_.insert(name);
    auto value = sqlOf(
        *parsed, [this](const Node& inner) { return nameSql(inner); }, words());
    within_.erase(name);
    if (!value) {
        return value;
    }
    if (value->type != SqlValue::Type::Text) {
        value->sql = value->number();
        value->type = SqlValue::Type::Number;
    }
    value->variable = variable;
    value->text.reset();
    return value;
}

Result<std::size_t> LeftRows::add(const std::string& text, bool needed) {
    const auto parsed = Expression::parse(text);
    const auto evaluated = frame_.evaluateText(text);
    if (!evaluated) {
        return tl::make_unexpected(evaluated.error());
    }
    const std::string canonical = parsed->canonical();
    for (std::size_t i = 0; i < parts_.size(); ++i) {
        if (canonicalText(parts_[i].text) == canonical) {
            parts_[i].needed = parts_[i].needed || needed;
            return i;
        }
    }
    auto value = sqlOf(
        *parsed, [this](const Node& node) { return nameSql(node); }, words());
    if (!value) {
        return tl::make_unexpected(value.error());
    }
    LeftPart part{text, canonical, fmt::format("p{}", parts_.size()), *std::move(value), {}, false};
    if (parsed->isName()) {
        part.variable = *frame_.variable(parsed->root().text);
        part.name = part.variable.name;
    } else {
        part.variable.measure = evaluated->measure           ? *evaluated->measure
                                : evaluated->isTruth         ? Measure::YesNo
                                : evaluated->column.isText() ? Measure::Groups
                                                             : Measure::Quantity;
        part.variable.levels = evaluated->levels;
    }
    part.needed = needed;
    part.groups = isGrouping(part.variable.measure) || part.value.type == SqlValue::Type::Text;
    if (part.value.type != SqlValue::Type::Text) {
        part.value.sql = part.value.number();
        part.value.type = SqlValue::Type::Number;
    }
    parts_.push_back(std::move(part));
    return parts_.size() - 1;
}

const LeftPart& LeftRows::partOf(const std::string& text) const {
    const std::string canonical = canonicalText(text);
    return *std::find_if(parts_.begin(), parts_.end(),
                         [&](const LeftPart& one) { return canonicalText(one.text) == canonical; });
}

std::string LeftRows::aliasOf(const std::string& cell) const {
    const auto at = std::find_if(parts_.begin(), parts_.end(),
                                 [&](const LeftPart& part) { return part.value.sql == cell; });
    return at == parts_.end() ? std::string() : at->alias;
}

std::string LeftRows::asked() const {
    std::string cells;
    for (const auto& [name, alias] : cells_) {
        cells += (cells.empty() ? "" : ", ") + cellSql_.at(alias) + " as " + alias;
    }
    std::string parts;
    for (const LeftPart& part : parts_) {
        parts += ", " + part.value.sql + " as " + part.alias;
    }
    return "(select base.*" + parts + " from (select " + (cells.empty() ? "1 as one" : cells) +
           " from " + std::string(kTable) + ") base" + (rule_.empty() ? "" : " where " + rule_) +
           ") asked";
}

std::string LeftRows::usedWhere(const std::string& condition) const {
    std::string present;
    for (const LeftPart& part : parts_) {
        if (part.needed) {
            present += (present.empty() ? "" : " and ") + part.alias + " is not null";
        }
    }
    if (!condition.empty()) {
        present += (present.empty() ? "" : " and ") + condition;
    }
    return "(select * from " + asked() + (present.empty() ? "" : " where " + present) + ") used";
}

Result<LeftCounts> LeftRows::count(const std::vector<std::string>& also) {
    std::string whole;
    for (const LeftPart& part : parts_) {
        if (part.needed) {
            whole += (whole.empty() ? "" : " and ") + part.alias + " is not null";
        }
    }
    whole = whole.empty() ? "true" : whole;
    std::vector<std::string> sums = {"count(*)", "count(case when " + whole + " then 1 end)"};
    for (const LeftPart& part : parts_) {
        sums.push_back("count(" + part.alias + ")");
    }
    for (const std::string& one : also) {
        sums.push_back("sum(case when " + whole + " then " + one + " end)");
    }
    const auto found = sumsOfRows(sums, asked());
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    LeftCounts out;
    out.source = table_.rows();
    out.inSample = (*found)[0];
    out.used = (*found)[1];
    for (std::size_t i = 0; i < also.size(); ++i) {
        const double x = (*found)[2 + parts_.size() + i];
        out.also.push_back(std::isnan(x) ? 0.0 : x);
    }
    if (out.used == out.inSample) {
        return out;
    }
    const std::vector<double> present(
        found->begin() + 2, found->begin() + 2 + static_cast<std::ptrdiff_t>(parts_.size()));
    return withLacks(std::move(out), present);
}

Result<LeftCounts> LeftRows::withLacks(LeftCounts counts, const std::vector<double>& present) {
    std::string lacks = "*";
    std::vector<std::string> sums;
    for (const LeftPart& part : parts_) {
        if (!part.needed) {
            continue;
        }
        const std::string lacking = part.alias + " is null";
        lacks += (sums.empty() ? ", " : " + ") + ("case when " + lacking + " then 1 else 0 end");
        sums.push_back("sum(case when " + lacking + " and lacks = 1 then 1 else 0 end)");
    }
    const auto alone = sumsOfRows(sums, workedOut(lacks + " as lacks", asked(), "lacking"));
    if (!alone) {
        return tl::make_unexpected(alone.error());
    }
    auto own = alone->begin();
    for (std::size_t i = 0; i < parts_.size(); ++i) {
        if (!parts_[i].needed) {
            continue;
        }
        if (present[i] < counts.inSample) {
            counts.lacks.push_back({parts_[i].name, counts.inSample - present[i], *own});
        }
        ++own;
    }
    return counts;
}

Result<ServerRows> LeftRows::ask(const std::string& sql) { return askOf(sql, table_.table().from); }

Result<ServerRows> LeftRows::askOf(const std::string& sql, const std::string& table) {
    std::string sent = sql;
    // A part that lies with another server is asked as a whole only where nothing stands between.
    replaceAll(sent, kOnce, table == table_.table().from ? " offset 0 rows" : "");
    replaceAll(sent, kTable, table);
    statements_.push_back(sent);
    return engine_->ask(sent, job_);
}

Result<std::vector<double>> LeftRows::sums(const std::vector<std::string>& columns,
                                           const std::string& from) {
    return sumsFrom(columns, from, table_.table().from);
}

Result<std::vector<double>> LeftRows::sumsOfRows(const std::vector<std::string>& columns,
                                                 const std::string& from) {
    if (!isSpread()) {
        return sums(columns, from);
    }
    std::vector<double> out(columns.size(), 0.0);
    for (const std::string& part : table_.table().parts) {
        const auto own = sumsFrom(columns, from, part);
        if (!own) {
            return own;
        }
        for (std::size_t c = 0; c < out.size(); ++c) {
            out[c] += std::isnan((*own)[c]) ? 0.0 : (*own)[c];  // A part without such rows.
        }
    }
    return out;
}

Result<std::vector<double>> LeftRows::sumsFrom(const std::vector<std::string>& columns,
                                               const std::string& from, const std::string& table) {
    std::vector<double> out;
    for (std::size_t first = 0; first < columns.size(); first += kSums) {
        std::string sql;
        for (std::size_t c = first; c < std::min(first + kSums, columns.size()); ++c) {
            sql += (sql.empty() ? "select " : ", ") + columns[c];
        }
        const auto found = askOf(sql + " from " + from, table);
        if (!found) {
            return tl::make_unexpected(found.error());
        }
        for (const auto& cell : found->rows.front()) {
            out.push_back(cell ? std::strtod(cell->c_str(), nullptr) : std::nan(""));
        }
    }
    return out;
}

Result<ServerRows> LeftRows::askEach(const std::string& sql) {
    if (!isSpread()) {
        return ask(sql);
    }
    ServerRows out;
    for (const std::string& part : table_.table().parts) {
        auto own = askOf(sql, part);
        if (!own) {
            return own;
        }
        out.rows.insert(out.rows.end(), std::make_move_iterator(own->rows.begin()),
                        std::make_move_iterator(own->rows.end()));
    }
    return out;
}

Result<bool> LeftRows::hasOver(const std::string& column, const std::string& from,
                               std::size_t most) {
    if (!isSpread() || most >= kAll) {
        return false;
    }
    const auto found = askEach("select count(distinct " + column + ") from " + from);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    return std::any_of(found->rows.begin(), found->rows.end(), [most](const auto& row) {
        return std::strtod(row[0].value_or("0").c_str(), nullptr) > static_cast<double>(most);
    });
}

Result<std::vector<std::string>> LeftRows::distinct(const std::string& column,
                                                    const std::string& from, std::size_t most) {
    const auto over = hasOver(column, from, most);
    if (!over) {
        return tl::make_unexpected(over.error());
    }
    if (*over) {
        return std::vector<std::string>(most);
    }
    const auto found = askEach("select " + column + " from " + from + " group by " + column +
                               (isSpread() ? "" : fmt::format(" limit {}", most)));
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    std::set<std::string> out;
    for (const auto& row : found->rows) {
        out.insert(row.front().value_or(""));
    }
    return std::vector<std::string>(out.begin(), out.end());
}

Result<LeftGroupSums> LeftRows::sumsByGroup(const std::string& groups,
                                            const std::vector<std::string>& columns,
                                            const std::string& from) {
    std::string sql = "select cast((" + groups + ") as text)";
    for (const std::string& column : columns) {
        sql += ", " + column;
    }
    const auto found = askEach(sql + " from " + from + " group by " + groups);
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    std::map<std::string, VectorXd> byGroup;
    for (const auto& row : found->rows) {
        const auto [at, fresh] = byGroup.try_emplace(
            row[0].value_or(""), VectorXd::Zero(static_cast<Index>(columns.size())));
        for (std::size_t c = 0; c < columns.size(); ++c) {
            at->second(static_cast<Index>(c)) +=
                std::strtod(row[c + 1].value_or("0").c_str(), nullptr);
        }
    }
    LeftGroupSums out;
    out.sums.resize(static_cast<Index>(byGroup.size()), static_cast<Index>(columns.size()));
    for (const auto& [group, sums] : byGroup) {
        out.sums.row(static_cast<Index>(out.groups.size())) = sums.transpose();
        out.groups.push_back(group);
    }
    return out;
}

Column columnOfCells(const std::string& name, const std::vector<std::optional<std::string>>& cells,
                     bool text) {
    if (!text) {
        std::vector<double> numbers;
        for (const auto& cell : cells) {
            numbers.push_back(cell ? std::strtod(cell->c_str(), nullptr) : std::nan(""));
        }
        return Column::ofNumbers(name, std::move(numbers));
    }
    TextIndex index;
    std::vector<std::int32_t> codes;
    for (const auto& cell : cells) {
        codes.push_back(cell ? index.add(*cell) : -1);
    }
    return Column::ofTexts(name, std::move(codes), index.take());
}

std::string workedOut(const std::string& columns, const std::string& from,
                      const std::string& name) {
    return "(select " + columns + " from " + from + std::string(kOnce) + ") " + name;
}

LeftMoments momentsAbout(const double* sums, const VectorXd& about) {
    const Index p = about.size();
    LeftMoments out;
    out.weight = sums[0];
    const VectorXd off = Eigen::Map<const VectorXd>(sums + 1, p) / out.weight;
    out.mean = about + off;
    out.spread.resize(p, p);
    const double* product = sums + 1 + p;
    for (Index i = 0; i < p; ++i) {
        for (Index j = 0; j <= i; ++j) {
            out.spread(i, j) = out.spread(j, i) = *product++ / out.weight - off(i) * off(j);
        }
    }
    return out;
}

bool areFar(const LeftMoments& moments, const VectorXd& about) {
    constexpr double kFar = 10.0;  // Spreads.
    return ((moments.mean - about).array().square() >
            kFar * kFar * moments.spread.diagonal().array().max(0.0) +
                1e-30 * about.array().square())
        .any();
}

Result<LeftMoments> leftMoments(LeftRows& rows, const std::vector<std::string>& columns,
                                const VectorXd& near, const std::string& weight,
                                const std::string& from, bool apart) {
    const auto p = static_cast<Index>(columns.size());
    const auto ask = [&](const std::vector<std::string>& sums, const std::string& of) {
        return apart ? rows.sumsOfRows(sums, of) : rows.sums(sums, of);
    };
    const bool weighted = weight != "1";
    const auto times = [&](const std::string& x) {
        return weighted ? "sum(" + weight + " * " + x + ")" : "sum(" + x + ")";
    };
    std::vector<std::string> sums = {weighted ? "sum(" + weight + ")" : "count(*)"};
    VectorXd about = near;
    if (near.size() == 0) {
        for (const std::string& column : columns) {
            sums.push_back(times(column));
        }
        const auto first = ask(sums, from);
        if (!first) {
            return tl::make_unexpected(first.error());
        }
        about = Eigen::Map<const VectorXd>(first->data() + 1, p) / (*first)[0];
        sums.resize(1);
    }
    std::string left = weight + " as w";
    for (Index j = 0; j < p; ++j) {
        left += fmt::format(", {} - {} as d{}", columns[static_cast<std::size_t>(j)],
                            sqlNumber(about(j)), j);
        sums.push_back(fmt::format("sum({}d{})", weighted ? "w * " : "", j));
    }
    sums[0] = weighted ? "sum(w)" : "count(*)";
    for (Index i = 0; i < p; ++i) {
        for (Index j = 0; j <= i; ++j) {
            sums.push_back(fmt::format("sum({}d{} * d{})", weighted ? "w * " : "", i, j));
        }
    }
    const auto found = ask(sums, workedOut(left, from, "centred"));
    if (!found) {
        return tl::make_unexpected(found.error());
    }
    LeftMoments out = momentsAbout(found->data(), about);
    return near.size() > 0 && areFar(out, about)
               ? leftMoments(rows, columns, out.mean, weight, from, apart)
               : out;
}

MatrixXd standInRows(const LeftMoments& moments, Index m, const VectorXd& told) {
    const Index p = moments.mean.size();
    // Lower triangle L with L L' = spread; a pivot that is rounding is none.
    MatrixXd L = MatrixXd::Zero(p, p);
    for (Index j = 0; j < p; ++j) {
        const double whole = moments.spread(j, j);
        const double pivot = whole - L.row(j).head(j).squaredNorm();
        if (!(pivot > told(j) * whole)) {
            continue;
        }
        L(j, j) = std::sqrt(pivot);
        for (Index i = j + 1; i < p; ++i) {
            L(i, j) = (moments.spread(i, j) - L.row(i).head(j).dot(L.row(j).head(j))) / L(j, j);
        }
    }
    // Columns of squared length m that are at right angles to each other, and to the constant.
    MatrixXd U = MatrixXd::Zero(m, p);
    const double root = std::sqrt(static_cast<double>(m));
    for (Index j = 0; j < p; ++j) {
        const double below = static_cast<double>(j) + 1.0;
        const double length = root / std::sqrt(below * (below + 1.0));
        U.col(j).head(j + 1).setConstant(length);
        U(j + 1, j) = -below * length;
    }
    MatrixXd out = U * L.transpose();
    out.rowwise() += moments.mean.transpose();
    return out;
}

}  // namespace rapporto
