#include "core/impute/sets.h"

#include "core/base/format.h"
#include "core/base/parallel.h"
#include "core/base/room.h"
#include "core/impute/ways.h"

#include <algorithm>
#include <atomic>
#include <cmath>
#include <limits>
#include <mutex>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr std::size_t kMostLevels = 30;      // Of what is filled in …
constexpr std::size_t kMostIndicators = 60;  // … and of what foretells.

tl::unexpected<Refusal> refused(ErrorCode code, std::string what, std::string name,
                                std::string help) {
    return refuse(code, std::move(what), "what is filled in", std::move(help), {std::move(name)});
}

std::string quoted(const std::string& name) { return "‘" + name + "’"; }

/// A part of the matrix of what foretells: one variable, or one expression beside them.
struct Block {
    std::string text;
    std::set<std::string> hangsOn;  ///< Names that it is worked out from, through all of them.
    std::vector<FoundLevel> levels = {};  ///< Of groups; else empty.
    double middle = 0.0;                  ///< Of numbers, as they were seen.
    double spread = 1.0;
    Index first = 0;
    Index width = 1;
};

/// A variable with gaps, before any chain begins.
struct Target {
    std::string name;
    std::string label;
    std::string way;
    bool isText = false;
    std::vector<FoundLevel> levels;
    std::vector<Index> seen;  ///< Rows of the sample, by their place in it.
    std::vector<Index> notSeen;
    VectorXd y;  ///< Of those seen: numbers, or places of levels.
    std::size_t block = 0;
    std::vector<Index> by;    ///< Columns of the matrix that foretell it.
    std::size_t follows = 0;  ///< The level that the path is of.
};

/// What a set needs while it is made.
struct Chain {
    MatrixXd P;                      ///< Rows of the sample × columns, what foretells.
    std::vector<VectorXd> values;    ///< Of every target’s gaps: numbers, or places of levels.
    std::vector<LevelState> levels;  ///< Of targets that have them.
    std::vector<MatrixXd> seen;      ///< Room for what foretells each target in its rows …
    std::vector<MatrixXd> notSeen;   ///< … seen and not.
    std::vector<GroupsOfRows> groups;
};

class Imputer {
  public:
    Imputer(const ImputationInput& in, const Job& job) : in_(in), job_(job) {}

    Result<std::shared_ptr<const ImputedSets>> make() {
        for (auto step : {&Imputer::findRows, &Imputer::findTargets, &Imputer::findForetelling,
                          &Imputer::findGroups}) {
            if (auto done = (this->*step)(); !done) {
                return tl::make_unexpected(done.error());
            }
        }
        out_.spec = in_.spec;
        if (auto done = makeRoom(); !done) {
            return tl::make_unexpected(done.error());
        }
        const auto sets = static_cast<std::size_t>(in_.spec.sets);
        std::mutex mutex;
        std::optional<std::pair<std::size_t, Refusal>> first;
        inParallel(sets, [&](std::size_t set) {
            if (job_.stopped()) {
                return;
            }
            if (auto done = makeSet(set); !done) {
                const std::scoped_lock lock(mutex);
                if (!first || set < first->first) {
                    first = {set, done.error()};
                }
            }
        });
        if (job_.stopped()) {
            return refuse(ErrorCode::Stopped, "the computation was stopped", "",
                          "Change anything to start it again.");
        }
        if (first) {
            return tl::make_unexpected(first->second);
        }
        for (ImputedVariable& one : out_.variables) {
            one.settled = settledOf(one.means);
        }
        return std::make_shared<const ImputedSets>(std::move(out_));
    }

  private:
    const Frame& frame() const { return in_.frame; }

    Result<void> findRows() {
        if (frame().moments() != nullptr) {
            return refused(ErrorCode::BadSetting,
                           "filling in needs rows, and the source is a summary", "",
                           "Ask with the rows that are there.");
        }
        if (!in_.spec.isDeclared()) {
            return refused(ErrorCode::BadSetting, "nothing is declared to be filled in", "",
                           "Say what and by what in Data, under what is missing.");
        }
        for (std::size_t i = 0; i < frame().rows(); ++i) {
            if (frame().states()[i] == RowState::In) {
                rows_.push_back(i);
            }
        }
        return rows_.empty() ? Result<void>(refused(ErrorCode::TooFewRows, "the sample has no row",
                                                    "", "Change the sample’s rule."))
                             : Result<void>();
    }

