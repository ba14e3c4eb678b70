#include "core/model/design.h"

#include "core/base/format.h"
#include "core/base/room.h"
#include "core/base/shown_names.h"
#include "core/model/fit.h"
#include "core/model/outcome_models.h"
#include "core/model/panel.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <unordered_map>

namespace rapporto {

RAPPORTO_COMPILED_HERE(Design);
RAPPORTO_COMPILED_HERE(DesignTerm);

namespace {

using Eigen::Index;

/// One factor of a term, evaluated: a number column or a grouping.
struct Part {
    std::string name;
    std::string label;
    std::string unit;
    Column column;
    Variable variable;
    bool groups = false;
    std::set<std::string> names;
    std::string text = {};
};

/// Numbers of a part in the used rows with their names: one column, or an indicator per level.
struct Expanded {
    std::vector<Eigen::VectorXd> columns;
    std::vector<std::string> names;
    std::vector<std::string> labels;
    bool indicator = false;
    std::string base;
    DesignFactor factor;
};

/// Outcomes of ordered or plain groups: levels numbered from 0.
bool takesGroups(const std::string& method) {
    const Family* family = familyOf(method);
    return family != nullptr && (family->outcome == Family::Outcome::Ordered ||
                                 family->outcome == Family::Outcome::Groups);
}

/// The outcome is known to lie between two ends.
bool takesEnds(const std::string& method) {
    const Family* family = familyOf(method);
    return family != nullptr && family->row == Family::Row::BetweenEnds;
}

/// How many moments a text lags the outcome: 2 for lag(y, 2); 0 when it does not.
int lagOf(const std::string& text, const std::string& outcome) {
    const auto parsed = Expression::parse(text);
    if (!parsed || parsed->root().kind != Node::Kind::Call || parsed->root().text != "lag") {
        return 0;
    }
    for (int by = 1; by <= 60; ++by) {
        const std::string inner = by == 1 ? "" : ", " + std::to_string(by);
        for (const std::string& form : {outcome, quotedName(outcome)}) {
            const auto same = Expression::parse("lag(" + form + inner + ")");
            if (same && same->canonical() == parsed->canonical()) {
                return by;
            }
        }
    }
    return 0;
}

constexpr const char* kHeldInstead =
    "Hold it fixed: that takes no column a level and says the same of the other terms. ";

class Builder {
  public:
    Builder(const Frame& frame, const Question& question, const std::vector<TermSet>& sets)
        : frame_(frame), question_(question), sets_(sets) {}

    /// Of the rows, as far as they were counted.
    [[nodiscard]] const RowCounts& counts() const { return design_.counts; }

    Result<Design> build() {
        if (auto done = evaluateAll(); !done) {
            return tl::make_unexpected(done.error());
        }
        if (auto done = chooseRows(); !done) {
            return tl::make_unexpected(done.error());
        }
        if (auto done = fillOutcome(); !done) {
            return tl::make_unexpected(done.error());
        }
        if (auto done = fillTerms(); !done) {
            return tl::make_unexpected(done.error());
        }
        markUnseen();
        if (auto done = fillInstruments(); !done) {
            return tl::make_unexpected(done.error());
        }
        if (auto done = fillFurther(); !done) {
            return tl::make_unexpected(done.error());
        }
        if (auto done = withinRange(); !done) {
            return tl::make_unexpected(done.error());
        }
        fillWeights();
        fillClusters();
        fillEffects();
        if (auto done = fillLevels(); !done) {
            return tl::make_unexpected(done.error());
        }
        fillTime();
        fillUnits();
        fillHistories();
        if (is(trait::kChange)) {
            if (auto done = fillChanged(); !done) {
                return tl::make_unexpected(done.error());
            }
        }
        warnOfLoneProducts();
        warnOfLaggedOutcome();
        return std::move(design_);
    }

  private:
    Result<Part> evaluatePart(const std::string& text) const {
        auto value = frame_.evaluateText(text);
        if (!value) {
            return tl::make_unexpected(value.error());
        }
        auto parsed = Expression::parse(text);
        if (const std::string quoted = quotedName(text);
            quoted == value->column.name() && quoted != text) {
            parsed = Expression::parse(quoted);  // A name that stood without its quotes.
        }
        Part part{parsed->canonical(),
                  shownNames(parsed->canonical()),
                  "",
                  value->column,
                  {},
                  false,
                  parsed->names(),
                  text};
        if (parsed->isName()) {
            part.variable = *frame_.variable(parsed->root().text);
            part.label = part.variable.shown();
            part.unit = part.variable.unit;
            part.name = part.variable.name;
        } else {
            part.variable.measure = value->measure         ? *value->measure
                                    : value->isTruth       ? Measure::YesNo
                                    : part.column.isText() ? Measure::Groups
                                                           : Measure::Quantity;
            part.variable.levels = value->levels;
        }
        part.groups = isGrouping(part.variable.measure) || part.column.isText();
        return part;
    }

    Result<void> evaluateAll() {
        if (question_.outcome.empty()) {
            return refuse(ErrorCode::NoTerms, "the question has no outcome", question_.title,
                          "Put a variable after “Explain”.");
        }
        auto outcome = evaluatePart(question_.outcome);
        if (!outcome) {
            return tl::make_unexpected(outcome.error());
        }
        if (outcome->column.isText() && !takesGroups(question_.method)) {
            return refuse(ErrorCode::WrongType, "the outcome ‘" + outcome->name + "’ holds text",
                          "outcome",
                          methodName() + " needs numbers: compare it with a level, as in " +
                              quotedName(outcome->name) + " = 'yes'.");
        }
        outcome_ = *std::move(outcome);
        // What the question is about comes first.
        for (const Term& term : question_.endogenous) {
            if (term.muted) {
                continue;
            }
            if (auto done = evaluateTerm(term, parts_); !done) {
                return done;
            }
        }
        endogenous_ = parts_.size();
        for (const Term& term : question_.terms) {
            // What is switched on stands in an event study as its places.
            const bool switched =
                is(trait::kChange) && term.kind == Term::Kind::Expression &&
                plainName(term.parts.front()) == plainName(question_.settings.variable);
            if (term.muted || switched) {
                continue;
            }
            if (auto done = evaluateTerm(term, parts_); !done) {
                return done;
            }
        }
        for (const Term& term : question_.instruments) {
            if (term.muted) {
                continue;
            }
            if (auto done = evaluateTerm(term, instruments_); !done) {
                return done;
            }
        }
        if (auto done = nameOnce(); !done) {
            return done;
        }
        if (is(trait::kOwnPast)) {
            if (auto done = spellOutEffects(); !done) {
                return done;
            }
        }
        if (parts_.empty() && !question_.intercept) {
            return refuse(ErrorCode::NoTerms, "there is nothing to explain the outcome with",
                          question_.title, "Add a term after “with”.");
        }
        return {};
    }

    [[nodiscard]] bool isUnit(const std::string& name) const {
        const std::string& unit = frame_.layout().unit;
        return !unit.empty() && plainName(name) == unit;
    }

    /// Differences rid of the units’ effects; others stand as indicators among the terms.
    Result<void> spellOutEffects() {
        for (const std::string& name : question_.fixedEffects) {
            if (isUnit(name)) {
                continue;
            }
            auto part = evaluatePart(name);
            if (!part) {
                return tl::make_unexpected(part.error());
            }
            part->groups = true;
            parts_.push_back({*std::move(part)});
        }
        return {};
    }

