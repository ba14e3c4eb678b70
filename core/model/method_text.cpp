#include "core/model/method_text.h"

#include "core/base/format.h"
#include "core/model/estimator.h"

namespace rapporto {
namespace {

std::string plainly(const Question& question) { return findEstimator(question.method)->shown; }

}  // namespace

std::string bentLineText(const Question& question) {
    return "a line with " +
           plural(static_cast<std::size_t>(question.settings.bends), "bend", "bends") + " in " +
           question.settings.variable + (question.settings.fixed ? ", held" : "");
}

std::string momentsText(const Question& question) {
    return question.settings.steps == "two"        ? "generalised moments in two steps"
           : question.settings.steps == "iterated" ? "generalised moments, iterated"
                                                   : "generalised moments, continuously updated";
}

std::string earlierMomentsText(const Question& question) {
    return plainly(question) + (question.settings.steps == "one" ? " in one step" : "");
}

std::string quantileText(const Question& question) {
    std::string points;
    for (const double tau : question.settings.at) {
        points += (points.empty() ? "" : ", ") + shortNumber(tau, 3);
    }
    return points.empty() || points == "0.5"
               ? "the median"
               : (question.settings.at.size() > 1 ? "quantiles " : "the quantile ") + points;
}

std::string spreadCountText(const Question& question) {
    return plainly(question) + (question.settings.form == 1 ? " (linear)" : "");
}

std::string partCountText(const Question& question) {
    const Family* count = familyOf(question.settings.count);
    return plainly(question) + (count != nullptr && count->ownSpread ? ", negative binomial" : "");
}

std::string intervalText(const Question& question) {
    return "interval regression between " + question.outcome + " and " + question.settings.variable;
}

std::string logitText(const Question& question) {
    return question.settings.penalised ? "penalised logit (Firth)" : plainly(question);
}

std::string changeText(const Question& question) {
    return "effects before and after a change of " + question.settings.variable +
           (question.settings.weighting == "pooled"    ? ", pooled"
            : question.settings.weighting == "cohorts" ? ", by cohorts"
                                                       : ", cohort by moment");
}

std::string levelsText(const Question& question) {
    if (question.settings.levels.empty()) {
        return plainly(question);
    }
    std::string levels;
    for (const LevelSpec& level : question.settings.levels) {
        levels += (levels.empty() ? " of " : " and of ") + level.by;
        if (!level.slopes.empty()) {
            levels += std::string(level.slopes.size() == 1 ? " (slope in " : " (slopes in ") +
                      joinedNames(level.slopes) +
                      (level.covariance == "diagonal" ? ", apart)" : ")");
        }
    }
    const Family* law = familyOf(question.settings.outcomeLaw);
    return "random effects" + levels +
           (law != nullptr && law->outcome == Family::Outcome::YesNo ? " on log odds"
            : law != nullptr                                         ? " on the log of a count"
            : question.settings.likelihood == "full"                 ? ", full likelihood"
                                                                     : "");
}

std::string methodText(const Question& question) {
    const Estimator* estimator = findEstimator(question.method);
    return estimator == nullptr          ? question.method
           : estimator->named != nullptr ? estimator->named(question)
                                         : estimator->shown;
}

}  // namespace rapporto