    Result<void> findTargets() {
        for (const std::string& name : in_.spec.variables) {
            const Variable* variable = frame().variable(name);
            if (const auto broken = frame().brokenAmong({name})) {
                return tl::make_unexpected(*broken);
            }
            if (variable == nullptr) {
                std::vector<std::string> names;
                for (const Variable& one : frame().table().variables) {
                    names.push_back(one.name);
                }
                const auto near = nearestName(name, names);
                return refused(
                    ErrorCode::UnknownName, "there is no variable " + quoted(name), name,
                    near ? "Did you mean " + quoted(*near) + "?" : "Name a column of the table.");
            }
            if (!variable->expression.empty()) {
                return refused(ErrorCode::BadSetting,
                               quoted(name) + " is worked out from others, and follows them", name,
                               "Name what it is made of instead: " + variable->expression + ".");
            }
            if (auto done = addTarget(*variable, *frame().column(name)); !done) {
                return done;
            }
        }
        return {};
    }

    Result<void> addTarget(const Variable& variable, const Column& column) {
        Target target;
        target.name = variable.name;
        target.label = variable.shown();
        target.isText = column.isText();
        const auto by = in_.spec.by.find(variable.name);
        target.way = by == in_.spec.by.end() ? usualWay(variable.measure) : by->second;
        std::vector<std::size_t> seen;
        for (std::size_t i = 0; i < rows_.size(); ++i) {
            const bool gap = column.isMissing(rows_[i]);
            (gap ? target.notSeen : target.seen).push_back(static_cast<Index>(i));
            if (!gap) {
                seen.push_back(rows_[i]);
            }
        }
        if (seen.empty()) {
            return refused(ErrorCode::NoVariation, quoted(target.name) + " has no answer at all",
                           target.name, "Take it out of what is filled in.");
        }
        const bool ofNumbers = target.way == "matching" || target.way == "normal";
        if (ofNumbers && target.isText) {
            return refused(ErrorCode::BadSetting,
                           quoted(target.name) + " is a text: " + target.way + " is for numbers",
                           target.name, "Fill it in by logit, ordered or groups.");
        }
        target.y.resize(static_cast<Index>(seen.size()));
        if (ofNumbers) {
            for (std::size_t i = 0; i < seen.size(); ++i) {
                target.y(static_cast<Index>(i)) = column.numbers()[seen[i]];
            }
        } else if (auto done = setLevels(target, variable, column, seen); !done) {
            return done;
        }
        targets_.push_back(std::move(target));
        return {};
    }

    static Result<void> setLevels(Target& target, const Variable& variable, const Column& column,
                                  const std::vector<std::size_t>& seen) {
        target.levels = levelsOf(column, variable, seen);
        const std::size_t count = target.levels.size();
        if (count > kMostLevels) {
            return refused(ErrorCode::TooLarge,
                           quoted(target.name) + " has " + std::to_string(count) +
                               " levels: too many to be foretold one by one",
                           target.name, "Merge levels, or take it out of what is filled in.");
        }
        if (target.way == "logit" && count > 2) {
            return refused(ErrorCode::BadSetting,
                           quoted(target.name) + " has " + std::to_string(count) +
                               " levels, and logit is for two",
                           target.name, "Fill it in by ordered or groups.");
        }
        if (count < 2 && !target.notSeen.empty()) {
            return refused(ErrorCode::NoVariation,
                           "every answer to " + quoted(target.name) + " is the same", target.name,
                           "Take it out of what is filled in.");
        }
        for (std::size_t i = 0; i < seen.size(); ++i) {
            const double code =
                column.isText() ? column.codes()[seen[i]] : column.numbers()[seen[i]];
            target.y(static_cast<Index>(i)) = static_cast<double>(placeOf(target.levels, code));
        }
        std::size_t most = 0;
        for (std::size_t l = 0; l < count; ++l) {
            most = target.levels[l].count > target.levels[most].count ? l : most;
        }
        // Of two levels the second: the share of yes.
        target.follows = count == 2 ? 1 : most;
        return {};
    }