    static std::string nameOf(const std::vector<Part>& factors) {
        std::string name;
        for (const Part& factor : factors) {
            name += (name.empty() ? "" : " × ") + factor.name;
        }
        return name;
    }

    /// A term stands in one place: moved by instruments, an instrument, or among the others.
    [[nodiscard]] Result<void> nameOnce() const {
        for (const auto& factors : parts_) {
            if (nameOf(factors) == outcome_.name) {
                return refuse(ErrorCode::BadSetting,
                              "the outcome ‘" + outcome_.name + "’ stands among its own terms",
                              question_.title, "It tells itself exactly: take it out.",
                              {outcome_.name});
            }
        }
        std::map<std::string, const char*> places;
        for (std::size_t t = 0; t < parts_.size(); ++t) {
            const std::string name = nameOf(parts_[t]);
            const char* place = t < endogenous_ ? "among what the instruments move" : "a term";
            const auto [at, isNew] = places.emplace(name, place);
            if (!isNew && at->second != place) {
                return refuse(ErrorCode::BadSetting,
                              "‘" + name + "’ is both " + at->second + " and " + place,
                              question_.title, "Leave it in one place.", {name});
            }
        }
        for (const auto& factors : instruments_) {
            const std::string name = nameOf(factors);
            if (const auto at = places.find(name); at != places.end()) {
                return refuse(ErrorCode::BadSetting,
                              "‘" + name + "’ is an instrument and " + at->second, question_.title,
                              "An instrument moves the outcome through the endogenous terms alone: "
                              "take it out of one of the two places.",
                              {name});
            }
            if (name == outcome_.name) {
                return refuse(ErrorCode::BadSetting, "the outcome cannot be its own instrument",
                              question_.title, "Take it out.", {name});
            }
        }
        return {};
    }

    Result<void> evaluateTerm(const Term& term, std::vector<std::vector<Part>>& into) {
        if (term.kind == Term::Kind::Set) {
            const auto set = std::find_if(sets_.begin(), sets_.end(), [&](const TermSet& s) {
                return s.name == term.parts.front();
            });
            if (set == sets_.end()) {
                return refuse(ErrorCode::UnknownName,
                              "there is no set ‘" + term.parts.front() + "’");
            }
            for (const auto& member : set->members) {
                if (auto done = evaluateTerm(Term::expression(member), into); !done) {
                    return done;
                }
            }
            return {};
        }
        std::vector<Part> factors;
        for (const auto& text : term.parts) {
            auto part = evaluatePart(text);
            if (!part) {
                return tl::make_unexpected(part.error());
            }
            factors.push_back(*std::move(part));
        }
        into.push_back(std::move(factors));
        return {};
    }

    Result<void> chooseRows() {
        std::vector<double> own;
        if (!question_.where.empty()) {
            auto rule = frame_.evaluateText(question_.where);
            if (!rule) {
                return tl::make_unexpected(rule.error());
            }
            if (rule->column.isText()) {
                return refuse(ErrorCode::WrongType, "the rule is a text, not a condition",
                              question_.where);
            }
            own.assign(rule->column.numbers().begin(), rule->column.numbers().end());
        }
        std::vector<const Column*> needed;
        const auto need = [&](const std::vector<std::vector<Part>>& list) {
            for (const auto& factors : list) {
                for (const auto& part : factors) {
                    needed.push_back(&part.column);
                }
            }
        };
        // In a selection a row without outcome says something, and needs no more than what tells
        // that it has none.
        const bool selection = is(trait::kUnseen);
        const bool interval = takesEnds(question_.method);
        if (!selection && !interval) {
            needed.push_back(&outcome_.column);
        }
        if (!selection || question_.settings.zeroTerms.empty()) {
            need(parts_);
        }
        need(instruments_);
        if (question_.weightKind != WeightKind::None) {
            auto weight = evaluatePart(question_.weight);
            if (!weight) {
                return tl::make_unexpected(weight.error());
            }
            if (weight->column.isText()) {
                return refuse(ErrorCode::WrongType,
                              "the weight ‘" + question_.weight + "’ holds text");
            }
            weight_ = *std::move(weight);
            needed.push_back(&weight_.column);
        }
        for (const auto& name : question_.errors.by) {
            auto cluster = evaluatePart(name);
            if (!cluster) {
                return tl::make_unexpected(cluster.error());
            }
            clusters_.push_back(*std::move(cluster));
        }
        for (const Part& cluster : clusters_) {
            needed.push_back(&cluster.column);
        }
        if (auto done = nameEffects(); !done) {
            return done;
        }
        for (const Part& effect : effects_) {
            needed.push_back(&effect.column);
        }
        for (const Part& slope : slopes_) {
            needed.push_back(&slope.column);
        }
        if (auto done = nameLevels(needed); !done) {
            return done;
        }
        if (auto done = evaluateFurther(); !done) {
            return done;
        }
        if (auto done = evaluateUpper(); !done) {
            return done;
        }
        need(zeroParts_);
        for (const auto* one : {&offset_, &exposure_}) {
            if (one->has_value()) {
                needed.push_back(&(*one)->column);
            }
        }
        if (is(trait::kUnits)) {
            if (auto done = needPanel(needed); !done) {
                return done;
            }
        }
        const Column* time = frame_.layout().kind == Layout::Kind::Series
                                 ? frame_.column(frame_.layout().time)
                                 : nullptr;
        if (time != nullptr && !time->isText()) {
            needed.push_back(time);
        }

        // A term that is a cluster, a slope or a known total, too, is told once as missing.
        needed = withoutTwins(needed);
        const std::size_t always = needed.size();
        if (selection && !question_.settings.zeroTerms.empty()) {
            need(parts_);
        }
        std::vector<bool> without(frame_.rows(), false);
        for (const std::size_t row : question_.without) {
            if (row >= 1 && row <= frame_.rows()) {
                without[row - 1] = true;
            }
        }
        RowCounts& counts = design_.counts;
        counts.source = frame_.rows();
        for (const Column* column : needed) {
            const std::string bare = bareName(column->name());
            counts.missingBy.push_back({bare.empty() ? column->name() : bare, 0, 0});
        }
        for (std::size_t i = 0; i < frame_.rows(); ++i) {
            const RowState state = frame_.states()[i];
            if (state == RowState::SetAside || without[i]) {
                ++counts.setAside;
            } else if (state == RowState::ByRule ||
                       (!own.empty() && (std::isnan(own[i]) || own[i] == 0.0))) {
                ++counts.byRule;
            } else if (selection && outcome_.column.isMissing(i)
                           ? countLacks(std::span(needed).first(always), i)
                           : countLacks(needed, i)) {
                ++counts.missing;
            } else if (interval && outcome_.column.isMissing(i) && upper_->column.isMissing(i)) {
                ++counts.missing;
            } else {
                design_.rows.push_back(i);
            }
        }
        counts.inSample = design_.rows.size() + counts.missing;
        if (auto done = weighRows(); !done) {
            return done;
        }
        dropSingletons();
        counts.used = design_.rows.size();
        std::erase_if(counts.missingBy, [](const auto& lack) { return lack.rows == 0; });
        std::stable_sort(counts.missingBy.begin(), counts.missingBy.end(),
                         [](const auto& a, const auto& b) { return a.rows > b.rows; });
        return emptyRefusal();
    }

