#include "core/study/ways_to_ask.h"

#include "core/base/format.h"
#include "core/expression/expression.h"
#include "core/model/fit.h"

#include <algorithm>
#include <set>

namespace rapporto {
namespace {

/// Groups that could be clusters: enough of them, and several rows in each.
constexpr std::size_t kFewestClusters = 15;
constexpr double kFewestRows = 3.0;
constexpr std::size_t kMostRowsLookedAt = 50000;  ///< Of groups that numbers name.

class WayFinder {
  public:
    WayFinder(const Study& study, const Frame& frame, const Question& question)
        : study_(study), frame_(frame), question_(question) {}

    std::vector<WayToAsk> run() {
        if (question_.kind != "explain" || question_.outcome.empty() ||
            frame_.moments() != nullptr) {
            return {};
        }
        method();
        errors();
        fixed();
        season();
        return std::move(out_);
    }

  private:
    void propose(const std::string& label, const std::string& why, Question question) {
        out_.push_back({label, why, std::move(question)});
    }

    /// By the outcome’s measure, where nothing but the default was chosen.
    void method() {
        const Variable* outcome = frame_.variable(question_.outcome);
        if (outcome == nullptr || !hasDefaultMethod() || !question_.endogenous.empty() ||
            !question_.fixedEffects.empty()) {
            return;
        }
        for (const Estimator& estimator : allEstimators()) {
            if (estimator.suits && estimator.suits->measure == outcome->measure) {
                Question next = question_;
                next.method = estimator.method;
                propose(estimator.suits->label, outcome->shown() + estimator.suits->why + ".",
                        std::move(next));
            }
        }
    }

    [[nodiscard]] bool hasDefaultMethod() const { return question_.method == Question().method; }

    void errors() {
        // Random effects know of their groups, and their errors are their own.
        const Estimator* estimator = findEstimator(question_.method);
        const bool own = estimator != nullptr && (estimator->takes & takes::kGroupsWhole) != 0;
        if (!question_.errors.takeRowsAlone() || own) {
            return;
        }
        Question next = question_;
        if (study_.survey.isDeclared()) {
            next.errors = ErrorSpec::bySurvey();
            propose("errors by the survey design",
                    "A design is declared: its clusters, strata and weights decide how sure the "
                    "numbers are.",
                    std::move(next));
        } else if (study_.layout.kind == Layout::Kind::Panel && !study_.layout.unit.empty()) {
            next.errors = ErrorSpec::clusteredBy(quotedName(study_.layout.unit));
            propose("errors clustered by " + study_.layout.unit,
                    "A row is a unit at a moment: what the model leaves of one unit carries over "
                    "from moment to moment.",
                    std::move(next));
        } else if (study_.layout.kind == Layout::Kind::Series) {
            next.errors = ErrorSpec::withEcho();
            propose("errors that allow for an echo",
                    "Rows follow each other in time: what the model leaves at one moment may "
                    "carry over to the next.",
                    std::move(next));
        } else {
            clusters(std::move(next));
        }
    }

    /// The grouping with the fewest groups of those that could be clusters: the coarsest is the
    /// careful one.
    void clusters(Question next) {
        std::set<std::string> used;
        for (const Term& term : question_.terms) {
            used.insert(term.parts.begin(), term.parts.end());
        }
        std::string best;
        std::size_t groups = 0;
        for (const Variable& variable : frame_.table().variables) {
            const bool grouping =
                variable.measure == Measure::Groups || variable.measure == Measure::Text;
            const Column* column = frame_.column(variable.name);
            if (!grouping || column == nullptr || used.contains(variable.name) ||
                variable.name == question_.outcome) {
                continue;
            }
            // Texts are counted already; others only while that is done in no time.
            if (!column->isText() && column->size() > kMostRowsLookedAt) {
                continue;
            }
            const std::size_t levels =
                column->isText() ? column->texts().size() : levelsOf(*column, variable).size();
            const double each = static_cast<double>(column->size() - column->countMissing()) /
                                static_cast<double>(std::max<std::size_t>(levels, 1));
            if (levels >= kFewestClusters && each >= kFewestRows &&
                (best.empty() || levels < groups)) {
                best = variable.name;
                groups = levels;
            }
        }
        if (best.empty()) {
            return;
        }
        next.errors = ErrorSpec::clusteredBy(quotedName(best));
        propose(
            "errors clustered by " + best,
            "Rows come in " + countText(groups) + " groups of " + best + ", about " +
                shortNumber(static_cast<double>(frame_.rows()) / static_cast<double>(groups), 2) +
                " in each: rows of one group may share what the model leaves.",
            std::move(next));
    }