    static std::size_t placeOf(const std::vector<FoundLevel>& levels, double code) {
        const auto at = std::find_if(levels.begin(), levels.end(),
                                     [&](const FoundLevel& one) { return one.code == code; });
        return static_cast<std::size_t>(at - levels.begin());
    }

    /// Every name behind these, through what is derived.
    [[nodiscard]] std::set<std::string> behind(const std::set<std::string>& names) const {
        std::set<std::string> out;
        std::vector<std::string> open(names.begin(), names.end());
        while (!open.empty()) {
            const std::string name = open.back();
            open.pop_back();
            const Variable* variable = frame().variable(name);
            if (!out.insert(name).second || variable == nullptr || variable->expression.empty()) {
                continue;
            }
            if (const auto parsed = Expression::parse(variable->expression)) {
                const auto parts = parsed->names();
                open.insert(open.end(), parts.begin(), parts.end());
            }
        }
        return out;
    }

    Result<void> findForetelling() {
        for (Target& target : targets_) {
            target.block = blocks_.size();
            Block block{target.name, {target.name}, target.levels};
            if (target.levels.empty()) {
                measure(target.y, block);
            }
            addBlock(std::move(block));
        }
        std::set<std::string> filled;
        for (const Target& target : targets_) {
            filled.insert(target.name);
        }
        for (const std::string& text : in_.spec.with) {
            const auto parsed = Expression::parse(text);
            if (!parsed) {
                Refusal refusal = parsed.error();
                refusal.where = quoted(text) + " of what foretells, " + refusal.where;
                return tl::make_unexpected(refusal);
            }
            const std::set<std::string> names = behind(parsed->names());
            const bool itself = parsed->isName() && filled.contains(*parsed->names().begin());
            if (!itself) {  // Each variable that is filled in foretells the others anyway.
                if (auto done = addForetelling(text, names, filled); !done) {
                    return done;
                }
            }
        }
        for (Target& target : targets_) {
            for (std::size_t b = 0; b < blocks_.size(); ++b) {
                for (Index c = 0; !blocks_[b].hangsOn.contains(target.name) && c < blocks_[b].width;
                     ++c) {
                    target.by.push_back(blocks_[b].first + c);
                }
            }
        }
        order_.resize(targets_.size());
        std::iota(order_.begin(), order_.end(), std::size_t{0});
        std::stable_sort(order_.begin(), order_.end(), [&](std::size_t a, std::size_t b) {
            return targets_[a].notSeen.size() < targets_[b].notSeen.size();
        });
        std::erase_if(order_, [&](std::size_t k) { return targets_[k].notSeen.empty(); });
        return {};
    }

    static void measure(const VectorXd& seen, Block& block) {
        block.middle = seen.mean();
        const double spread = std::sqrt((seen.array() - block.middle).square().sum() /
                                        std::max(1.0, static_cast<double>(seen.size()) - 1.0));
        block.spread = spread > 0.0 && std::isfinite(spread) ? spread : 1.0;
    }

    void addBlock(Block block) {
        block.first = width_;
        block.width = block.levels.empty() ? 1 : static_cast<Index>(block.levels.size()) - 1;
        width_ += block.width;
        blocks_.push_back(std::move(block));
    }

    Result<void> addForetelling(const std::string& text, const std::set<std::string>& names,
                                const std::set<std::string>& filled) {
        auto value = frame().evaluateText(text);
        if (!value) {
            Refusal refusal = value.error();
            refusal.where = quoted(text) + " of what foretells";
            return tl::make_unexpected(refusal);
        }
        const bool follows = std::any_of(names.begin(), names.end(), [&](const std::string& name) {
            return filled.contains(name);
        });
        Block block{text, names};
        const Column& column = value->column;
        std::vector<double> seen;
        std::size_t gaps = 0;
        for (const std::size_t row : rows_) {
            gaps += column.isMissing(row) ? 1U : 0U;
            if (!column.isText() && !column.isMissing(row)) {
                seen.push_back(column.numbers()[row]);
            }
        }
        if (gaps > 0 && !follows) {
            return refused(ErrorCode::BadSetting,
                           quoted(text) + " is to foretell, and is itself missing in " +
                               plural(gaps, "row", "rows") + " of the sample",
                           text, "Let it be filled in, too, or take it out of what foretells.");
        }
        const Variable* variable = frame().variable(text);
        const Measure measured = value->measure ? *value->measure
                                 : variable     ? variable->measure
                                                : Measure::Quantity;
        if (column.isText() || isGrouping(measured)) {
            Variable none;
            block.levels = levelsOf(column, variable != nullptr ? *variable : none, rows_);
            if (block.levels.size() > kMostIndicators) {
                return refused(ErrorCode::TooLarge,
                               quoted(text) + " has " + std::to_string(block.levels.size()) +
                                   " levels: too many to foretell by",
                               text, "Merge levels, or take it out of what foretells.");
            }
            if (block.levels.size() < 2) {
                return {};  // It is the same everywhere: it foretells nothing.
            }
        } else {
            measure(Eigen::Map<const VectorXd>(seen.data(), static_cast<Index>(seen.size())),
                    block);
        }
        if (follows) {
            followers_.push_back(blocks_.size());
        }
        addBlock(std::move(block));
        return {};
    }