    /// Columns that share their cells, once each.
    static std::vector<const Column*> withoutTwins(const std::vector<const Column*>& columns) {
        std::vector<const Column*> out;
        std::set<std::pair<const void*, std::size_t>> seen;
        for (const Column* one : columns) {
            const void* cells = one->isText() ? static_cast<const void*>(one->codes().data())
                                              : static_cast<const void*>(one->numbers().data());
            if (seen.insert({cells, one->size()}).second) {
                out.push_back(one);
            }
        }
        return out;
    }

    /// The other end of an outcome that is known to lie between two.
    Result<void> evaluateUpper() {
        if (!takesEnds(question_.method)) {
            return {};
        }
        if (question_.settings.variable.empty()) {
            return refuse(ErrorCode::BadSetting,
                          "no variable holds the upper ends of ‘" + outcome_.name + "’", "method",
                          "Name it: the outcome is then the lower end, and a missing end is open.");
        }
        auto part = evaluatePart(question_.settings.variable);
        if (!part) {
            return tl::make_unexpected(part.error());
        }
        if (part->column.isText() || outcome_.column.isText()) {
            return refuse(ErrorCode::WrongType, "both ends of an outcome are numbers", "method", "",
                          {question_.settings.variable});
        }
        upper_ = *std::move(part);
        return {};
    }

    /// Both ends, with what lies in the middle as the outcome.
    Result<void> fillInterval() {
        const auto n = static_cast<Index>(design_.rows.size());
        design_.lower = taken(outcome_.column);
        design_.upper = taken(upper_->column);
        design_.y.resize(n);
        constexpr double kOpen = std::numeric_limits<double>::infinity();
        for (Index i = 0; i < n; ++i) {
            double& low = design_.lower(i);
            double& high = design_.upper(i);
            low = std::isnan(low) ? -kOpen : low;
            high = std::isnan(high) ? kOpen : high;
            if (!(low <= high)) {
                return refuse(ErrorCode::BadSetting,
                              "the lower end " + shortNumber(low) + " is above the upper end " +
                                  shortNumber(high) + " in row " +
                                  std::to_string(design_.rows[static_cast<std::size_t>(i)] + 1),
                              "method", "Set the row aside, or correct an end.",
                              {outcome_.name, upper_->name});
            }
            design_.y(i) = std::isinf(low) ? high : std::isinf(high) ? low : 0.5 * (low + high);
        }
        return {};
    }

    /// Rows of a selection without outcome: their columns stand at zero and are not looked at.
    void markUnseen() {
        if (!is(trait::kUnseen)) {
            return;
        }
        for (std::size_t i = 0; i < design_.rows.size(); ++i) {
            const bool missing = outcome_.column.isMissing(design_.rows[i]);
            design_.unseen.push_back(missing ? 1 : 0);
            if (missing) {
                design_.y(static_cast<Index>(i)) = 0.0;
                auto row = design_.X.row(static_cast<Index>(i));
                row = row.unaryExpr([](double x) { return std::isnan(x) ? 0.0 : x; });
            }
        }
    }

    /// Offset, exposure, and the terms that tell zeros apart.
    Result<void> evaluateFurther() {
        const auto numbers = [&](const std::string& text, const char* what,
                                 std::optional<Part>& into) -> Result<void> {
            if (text.empty()) {
                return {};
            }
            if (!canTake(question_.method, takes::kExposure)) {
                return refuse(ErrorCode::BadSetting,
                              std::string("an ") + what + " belongs to counts and shares", what,
                              "Take it out, or ask by Poisson.");
            }
            auto part = evaluatePart(text);
            if (!part) {
                return tl::make_unexpected(part.error());
            }
            if (part->column.isText()) {
                return refuse(ErrorCode::WrongType,
                              std::string("the ") + what + " ‘" + text + "’ holds text", what,
                              "It is a number.", {text});
            }
            into = *std::move(part);
            return {};
        };
        if (auto done = numbers(question_.offset, "offset", offset_); !done) {
            return done;
        }
        if (auto done = numbers(question_.exposure, "exposure", exposure_); !done) {
            return done;
        }
        for (const std::string& text : question_.settings.zeroTerms) {
            if (auto done = evaluateTerm(Term::expression(text), zeroParts_); !done) {
                return done;
            }
        }
        return {};
    }

    Result<void> fillFurther() {
        if (offset_ || exposure_) {
            design_.offset = Eigen::VectorXd::Zero(static_cast<Index>(design_.rows.size()));
        }
        if (offset_) {
            design_.offset += taken(offset_->column);
        }
        if (exposure_) {
            const Eigen::VectorXd exposure = taken(exposure_->column);
            for (Index i = 0; i < exposure.size(); ++i) {
                if (!(exposure(i) > 0.0)) {
                    return refuse(ErrorCode::BadSetting,
                                  "the exposure ‘" + exposure_->name + "’ is " +
                                      shortNumber(exposure(i)) + " in row " +
                                      std::to_string(design_.rows[static_cast<std::size_t>(i)] + 1),
                                  "exposure", "An exposure is above zero: leave such rows out.",
                                  {exposure_->name});
                }
                design_.offset(i) += std::log(exposure(i));
            }
        }
        if (zeroParts_.empty()) {
            return {};
        }
        std::vector<Eigen::VectorXd> columns;
        columns.emplace_back(Eigen::VectorXd::Ones(static_cast<Index>(design_.rows.size())));
        design_.zeroColumns.push_back({"(constant)", "constant", -1, false});
        for (const auto& factors : zeroParts_) {
            if (auto done =
                    addTerm(factors, false, columns, design_.zeroColumns, design_.zeroTerms);
                !done) {
                return done;
            }
        }
        design_.zeroX = gathered(columns);
        return {};
    }

    /// The groupings held fixed; within estimation holds the unit fixed.
    Result<void> nameEffects() {
        std::vector<std::string> names;
        if (!is(trait::kOwnPast)) {
            // Named twice it is held fixed once: what a second copy leaves is rounding.
            for (const std::string& name : question_.fixedEffects) {
                if (std::find(names.begin(), names.end(), name) == names.end()) {
                    names.push_back(name);
                }
            }
        }
        const std::string& unit = frame_.layout().unit;
        const bool ofUnit = is(trait::kHoldsUnit) || (is(trait::kHoldsUnitElse) && names.empty()) ||
                            !question_.ownSlopes.empty();
        if (ofUnit && !unit.empty() &&
            std::none_of(names.begin(), names.end(),
                         [&](const std::string& name) { return isUnit(name); })) {
            names.insert(names.begin(), quotedName(unit));
        }
        const std::string& time = frame_.layout().time;
        if (is(trait::kChange) && !time.empty() &&
            std::none_of(names.begin(), names.end(),
                         [&](const std::string& name) { return plainName(name) == time; })) {
            names.push_back(quotedName(time));
        }
        for (const std::string& name : names) {
            auto effect = evaluatePart(name);
            if (!effect) {
                return tl::make_unexpected(effect.error());
            }
            for (const auto& factors : parts_) {
                if (nameOf(factors) == effect->name) {
                    return refuse(ErrorCode::BadSetting,
                                  "‘" + effect->name + "’ is both a term and held fixed",
                                  question_.title, "Leave it in one place.", {effect->name});
                }
            }
            effects_.push_back(*std::move(effect));
        }
        return nameSlopes();
    }