    /// What a panel lets one compare away.
    void fixed() {
        const std::string& unit = study_.layout.unit;
        if (study_.layout.kind != Layout::Kind::Panel || unit.empty() ||
            !question_.fixedEffects.empty() || !hasDefaultMethod()) {
            return;
        }
        Question next = question_;
        next.fixedEffects = {quotedName(unit)};
        propose("holding " + unit + " fixed",
                "What stays the same about a unit is compared away then: effects are of what "
                "changes within it.",
                next);
        if (!study_.layout.time.empty()) {
            next.fixedEffects = {quotedName(unit), quotedName(study_.layout.time)};
            propose("holding " + unit + " and " + study_.layout.time + " fixed",
                    "What moves all units alike at a moment is compared away as well.",
                    std::move(next));
        }
    }

    /// What the time of the year does, as a grouping among the terms.
    void season() {
        const Variable* time = frame_.variable(study_.layout.time);
        if (study_.layout.kind == Layout::Kind::CrossSection || time == nullptr ||
            time->measure != Measure::Date || !frame_.timeOrder()) {
            return;
        }
        const Frequency frequency = frame_.timeOrder()->frequency;
        const std::string field = frequency == Frequency::Month     ? "month"
                                  : frequency == Frequency::Quarter ? "quarter"
                                                                    : "";
        if (field.empty() || holds(quotedName(study_.layout.time))) {
            return;
        }
        const std::string expression =
            canonicalText("extract(" + field + " from " + quotedName(study_.layout.time) + ")");
        Derived groups{"season", expression, field + " of the year"};
        bool known = false;
        for (const Derived& one : study_.derived) {
            if (canonicalText(one.expression) == expression) {
                groups = one;
                known = true;
            }
        }
        while (!known && frame_.variable(groups.name) != nullptr) {
            groups.name += "_of_year";
        }
        if (holds(quotedName(groups.name)) || holds(expression)) {
            return;
        }
        Question next = question_;
        next.terms.push_back(Term::expression(quotedName(groups.name)));
        propose("with the " + field + " of the year as groups",
                "A row is a " + field +
                    ": what the season does to the outcome, and to what goes "
                    "with it, is compared away.",
                std::move(next));
        if (!known || frame_.variable(groups.name)->measure != Measure::Groups) {
            out_.back().groups = groups;
        }
    }

    /// It stands among the terms, or is held fixed.
    [[nodiscard]] bool holds(const std::string& text) const {
        const auto same = [&](const std::string& one) { return canonicalText(one) == text; };
        return std::any_of(question_.fixedEffects.begin(), question_.fixedEffects.end(), same) ||
               std::any_of(question_.terms.begin(), question_.terms.end(), [&](const Term& term) {
                   return std::any_of(term.parts.begin(), term.parts.end(), same);
               });
    }

    const Study& study_;
    const Frame& frame_;
    const Question& question_;
    std::vector<WayToAsk> out_;
};

}  // namespace

std::vector<WayToAsk> waysToAsk(const Study& study, const Frame& frame, const Question& question) {
    return WayFinder(study, frame, question).run();
}

}  // namespace rapporto