    Result<void> findGroups() {
        if (in_.groups.empty()) {
            return {};
        }
        const Column* column = frame().column(in_.groups);
        if (column == nullptr) {
            return {};
        }
        // Rows without a group stand alone.
        std::map<double, std::int32_t> known;
        std::int32_t count = 0;
        for (const std::size_t row : rows_) {
            if (column->isMissing(row)) {
                groupOf_.push_back(count++);
                continue;
            }
            const double code = column->isText() ? column->codes()[row] : column->numbers()[row];
            const auto [at, fresh] = known.try_emplace(code, count);
            count += fresh ? 1 : 0;
            groupOf_.push_back(at->second);
        }
        constexpr std::int32_t kFewest = 5;  // Fewer tell nothing of how groups spread.
        if (count < kFewest || 2 * static_cast<std::size_t>(count) > rows_.size()) {
            groupOf_.clear();
            return {};
        }
        groupCount_ = count;
        out_.groups = in_.groups;
        return {};
    }

    Result<void> makeRoom() {
        double cells = 0.0;
        for (const std::size_t k : order_) {
            cells += static_cast<double>(targets_[k].notSeen.size()) * in_.spec.sets;
        }
        cells += static_cast<double>(width_ + 2) * static_cast<double>(rows_.size()) * 4.0;
        const double bytes = cells * sizeof(double);
        if (bytes > 0.5 * static_cast<double>(memoryLeft())) {
            return refused(ErrorCode::TooLarge,
                           "the sets would take " + fixedNumber(bytes / 1e9, 1) +
                               " GB of memory, and there is less",
                           "", "Ask for fewer sets.");
        }
        for (const Target& target : targets_) {
            if (target.notSeen.empty()) {
                continue;
            }
            if (target.seen.size() <= target.by.size() + 1) {
                return refused(ErrorCode::TooFewRows,
                               quoted(target.name) + " has " +
                                   plural(target.seen.size(), "answer", "answers") + ", and " +
                                   std::to_string(target.by.size()) + " columns foretell it",
                               target.name, "Take some of what foretells out.");
            }
            ImputedVariable one;
            one.name = target.name;
            one.label = target.label;
            one.way = target.way;
            if (!target.levels.empty()) {
                one.follows = target.levels[target.follows].label;
            }
            for (const Index i : target.notSeen) {
                one.rows.push_back(rows_[static_cast<std::size_t>(i)]);
            }
            one.values.resize(static_cast<Index>(one.rows.size()), in_.spec.sets);
            one.means.resize(in_.spec.rounds, in_.spec.sets);
            one.spreads.resize(in_.spec.rounds, in_.spec.sets);
            out_.variables.push_back(std::move(one));
            places_.push_back(out_.variables.size() - 1);
        }
        visits_ = static_cast<double>(order_.size()) * in_.spec.rounds * in_.spec.sets;
        return {};
    }

    /// A cell of a variable in the matrix of what foretells.
    static void put(MatrixXd& P, Index row, const Block& block, double value) {
        if (block.levels.empty()) {
            P(row, block.first) = (value - block.middle) / block.spread;
            return;
        }
        for (Index c = 0; c < block.width; ++c) {
            P(row, block.first + c) = value == static_cast<double>(c + 1) ? 1.0 : 0.0;
        }
    }