    Result<void> nameSlopes() {
        for (const std::string& name : question_.ownSlopes) {
            if (frame_.layout().kind != Layout::Kind::Panel || frame_.layout().unit.empty()) {
                return refuse(ErrorCode::BadSetting,
                              "a slope for each unit needs rows that are a unit at a moment",
                              question_.title, "Say what a row is in Data.");
            }
            auto part = evaluatePart(name);
            if (!part) {
                return tl::make_unexpected(part.error());
            }
            if (part->column.isText()) {
                return refuse(ErrorCode::WrongType,
                              "‘" + name + "’ holds text: nothing has a slope in it", "held fixed",
                              "Name a quantity, as the time.", {name});
            }
            slopes_.push_back(*std::move(part));
        }
        return {};
    }

    /// The groupings whose effects are random, and what has a slope in their groups.
    Result<void> nameLevels(std::vector<const Column*>& needed) {
        const Estimator* estimator = findEstimator(question_.method);
        if (estimator == nullptr || (estimator->takes & takes::kGroupsWhole) == 0) {
            return {};
        }
        if (question_.settings.levels.empty()) {
            return refuse(ErrorCode::BadSetting, "no grouping says which rows belong together",
                          "levels", "Name one: a village, a school, a person.");
        }
        // Columns are pointed at: none may move any more.
        levels_.reserve(question_.settings.levels.size());
        for (const LevelSpec& spec : question_.settings.levels) {
            auto by = evaluatePart(spec.by);
            if (!by) {
                return tl::make_unexpected(by.error());
            }
            Level level{*std::move(by), {}, spec.covariance != "diagonal"};
            for (const std::string& name : spec.slopes) {
                auto slope = evaluatePart(name);
                if (!slope) {
                    return tl::make_unexpected(slope.error());
                }
                if (slope->column.isText() || slope->groups) {
                    return refuse(ErrorCode::WrongType,
                                  "‘" + name + "’ holds groups: a slope is one in a number",
                                  "levels", "Name a quantity, or a yes–no variable.", {name});
                }
                level.slopes.push_back(*std::move(slope));
            }
            levels_.push_back(std::move(level));
        }
        for (const Level& level : levels_) {
            needed.push_back(&level.by.column);
            for (const Part& slope : level.slopes) {
                needed.push_back(&slope.column);
            }
        }
        return {};
    }

    Result<void> needPanel(std::vector<const Column*>& needed) const {
        const Layout& layout = frame_.layout();
        const Column* unit = frame_.column(layout.unit);
        const Column* time = frame_.column(layout.time);
        if (layout.kind != Layout::Kind::Panel || unit == nullptr) {
            return refuse(ErrorCode::BadSetting,
                          "this method compares a unit with itself, and no row is a unit at a "
                          "moment yet",
                          question_.title, "Say what a row is in Data.");
        }
        needed.push_back(unit);
        if (is(trait::kMoments)) {
            if (time == nullptr || time->isText()) {
                return refuse(ErrorCode::BadSetting,
                              "this method needs a time that is a number or a date",
                              question_.title, "Name it in Data, under what a row is.");
            }
            needed.push_back(time);
        }
        return {};
    }

    /// Refuses weights that are none. Rows of weight zero say nothing: they leave before anything
    /// is made of them, and are counted.
    Result<void> weighRows() {
        if (question_.weightKind == WeightKind::None || design_.rows.empty() ||
            weight_.column.isText()) {
            return {};
        }
        const auto cells = weight_.column.numbers();
        const auto someRow = [&](auto is) {
            return std::any_of(design_.rows.begin(), design_.rows.end(),
                               [&](std::size_t row) { return is(cells[row]); });
        };
        if (someRow([](double w) { return w < 0.0; })) {
            return refuse(ErrorCode::BadSetting,
                          "the weight ‘" + weight_.name + "’ is negative in some rows", "weights",
                          "A weight is zero or more.", {weight_.name});
        }
        if (question_.weightKind == WeightKind::Frequency &&
            someRow([](double w) { return w != std::floor(w); })) {
            return refuse(ErrorCode::BadSetting,
                          "frequency weights count rows, and ‘" + weight_.name + "’ is not whole",
                          "weights", "Choose sampling or precision weights.", {weight_.name});
        }
        design_.counts.dropped +=
            std::erase_if(design_.rows, [&](std::size_t row) { return cells[row] == 0.0; });
        if (design_.rows.empty()) {
            return refuse(ErrorCode::TooFewRows, "every weight is zero", "weights");
        }
        return {};
    }

    /// Rows alone in a group that is held fixed say nothing: they leave, again and again until none
    /// is left alone. Correia (2015).
    void dropSingletons() {
        if (effects_.empty()) {
            return;
        }
        const std::size_t before = design_.rows.size();
        for (bool again = true; again;) {
            again = false;
            for (const Part& effect : effects_) {
                std::map<double, double> sizes;
                for (const std::size_t row : design_.rows) {
                    sizes[keyOfRow(effect.column, row)] += rowsOf(row);
                }
                const auto alone = [&](std::size_t row) {
                    return sizes[keyOfRow(effect.column, row)] <= 1.0;
                };
                again = std::erase_if(design_.rows, alone) > 0 || again;
            }
        }
        design_.counts.dropped += before - design_.rows.size();
    }

    /// As many rows as one stands for.
    [[nodiscard]] double rowsOf(std::size_t row) const {
        const bool counted =
            question_.weightKind == WeightKind::Frequency && !weight_.column.isText();
        return counted ? weight_.column.numbers()[row] : 1.0;
    }

    static double keyOfRow(const Column& column, std::size_t row) {
        return column.isText() ? column.codes()[row] : column.numbers()[row];
    }

    /// Ids from 0 in the order of appearance.
    [[nodiscard]] std::vector<std::int32_t> idsOf(const Column& column, std::int32_t& count) const {
        std::unordered_map<double, std::int32_t> ids;
        std::vector<std::int32_t> of;
        of.reserve(design_.rows.size());
        for (const std::size_t row : design_.rows) {
            of.push_back(ids.emplace(keyOfRow(column, row), static_cast<std::int32_t>(ids.size()))
                             .first->second);
        }
        count = static_cast<std::int32_t>(ids.size());
        return of;
    }

    void fillEffects() {
        for (const Part& effect : effects_) {
            SweptGrouping grouping{effect.name, {}, 0};
            grouping.of = idsOf(effect.column, grouping.count);
            if (isUnit(effect.name) && !slopes_.empty()) {
                grouping.slopes.resize(static_cast<Index>(design_.rows.size()),
                                       static_cast<Index>(slopes_.size()));
                for (std::size_t s = 0; s < slopes_.size(); ++s) {
                    grouping.slopes.col(static_cast<Index>(s)) = taken(slopes_[s].column);
                    grouping.slopeNames.push_back(slopes_[s].name);
                }
            }
            design_.effects.push_back(std::move(grouping));
        }
    }

