#include "core/study/ways_to_ask.h"

#include "core/base/format.h"

#include <algorithm>
#include <set>

namespace rapporto {
namespace {

/// Groups that could be clusters: enough of them, and several rows in each.
constexpr std::size_t kFewestClusters = 15;
constexpr double kFewestRows = 3.0;
constexpr std::size_t kMostRowsLookedAt = 300000;  ///< Beyond, only what is declared is proposed.

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
        return std::move(out_);
    }

  private:
    void propose(const std::string& label, const std::string& why, Question question) {
        out_.push_back({label, why, std::move(question)});
    }

    /// By the outcome’s measure, where nothing but the default was chosen.
    void method() {
        const Variable* outcome = frame_.variable(question_.outcome);
        if (outcome == nullptr || question_.method != "least-squares" ||
            !question_.endogenous.empty() || !question_.fixedEffects.empty()) {
            return;
        }

        struct Way {
            Measure measure;
            const char* method;
            const char* label;
            const char* why;
        };

        static const Way kWays[] = {
            {Measure::YesNo, "logit", "by logit",
             " is yes or no: its chances stay between 0 and 1 then; least squares tells a "
             "difference in chance"},
            {Measure::Count, "poisson", "by a Poisson count",
             " is a count: effects are in ratios then, and no mean falls below zero"},
            {Measure::OrderedGroups, "ordered-logit", "by ordered logit",
             " is ordered groups: how far apart they are is left open then"},
            {Measure::Groups, "multinomial-logit", "by a logit of several groups",
             " is groups without an order: each has a chance of its own then"},
        };
        for (const Way& way : kWays) {
            if (outcome->measure == way.measure) {
                Question next = question_;
                next.method = way.method;
                propose(way.label, outcome->shown() + way.why + ".", std::move(next));
            }
        }
    }

    [[nodiscard]] bool hasDefaultErrors() const {
        return question_.errors.kind == "classical" || question_.errors.kind == "robust";
    }

    void errors() {
        if (!hasDefaultErrors()) {
            return;
        }
        Question next = question_;
        next.errors = {};
        if (study_.survey.isDeclared()) {
            next.errors.kind = "survey";
            propose("errors by the survey design",
                    "A design is declared: its clusters, strata and weights decide how sure the "
                    "numbers are.",
                    std::move(next));
            return;
        }
        if (study_.layout.kind == Layout::Kind::Panel && !study_.layout.unit.empty()) {
            next.errors.kind = "clustered";
            next.errors.by = {study_.layout.unit};
            propose("errors clustered by " + study_.layout.unit,
                    "A row is a unit at a moment: what the model leaves of one unit carries over "
                    "from moment to moment.",
                    std::move(next));
            return;
        }
        if (study_.layout.kind == Layout::Kind::Series) {
            next.errors.kind = "autocorrelation";
            propose("errors that allow for an echo",
                    "Rows follow each other in time: what the model leaves at one moment may "
                    "carry over to the next.",
                    std::move(next));
            return;
        }
        clusters(next);
    }

    /// The grouping with the fewest groups of those that could be clusters: the coarsest is the
    /// careful one.
    void clusters(Question next) {
        if (frame_.rows() > kMostRowsLookedAt) {
            return;
        }
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
            const std::size_t levels = levelsOf(*column, variable).size();
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
        next.errors.kind = "clustered";
        next.errors.by = {best};
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
            !question_.fixedEffects.empty() || question_.method != "least-squares") {
            return;
        }
        Question next = question_;
        next.fixedEffects = {unit};
        propose("holding " + unit + " fixed",
                "What stays the same about a unit is compared away then: effects are of what "
                "changes within it.",
                next);
        if (!study_.layout.time.empty()) {
            next.fixedEffects = {unit, study_.layout.time};
            propose("holding " + unit + " and " + study_.layout.time + " fixed",
                    "What moves all units alike at a moment is compared away as well.",
                    std::move(next));
        }
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