    /// The columns of what hangs on filled variables, worked out anew.
    Result<void> putColumn(MatrixXd& P, const Block& block, const Frame& of) const {
        const auto value = of.evaluateText(block.text);
        if (!value) {
            return tl::make_unexpected(value.error());
        }
        const Column& column = value->column;
        for (std::size_t i = 0; i < rows_.size(); ++i) {
            const std::size_t row = rows_[i];
            if (column.isMissing(row)) {
                return refused(
                    ErrorCode::BadSetting,
                    quoted(block.text) + " has no value for what was filled in, in row " +
                        std::to_string(row + 1),
                    block.text, "Take it out of what foretells, or fill in by matching.");
            }
            if (block.levels.empty()) {
                put(P, static_cast<Index>(i), block, column.numbers()[row]);
                continue;
            }
            const std::string text =
                column.isText() ? column.texts()[static_cast<std::size_t>(column.codes()[row])]
                                : exactNumber(column.numbers()[row]);
            const auto at = std::find_if(block.levels.begin(), block.levels.end(),
                                         [&](const FoundLevel& one) { return one.value == text; });
            // A level that was never seen counts as the first.
            const auto place = at == block.levels.end() ? 0 : at - block.levels.begin();
            put(P, static_cast<Index>(i), block, static_cast<double>(place));
        }
        return {};
    }

    [[nodiscard]] double cellOf(const Target& target, double value) const {
        return target.levels.empty() ? value : target.levels[static_cast<std::size_t>(value)].code;
    }

    [[nodiscard]] Column columnOf(const Target& target, const VectorXd& values) const {
        const Column& column = *frame().column(target.name);
        if (target.isText) {
            std::vector<std::int32_t> codes(column.codes().begin(), column.codes().end());
            for (std::size_t i = 0; i < target.notSeen.size(); ++i) {
                codes[rows_[static_cast<std::size_t>(target.notSeen[i])]] =
                    static_cast<std::int32_t>(cellOf(target, values(static_cast<Index>(i))));
            }
            return Column::ofTexts(target.name, std::move(codes), column.texts());
        }
        std::vector<double> cells(column.numbers().begin(), column.numbers().end());
        for (std::size_t i = 0; i < target.notSeen.size(); ++i) {
            cells[rows_[static_cast<std::size_t>(target.notSeen[i])]] =
                cellOf(target, values(static_cast<Index>(i)));
        }
        return Column::ofNumbers(target.name, std::move(cells));
    }

    Result<void> refreshFollowers(Chain& chain, const std::set<std::string>& changed) const {
        const auto touches = [&](std::size_t b) {
            return std::any_of(changed.begin(), changed.end(), [&](const std::string& name) {
                return blocks_[b].hangsOn.contains(name);
            });
        };
        if (std::none_of(followers_.begin(), followers_.end(), touches)) {
            return {};
        }
        std::vector<Column> columns;
        for (const std::size_t k : order_) {
            columns.push_back(columnOf(targets_[k], chain.values[k]));
        }
        const Frame now = frame().filled(columns, in_.entries, in_.derived);
        for (const std::size_t b : followers_) {
            if (touches(b)) {
                if (auto done = putColumn(chain.P, blocks_[b], now); !done) {
                    return done;
                }
            }
        }
        return {};
    }