    /// Of which groupings each lies within the next: village 1 of one zone is not village 1 of
    /// another.
    Result<void> fillLevels() {
        std::vector<std::vector<std::int32_t>> ids;
        std::vector<std::int32_t> counts(levels_.size(), 0);
        for (std::size_t l = 0; l < levels_.size(); ++l) {
            ids.push_back(idsOf(levels_[l].by.column, counts[l]));
        }
        orderLevels(ids, counts);
        for (std::size_t l = levels_.size(); l-- > 0;) {
            const Level& level = levels_[l];
            DesignLevel out;
            out.name = level.by.name;
            out.full = level.full;
            std::map<std::pair<std::int32_t, std::int32_t>, std::int32_t> found;
            std::map<std::string, int> named;
            const DesignLevel* outer = l + 1 < levels_.size() ? &design_.levels.back() : nullptr;
            std::vector<std::int32_t> lieIn;
            for (std::size_t i = 0; i < ids[l].size(); ++i) {
                const std::int32_t within = outer == nullptr ? 0 : outer->of[i];
                const auto [at, fresh] =
                    found.try_emplace({within, ids[l][i]}, static_cast<std::int32_t>(found.size()));
                if (fresh) {
                    out.labels.push_back(
                        cellText(level.by.column, level.by.variable, design_.rows[i]));
                    ++named[out.labels.back()];
                    lieIn.push_back(within);
                }
                out.of.push_back(at->second);
            }
            out.count = static_cast<std::int32_t>(found.size());
            for (std::size_t g = 0; outer != nullptr && g < out.labels.size(); ++g) {
                if (named[out.labels[g]] > 1) {
                    out.labels[g] =
                        outer->labels[static_cast<std::size_t>(lieIn[g])] + " · " + out.labels[g];
                }
            }
            if (out.count < 2) {
                return refuse(ErrorCode::NoVariation,
                              "‘" + out.name + "’ has one group in the rows used", "levels",
                              "Random effects need several groups: take it out, or widen the "
                              "sample.",
                              {out.name});
            }
            out.slopes.resize(static_cast<Index>(design_.rows.size()),
                              static_cast<Index>(level.slopes.size()));
            for (std::size_t s = 0; s < level.slopes.size(); ++s) {
                out.slopeNames.push_back(level.slopes[s].name);
                out.slopes.col(static_cast<Index>(s)) = taken(level.slopes[s].column);
            }
            design_.levels.push_back(std::move(out));
        }
        std::reverse(design_.levels.begin(), design_.levels.end());
        for (std::size_t l = 0; l + 1 < design_.levels.size(); ++l) {
            if (design_.levels[l].count == design_.levels[l + 1].count) {
                return refuse(ErrorCode::BadSetting,
                              "every group of ‘" + design_.levels[l + 1].name +
                                  "’ holds one group of ‘" + design_.levels[l].name +
                                  "’: the two cannot be told apart",
                              "levels", "Leave one of them.",
                              {design_.levels[l].name, design_.levels[l + 1].name});
            }
        }
        return {};
    }

    /// Innermost first, also where they were named the other way round: a grouping whose labels
    /// each stand in one group of another lies within it.
    void orderLevels(std::vector<std::vector<std::int32_t>>& ids,
                     std::vector<std::int32_t>& counts) {
        const auto within = [&](std::size_t inner, std::size_t outer) {
            std::vector<std::int32_t> in(static_cast<std::size_t>(counts[inner]), -1);
            for (std::size_t i = 0; i < ids[inner].size(); ++i) {
                std::int32_t& of = in[static_cast<std::size_t>(ids[inner][i])];
                if (of >= 0 && of != ids[outer][i]) {
                    return false;
                }
                of = ids[outer][i];
            }
            return true;
        };
        for (std::size_t pass = 0; pass < levels_.size(); ++pass) {
            for (std::size_t l = 0; l + 1 < levels_.size(); ++l) {
                if (within(l + 1, l) && !within(l, l + 1)) {
                    std::swap(levels_[l], levels_[l + 1]);
                    std::swap(ids[l], ids[l + 1]);
                    std::swap(counts[l], counts[l + 1]);
                }
            }
        }
    }

    void fillUnits() {
        const Column* unit = frame_.column(frame_.layout().unit);
        if (frame_.layout().kind != Layout::Kind::Panel || unit == nullptr) {
            return;
        }
        design_.units = idsOf(*unit, design_.unitCount);
        if (const auto& order = frame_.timeOrder()) {
            for (const std::size_t row : design_.rows) {
                design_.unitMoments.push_back(order->moment[row]);
            }
        }
    }

    [[nodiscard]] bool inSample(std::size_t row) const {
        return frame_.states()[row] == RowState::In;
    }

    /// What a column says of every unit used at any moment, `later` moments on.
    [[nodiscard]] ColumnHistory historyOf(const Column& column, int later) const {
        const Column* unit = frame_.column(frame_.layout().unit);
        const auto& order = frame_.timeOrder();
        std::unordered_map<double, std::int32_t> ids;
        for (std::size_t i = 0; i < design_.rows.size(); ++i) {
            ids.emplace(keyOfRow(*unit, design_.rows[i]), design_.units[i]);
        }
        ColumnHistory out;
        for (std::size_t row = 0; row < frame_.rows(); ++row) {
            if (!inSample(row) || column.isMissing(row) || unit->isMissing(row)) {
                continue;
            }
            if (const auto id = ids.find(keyOfRow(*unit, row)); id != ids.end()) {
                out.at[historyKey(id->second, order->moment[row] + later)] = column.numbers()[row];
            }
        }
        return out;
    }

    void fillHistories() {
        if (!is(trait::kOwnPast) || design_.unitMoments.empty()) {
            return;
        }
        // The shortest lag of the outcome brings the instruments of all of them.
        int shortest = 0;
        std::size_t of = 0;
        for (std::size_t t = 0; t < parts_.size(); ++t) {
            const int by = parts_[t].size() == 1 ? lagOf(parts_[t].front().text, outcome_.name) : 0;
            if (by > 0 && (shortest == 0 || by < shortest)) {
                shortest = by;
                of = t;
            }
        }
        for (std::size_t t = 0; t < parts_.size(); ++t) {
            const Part& part = parts_[t].front();
            const bool lagged = shortest > 0 && t == of;
            if ((!lagged && t >= endogenous_) || parts_[t].size() > 1 || part.groups) {
                continue;
            }
            ColumnHistory history =
                lagged ? historyOf(outcome_.column, shortest) : historyOf(part.column, 0);
            history.lagged = lagged;
            history.column = design_.terms[t].columns.front();
            design_.histories.push_back(std::move(history));
        }
        for (DesignTerm& term : design_.terms) {
            const bool late = shortest > 0 && term.factors.size() == 1 &&
                              lagOf(term.factors.front().text, outcome_.name) > 0;
            term.endogenous = term.endogenous || late;
        }
    }