    Result<Chain> begun(RandomStream& random) const {
        Chain chain;
        const auto n = static_cast<Index>(rows_.size());
        chain.P = MatrixXd::Zero(n, width_);
        chain.values.resize(targets_.size());
        chain.levels.resize(targets_.size());
        chain.seen.resize(targets_.size());
        chain.notSeen.resize(targets_.size());
        chain.groups.resize(targets_.size());
        for (std::size_t k = 0; k < targets_.size(); ++k) {
            const Target& target = targets_[k];
            const Block& block = blocks_[target.block];
            for (std::size_t i = 0; i < target.seen.size(); ++i) {
                put(chain.P, target.seen[i], block, target.y(static_cast<Index>(i)));
            }
            chain.values[k].resize(static_cast<Index>(target.notSeen.size()));
            for (std::size_t i = 0; i < target.notSeen.size(); ++i) {
                const double value = target.y(
                    static_cast<Index>(random.below(static_cast<std::uint64_t>(target.y.size()))));
                chain.values[k](static_cast<Index>(i)) = value;
                put(chain.P, target.notSeen[i], block, value);
            }
            if (!groupOf_.empty() && target.levels.empty()) {
                GroupsOfRows& groups = chain.groups[k];
                groups.shift = VectorXd::Zero(groupCount_);
                for (const Index i : target.seen) {
                    groups.seen.push_back(groupOf_[static_cast<std::size_t>(i)]);
                }
                for (const Index i : target.notSeen) {
                    groups.notSeen.push_back(groupOf_[static_cast<std::size_t>(i)]);
                }
            }
        }
        std::set<std::string> filled;
        for (const Target& target : targets_) {
            filled.insert(target.name);
        }
        for (std::size_t b = targets_.size(); b < blocks_.size(); ++b) {
            if (std::find(followers_.begin(), followers_.end(), b) == followers_.end()) {
                if (auto done = putColumn(chain.P, blocks_[b], frame()); !done) {
                    return tl::make_unexpected(done.error());
                }
            }
        }
        if (auto done = refreshFollowers(chain, filled); !done) {
            return tl::make_unexpected(done.error());
        }
        return chain;
    }

    Result<void> visit(Chain& chain, std::size_t k, RandomStream& random) const {
        const Target& target = targets_[k];
        const auto width = static_cast<Index>(target.by.size());
        const auto gather = [&](const std::vector<Index>& rows, MatrixXd& X) {
            X.resize(static_cast<Index>(rows.size()), width + 1);
            X.col(0).setOnes();
            for (Index c = 0; c < width; ++c) {
                const double* from = chain.P.col(target.by[static_cast<std::size_t>(c)]).data();
                double* to = X.col(c + 1).data();
                for (std::size_t i = 0; i < rows.size(); ++i) {
                    to[i] = from[rows[i]];
                }
            }
        };
        gather(target.seen, chain.seen[k]);
        gather(target.notSeen, chain.notSeen[k]);
        const SeenAndNot rows{chain.seen[k], target.y, chain.notSeen[k]};
        GroupsOfRows& groups = chain.groups[k];
        auto drawn = target.levels.empty()
                         ? drawNumbers(rows, target.way == "matching" ? in_.spec.donors : 0,
                                       groups.seen.empty() ? nullptr : &groups, random)
                         : drawLevels(rows, static_cast<int>(target.levels.size()),
                                      target.way == "ordered", chain.levels[k], random, job_);
        if (!drawn) {
            Refusal refusal = drawn.error();
            if (refusal.code != ErrorCode::Stopped) {
                refusal.what =
                    refusal.code == ErrorCode::TooFewRows
                        ? quoted(target.name) + " has too few answers for what foretells it"
                        : quoted(target.name) + " cannot be foretold: " + refusal.what;
                refusal.where = "what is filled in";
                refusal.help = "Take some of what foretells out, or fill it in another way.";
            }
            return tl::make_unexpected(refusal);
        }
        chain.values[k] = *std::move(drawn);
        for (std::size_t i = 0; i < target.notSeen.size(); ++i) {
            put(chain.P, target.notSeen[i], blocks_[target.block],
                chain.values[k](static_cast<Index>(i)));
        }
        return refreshFollowers(chain, {target.name});
    }

    Result<void> makeSet(std::size_t set) {
        RandomStream random(in_.spec.seed.value_or(in_.seed), set + 1);
        auto chain = begun(random);
        if (!chain) {
            return tl::make_unexpected(chain.error());
        }
        const auto column = static_cast<Index>(set);
        for (int round = 0; round < in_.spec.rounds; ++round) {
            for (const std::size_t k : order_) {
                if (job_.stopped()) {
                    return refuse(ErrorCode::Stopped, "");
                }
                if (auto done = visit(*chain, k, random); !done) {
                    return done;
                }
                note(k, chain->values[k], round, column);
                job_.report(static_cast<double>(++made_) / visits_);
            }
        }
        for (const std::size_t k : order_) {
            ImputedVariable& one = variableOf(k);
            for (Index i = 0; i < one.values.rows(); ++i) {
                one.values(i, column) = cellOf(targets_[k], chain->values[k](i));
            }
        }
        return {};
    }

    ImputedVariable& variableOf(std::size_t k) {
        // Places count the targets with gaps in the order of the study.
        std::size_t at = 0;
        for (std::size_t j = 0; j < k; ++j) {
            at += targets_[j].notSeen.empty() ? 0U : 1U;
        }
        return out_.variables[places_[at]];
    }

    /// How far the chain is.
    void note(std::size_t k, const VectorXd& values, int round, Index set) {
        const Target& target = targets_[k];
        const VectorXd path =
            target.levels.empty()
                ? values
                : VectorXd((values.array() == static_cast<double>(target.follows)).cast<double>());
        const double mean = path.mean();
        ImputedVariable& one = variableOf(k);
        one.means(round, set) = mean;
        one.spreads(round, set) = std::sqrt((path.array() - mean).square().sum() /
                                            std::max(1.0, static_cast<double>(path.size()) - 1.0));
    }

    const ImputationInput& in_;
    const Job& job_;
    ImputedSets out_;
    std::vector<std::size_t> rows_;   ///< Of the sample.
    std::vector<Target> targets_;     ///< As the study lists them, those without gaps among them.
    std::vector<std::size_t> order_;  ///< Those with gaps, fewest first.
    std::vector<std::size_t> places_;
    std::vector<Block> blocks_;
    std::vector<std::size_t> followers_;  ///< Blocks that hang on what is filled in.
    Index width_ = 0;
    std::vector<std::int32_t> groupOf_;  ///< Of each row of the sample; empty: none.
    std::int32_t groupCount_ = 0;
    double visits_ = 1.0;
    std::atomic<std::size_t> made_{0};
};

}  // namespace

Result<std::shared_ptr<const ImputedSets>> imputeSets(const ImputationInput& input,
                                                      const Job& job) {
    return Imputer(input, job).make();
}

std::string usualWay(Measure measure) {
    switch (measure) {
        case Measure::YesNo:
            return "logit";
        case Measure::OrderedGroups:
            return "ordered";
        case Measure::Groups:
        case Measure::Text:
            return "groups";
        default:
            return "matching";
    }
}

const std::vector<std::string>& imputationWays() {
    static const std::vector<std::string> kAll = {"matching", "normal", "logit", "ordered",
                                                  "groups"};
    return kAll;
}

std::optional<double> settledOf(const MatrixXd& path) {
    const Index rounds = path.rows() / 2;
    if (rounds < 2 || path.cols() < 2) {
        return std::nullopt;
    }
    const MatrixXd late = path.bottomRows(rounds);
    const VectorXd means = late.colwise().mean();
    const double within = (late.rowwise() - means.transpose()).array().square().sum() /
                          (static_cast<double>(rounds - 1) * static_cast<double>(late.cols()));
    const double between =
        (means.array() - means.mean()).square().sum() / static_cast<double>(late.cols() - 1);
    if (!(within > 0.0)) {
        return std::nullopt;
    }
    const double share = static_cast<double>(rounds - 1) / static_cast<double>(rounds);
    return std::sqrt(share + between / within);
}

std::vector<Column> ImputedSets::columns(const Frame& frame, std::size_t set) const {
    std::vector<Column> out;
    for (const ImputedVariable& one : variables) {
        const Column& column = *frame.column(one.name);
        const auto at = static_cast<Index>(set);
        if (column.isText()) {
            std::vector<std::int32_t> codes(column.codes().begin(), column.codes().end());
            for (std::size_t i = 0; i < one.rows.size(); ++i) {
                codes[one.rows[i]] =
                    static_cast<std::int32_t>(one.values(static_cast<Index>(i), at));
            }
            out.push_back(Column::ofTexts(one.name, std::move(codes), column.texts()));
            continue;
        }
        std::vector<double> cells(column.numbers().begin(), column.numbers().end());
        for (std::size_t i = 0; i < one.rows.size(); ++i) {
            cells[one.rows[i]] = one.values(static_cast<Index>(i), at);
        }
        out.push_back(Column::ofNumbers(one.name, std::move(cells)));
    }
    return out;
}

const ImputedVariable* ImputedSets::find(const std::string& name) const {
    const auto at = std::find_if(variables.begin(), variables.end(),
                                 [&](const ImputedVariable& one) { return one.name == name; });
    return at == variables.end() ? nullptr : &*at;
}

}  // namespace rapporto