    /// When each unit’s variable is switched on; it stays on.
    Result<void> fillChanged() {
        const std::string& name = question_.settings.variable;
        if (name.empty()) {
            return refuse(ErrorCode::BadSetting,
                          "an event study names the variable that is switched on", "method",
                          "It is 0 before the change and 1 from it on.");
        }
        auto part = evaluatePart(name);
        if (!part) {
            return tl::make_unexpected(part.error());
        }
        if (part->column.isText()) {
            return refuse(ErrorCode::WrongType, "‘" + name + "’ holds text", "method",
                          "It is 0 before the change and 1 from it on.", {name});
        }
        const Column* unit = frame_.column(frame_.layout().unit);
        const auto& order = frame_.timeOrder();
        if (!order) {
            return tl::make_unexpected(order.error());
        }

        struct Seen {
            std::int64_t firstOn = kNever;
            std::int64_t lastOff = kAlways;
        };

        std::unordered_map<double, Seen> seen;
        for (std::size_t row = 0; row < frame_.rows(); ++row) {
            if (!inSample(row) || part->column.isMissing(row) || unit->isMissing(row)) {
                continue;
            }
            const double value = part->column.numbers()[row];
            if (value != 0.0 && value != 1.0) {
                return refuse(ErrorCode::BadSetting,
                              "‘" + name + "’ is " + shortNumber(value) + " in row " +
                                  std::to_string(row + 1) + ": it is not a switch",
                              "method", "It is 0 before the change and 1 from it on.", {name});
            }
            Seen& one = seen[keyOfRow(*unit, row)];
            (value == 1.0 ? one.firstOn = std::min(one.firstOn, order->moment[row])
                          : one.lastOff = std::max(one.lastOff, order->moment[row]));
        }
        std::size_t back = 0;
        design_.changed.assign(static_cast<std::size_t>(design_.unitCount), kNever);
        std::vector<bool> done(design_.changed.size(), false);
        for (std::size_t i = 0; i < design_.rows.size(); ++i) {
            const auto id = static_cast<std::size_t>(design_.units[i]);
            if (done[id]) {
                continue;
            }
            done[id] = true;
            const Seen one = seen[keyOfRow(*unit, design_.rows[i])];
            back += one.firstOn != kNever && one.lastOff > one.firstOn ? 1 : 0;
            design_.changed[id] =
                one.firstOn != kNever && one.lastOff == kAlways ? kAlways : one.firstOn;
        }
        if (back > 0) {
            return refuse(
                ErrorCode::BadSetting,
                "in " + plural(back, "unit", "units") + " ‘" + name + "’ is switched off again",
                "method",
                "What comes before and after is said of changes that stay. Set these "
                "units aside, or ask for the plain effect within units.",
                {name});
        }
        return {};
    }

    void warnOfLaggedOutcome() {
        const bool held = !design_.units.empty() && !is(trait::kOwnPast) &&
                          std::any_of(effects_.begin(), effects_.end(),
                                      [&](const Part& e) { return isUnit(e.name); });
        for (const auto& factors : parts_) {
            if (held && factors.size() == 1 && lagOf(factors.front().text, outcome_.name) > 0) {
                design_.warnings.push_back(
                    "With units’ effects held fixed the effect of " + factors.front().name +
                    " is too low, by about (1 + effect)/(moments of a unit) (Nickell 1981); see "
                    "Checks.");
            }
        }
    }

    /// Notes which of the needed columns lack the row; false when none does.
    bool countLacks(std::span<const Column* const> needed, std::size_t row) {
        std::size_t lacking = 0;
        std::size_t last = 0;
        for (std::size_t k = 0; k < needed.size(); ++k) {
            if (needed[k]->isMissing(row)) {
                ++design_.counts.missingBy[k].rows;
                ++lacking;
                last = k;
            }
        }
        if (lacking == 1) {
            ++design_.counts.missingBy[last].alone;
        }
        return lacking > 0;
    }

    Result<void> emptyRefusal() const {
        if (!design_.rows.empty()) {
            return {};
        }
        if (design_.counts.dropped > 0) {
            return refuse(ErrorCode::TooFewRows,
                          "every row is the only one of its kind in what is held fixed",
                          question_.title,
                          "Hold something coarser fixed: an effect of its own fits such a row "
                          "whatever the terms.");
        }
        if (design_.counts.inSample == 0) {
            return refuse(ErrorCode::TooFewRows, "no row is left in the sample", question_.title,
                          "Loosen the rule or take rows back.");
        }
        // Everything that some row lacks: several may miss by turns.
        std::vector<std::string> names;
        std::string lacks;
        for (const RowCounts::Lack& lack : design_.counts.missingBy) {
            if (names.size() < 4) {
                lacks += (names.empty() ? "" : ", ") + std::string("‘") + lack.name + "’ in " +
                         plural(lack.rows, "row", "rows");
            }
            names.push_back(lack.name);
        }
        return refuse(ErrorCode::TooFewRows, "no row is complete in everything the question names",
                      question_.title,
                      names.empty() ? std::string("Name less.")
                                    : "Missing: " + lacks + (names.size() > 4 ? " …" : "") + ".",
                      names);
    }

    [[nodiscard]] bool is(unsigned bits) const { return hasTrait(question_.method, bits); }

    /// “Logit”, for the beginning of a sentence.
    [[nodiscard]] std::string methodName() const {
        const Estimator* estimator = findEstimator(question_.method);
        std::string name = estimator != nullptr ? estimator->shown : question_.method;
        if (!name.empty() && name.front() >= 'a' && name.front() <= 'z') {
            name.front() = static_cast<char>(name.front() - 'a' + 'A');
        }
        return name;
    }

    /// Numbers so large or so small that squares of them leave the range of numbers are refused:
    /// errors would lose their digits first, and say nothing of it.
    [[nodiscard]] Result<void> withinRange() const {
        constexpr double kLargest = 1e70;
        const auto check = [&](const Eigen::Ref<const Eigen::VectorXd>& x,
                               const std::string& name) -> Result<void> {
            double most = 0.0;
            for (Index i = 0; i < x.size(); ++i) {
                most = std::isnan(x(i)) ? most : std::max(most, std::abs(x(i)));
            }
            if (most == 0.0 || (most <= kLargest && most >= 1.0 / kLargest)) {
                return {};
            }
            return refuse(ErrorCode::NotFinite,
                          "‘" + name + "’ reaches " + shortNumber(most, 2) + ", which is too " +
                              (most > 1.0 ? "large" : "small") +
                              " a number to work with squares of it",
                          question_.title, "Choose another unit for it.", {name});
        };
        if (auto done = check(design_.y, design_.outcome); !done) {
            return done;
        }
        for (Index j = 0; j < design_.X.cols(); ++j) {
            if (auto done =
                    check(design_.X.col(j), design_.columns[static_cast<std::size_t>(j)].name);
                !done) {
                return done;
            }
        }
        for (Index j = 0; j < design_.Z.cols(); ++j) {
            if (auto done = check(design_.Z.col(j),
                                  design_.instrumentColumns[static_cast<std::size_t>(j)].name);
                !done) {
                return done;
            }
        }
        return {};
    }

    [[nodiscard]] Eigen::VectorXd taken(const Column& column) const {
        Eigen::VectorXd out(static_cast<Index>(design_.rows.size()));
        const auto cells = column.numbers();
        for (std::size_t i = 0; i < design_.rows.size(); ++i) {
            out(static_cast<Index>(i)) = cells[design_.rows[i]];
        }
        return out;
    }

    Result<void> fillOutcome() {
        if (takesGroups(question_.method)) {
            const auto levels = levelsOf(outcome_.column, outcome_.variable, design_.rows);
            if (levels.size() > 60) {
                return refuse(ErrorCode::BadSetting,
                              "the outcome ‘" + outcome_.name + "’ has " +
                                  countText(levels.size()) + " levels",
                              question_.title,
                              "Ordered and plain groups have some sixty levels at most: merge them "
                              "into bands, or use least squares.",
                              {outcome_.name});
            }
            design_.y.resize(static_cast<Index>(design_.rows.size()));
            for (std::size_t i = 0; i < design_.rows.size(); ++i) {
                const double code = keyOfRow(outcome_.column, design_.rows[i]);
                for (std::size_t l = 0; l < levels.size(); ++l) {
                    if (levels[l].code == code) {
                        design_.y(static_cast<Index>(i)) = static_cast<double>(l);
                    }
                }
            }
            for (const FoundLevel& level : levels) {
                design_.levelNames.push_back(level.label);
            }
        } else if (upper_) {
            if (auto done = fillInterval(); !done) {
                return done;
            }
        } else {
            design_.y = taken(outcome_.column);
        }
        design_.outcome = outcome_.name;
        design_.outcomeLabel = outcome_.label;
        design_.outcomeUnit = outcome_.unit;
        design_.outcomeLogOf = logThrough(question_.outcome);
        design_.outcomeYesNo = outcome_.variable.measure == Measure::YesNo;
        // A missing one of a selection is no number, and no variation.
        const double* seen = std::find_if(design_.y.data(), design_.y.data() + design_.y.size(),
                                          [](double y) { return !std::isnan(y); });
        const double* end = design_.y.data() + design_.y.size();
        double low = seen == end ? 0.0 : *seen;
        double high = low;
        for (const double* y = seen; y != end; ++y) {
            low = std::isnan(*y) ? low : std::min(low, *y);
            high = std::isnan(*y) ? high : std::max(high, *y);
        }
        // Less than rounding is no variation.
        constexpr double kUnits = 4.0 * std::numeric_limits<double>::epsilon();
        if (!(high - low > kUnits * std::max(std::abs(low), std::abs(high)))) {
            const std::string value =
                cellText(outcome_.column, outcome_.variable, design_.rows.front());
            return refuse(
                ErrorCode::NoVariation,
                "the outcome ‘" + outcome_.name + "’ is " +
                    (seen == end                                        ? std::string("missing")
                     : value.empty()                                    ? shortNumber(low)
                     : takesGroups(question_.method) || outcome_.groups ? "‘" + value + "’"
                                                                        : value) +
                    " in every row used",
                question_.title, "There is nothing to explain: choose another outcome or sample.",
                {outcome_.name});
        }
        return {};
    }

    /// The x of ln(x), also when the text names a derived variable that is ln(x).
    [[nodiscard]] std::string logThrough(const std::string& text) const {
        const Variable* variable = frame_.variable(text);
        return logArgument(
            variable != nullptr && !variable->expression.empty() ? variable->expression : text);
    }

    Result<Expanded> expand(const Part& part) const {
        Expanded out;
        out.factor.text = part.text;
        out.factor.groups = part.groups;
        if (!part.groups) {
            out.columns.push_back(taken(part.column));
            out.names.push_back(part.name);
            out.labels.push_back(part.label);
            return out;
        }
        const auto levels = levelsOf(part.column, part.variable, design_.rows);
        if (levels.size() < 2) {
            return refuse(ErrorCode::NoVariation,
                          "‘" + part.name + "’ has one level, ‘" + levels.front().label +
                              "’, in the rows used",
                          question_.title, "Take the term out or widen the sample.", {part.name});
        }
        if (levels.size() > 2000) {
            return refuse(ErrorCode::BadSetting,
                          "‘" + part.name + "’ has " + countText(levels.size()) + " levels",
                          question_.title,
                          std::string(kHeldInstead) + "Or merge levels, or declare it a quantity.",
                          {part.name});
        }
        std::size_t base = 0;
        for (std::size_t l = 0; l < levels.size(); ++l) {
            const bool chosen = !part.variable.base.empty() &&
                                (levels[l].value == keyText(part.variable.base.front()) ||
                                 levels[l].label == keyText(part.variable.base.front()));
            base = chosen ? l : base;
        }
        out.indicator = true;
        out.base = levels[base].label;
        out.factor.levels = levels;
        out.factor.base = base;
        for (std::size_t l = 0; l < levels.size(); ++l) {
            if (l == base) {
                continue;
            }
            Eigen::VectorXd column(static_cast<Index>(design_.rows.size()));
            for (std::size_t i = 0; i < design_.rows.size(); ++i) {
                const std::size_t row = design_.rows[i];
                const double code =
                    part.column.isText() ? part.column.codes()[row] : part.column.numbers()[row];
                column(static_cast<Index>(i)) = code == levels[l].code ? 1.0 : 0.0;
            }
            out.columns.push_back(std::move(column));
            out.names.push_back(part.name + "=" + levels[l].label);
            out.labels.push_back(levels[l].label);
        }
        return out;
    }

    static Expanded multiply(const Expanded& a, const Expanded& b) {
        Expanded out;
        out.indicator = a.indicator && b.indicator;
        for (std::size_t i = 0; i < a.columns.size(); ++i) {
            for (std::size_t j = 0; j < b.columns.size(); ++j) {
                out.columns.emplace_back(a.columns[i].cwiseProduct(b.columns[j]));
                out.names.push_back(a.names[i] + " × " + b.names[j]);
                out.labels.push_back(a.labels[i] + " × " + b.labels[j]);
            }
        }
        return out;
    }

    Result<void> fillTerms() {
        std::vector<Eigen::VectorXd> columns;
        const auto n = static_cast<Index>(design_.rows.size());
        if (question_.intercept) {
            design_.hasConstant = true;
            columns.emplace_back(Eigen::VectorXd::Ones(n));
            design_.columns.push_back({"(constant)", "constant", -1, false});
        }
        for (std::size_t t = 0; t < parts_.size(); ++t) {
            auto done =
                addTerm(parts_[t], t < endogenous_, columns, design_.columns, design_.terms);
            if (!done) {
                return done;
            }
        }
        design_.X = gathered(columns);
        return {};
    }

    [[nodiscard]] Eigen::MatrixXd gathered(std::vector<Eigen::VectorXd>& columns) const {
        Eigen::MatrixXd out(static_cast<Index>(design_.rows.size()),
                            static_cast<Index>(columns.size()));
        for (std::size_t c = 0; c < columns.size(); ++c) {
            out.col(static_cast<Index>(c)) = columns[c];
            columns[c] = {};
        }
        return out;
    }

    /// Refuses, before they are made, columns whose work would not fit in memory.
    ///
    /// @param own  of these, columns of the term itself.
    [[nodiscard]] Result<void> roomForColumns(double count, double own,
                                              const std::string& name) const {
        constexpr double kLevels = 50.0;  // As many are those of a grouping.
        constexpr double kCopies = 3.0;   // Made one by one, gathered, and factored.
        constexpr double kAlways = 1e8;
        const double bytes = count * static_cast<double>(design_.rows.size()) * 8.0 * kCopies;
        if (bytes < kAlways) {
            return {};
        }
        auto room =
            roomFor(bytes, fmt::format("‘{}’ among the terms, {:.0f} columns in all,", name, count),
                    "terms");
        if (!room) {
            Refusal refusal = room.error();
            refusal.help =
                own > kLevels
                    ? std::string(kHeldInstead) + "Or ask of a sample of the rows, or merge levels."
                    : "Leave the rows of the file on the disk (“rows” is “left” in its source): "
                      "sums "
                      "answer there, whatever the rows. Or ask of a sample of them, or of fewer "
                      "terms.";
            return tl::make_unexpected(std::move(refusal));
        }
        return room;
    }

    /// Appends what a term becomes to the columns, their names, and the terms.
    Result<void> addTerm(const std::vector<Part>& factors, bool endogenous,
                         std::vector<Eigen::VectorXd>& columns, std::vector<DesignColumn>& names,
                         std::vector<DesignTerm>& terms) const {
        DesignTerm term;
        term.endogenous = endogenous;
        Expanded all;
        for (std::size_t f = 0; f < factors.size(); ++f) {
            auto one = expand(factors[f]);
            if (!one) {
                return tl::make_unexpected(one.error());
            }
            term.factors.push_back(one->factor);
            // Groups of groups multiply: a thousand by a thousand levels would take the machine.
            const double made = static_cast<double>(std::max<std::size_t>(all.columns.size(), 1)) *
                                static_cast<double>(one->columns.size());
            const double held = made + static_cast<double>(columns.size());
            if (auto room = roomForColumns(held, made, nameOf(factors)); !room) {
                return room;
            }
            all = f == 0 ? *std::move(one) : multiply(all, *one);
            term.label += (f > 0 ? " × " : "") + factors[f].label;
            term.names.insert(factors[f].names.begin(), factors[f].names.end());
        }
        const Part& first = factors.front();
        term.name = nameOf(factors);
        term.isProduct = factors.size() > 1;
        term.groups = !term.isProduct && first.groups;
        term.base = all.base;
        term.unit = term.isProduct ? "" : first.unit;
        term.yesNo = !term.isProduct && first.variable.measure == Measure::YesNo;
        term.logOf = term.isProduct ? "" : logThrough(first.name);
        const int index = static_cast<int>(terms.size());
        for (std::size_t c = 0; c < all.columns.size(); ++c) {
            term.columns.push_back(static_cast<Index>(columns.size()));
            columns.push_back(std::move(all.columns[c]));
            names.push_back({all.names[c], all.labels[c], index, all.indicator || term.yesNo});
        }
        terms.push_back(std::move(term));
        return {};
    }

    Result<void> fillInstruments() {
        std::vector<Eigen::VectorXd> columns;
        for (const auto& factors : instruments_) {
            auto done = addTerm(factors, false, columns, design_.instrumentColumns,
                                design_.instrumentTerms);
            if (!done) {
                return done;
            }
        }
        for (std::size_t c = 0; c < columns.size(); ++c) {
            if (columns[c].minCoeff() == columns[c].maxCoeff()) {
                const std::string name = design_.instrumentColumns[c].name;
                return refuse(ErrorCode::NoVariation,
                              "the instrument ‘" + name + "’ is " + shortNumber(columns[c](0)) +
                                  " in every row used",
                              question_.title, "What does not vary moves nothing: take it out.",
                              {name});
            }
        }
        design_.Z = gathered(columns);
        return {};
    }

    void fillWeights() {
        design_.weightKind = question_.weightKind;
        if (question_.weightKind == WeightKind::None) {
            return;
        }
        design_.weights = taken(weight_.column);
        if (question_.weightKind == WeightKind::Sampling) {
            design_.weights /= design_.weights.mean();
        }
    }

    void fillClusters() {
        for (const Part& cluster : clusters_) {
            std::int32_t count = 0;
            design_.clusters.push_back(idsOf(cluster.column, count));
            design_.clusterCounts.push_back(count);
        }
    }

    void fillTime() {
        design_.layout = frame_.layout().kind;
        const Column* time = frame_.column(frame_.layout().time);
        if (design_.layout != Layout::Kind::Series || time == nullptr || time->isText()) {
            return;
        }
        for (const std::size_t row : design_.rows) {
            design_.time.push_back(time->numbers()[row]);
        }
        if (const auto& order = frame_.timeOrder()) {
            for (const std::size_t row : design_.rows) {
                design_.moments.push_back(order->moment[row]);
            }
        }
        if (const auto& order = frame_.timeOrder();
            order && frame_.variable(frame_.layout().time)->measure == Measure::Date) {
            // Days have the season of a week.
            design_.seasonLags =
                order->frequency == Frequency::Day ? 7 : momentsAYear(order->frequency);
        }
    }

    void warnOfLoneProducts() {
        for (const Term& term : question_.terms) {
            if (term.kind != Term::Kind::Product || term.muted) {
                continue;
            }
            for (const auto& part : term.parts) {
                const std::string written = plainName(canonicalText(part));
                const bool alone =
                    std::none_of(design_.terms.begin(), design_.terms.end(),
                                 [&](const DesignTerm& t) { return plainName(t.name) == written; });
                if (alone) {
                    design_.warnings.push_back(
                        "The product " + shownNames(term.shown()) + " stands without " +
                        shownNames(part) +
                        " itself: its effect at zero of the other is held at none.");
                }
            }
        }
    }

    const Frame& frame_;
    const Question& question_;
    const std::vector<TermSet>& sets_;
    Part outcome_{"", "", "", Column::ofNumbers("", {}), {}, false, {}};
    Part weight_{"", "", "", Column::ofNumbers("", {}), {}, false, {}};
    std::vector<std::vector<Part>> parts_;  ///< Those the instruments move first.
    std::size_t endogenous_ = 0;
    std::vector<std::vector<Part>> instruments_;
    std::vector<Part> effects_;
    std::vector<Part> slopes_;

    /// A grouping with random effects.
    struct Level {
        Part by;
        std::vector<Part> slopes;
        bool full = true;
    };

    std::vector<Level> levels_;
    std::optional<Part> offset_;
    std::optional<Part> exposure_;
    std::optional<Part> upper_;  ///< Of interval data.
    std::vector<std::vector<Part>> zeroParts_;
    std::vector<Part> clusters_;
    Design design_;
};

}  // namespace

Result<Design> makeDesign(const Frame& frame, const Question& question,
                          const std::vector<TermSet>& sets, const Job& job, RowCounts* counts) {
    if (frame.ruleRefusal()) {
        return tl::make_unexpected(*frame.ruleRefusal());
    }
    Builder builder(frame, question, sets);
    auto design = builder.build();
    if (!design && counts != nullptr && builder.counts().source > 0) {
        *counts = builder.counts();
    }
    // Means, changes and random effects of units are taken before anything is swept out.
    // A likelihood takes them out under the weights of each step.
    const bool later =
        hasTrait(question.method, trait::kHeldInside) || familyOf(question.method) != nullptr;
    if (design && !design->effects.empty() && !later) {
        return sweptDesign(*std::move(design), job.quiet());
    }
    return design;
}

double rowsStoodFor(const Design& design) {
    if (design.standFor > 0.0) {
        return design.standFor;
    }
    return design.weightKind == WeightKind::Frequency ? design.weights.sum()
                                                      : static_cast<double>(design.y.size());
}

std::string logArgument(const std::string& expression) {
    const auto parsed = Expression::parse(expression);
    if (!parsed || parsed->root().kind != Node::Kind::Call || parsed->root().text != "ln") {
        return {};
    }
    const std::string text = parsed->canonical();
    return text.substr(3, text.size() - 4);
}

}  // namespace rapporto
