#include "core/checks/check.h"
#include "core/checks/common.h"

#include <algorithm>

namespace rapporto {

const std::vector<Check>& allChecks() {
    static const char* const shape = "Is the shape right?";
    static const char* const spread = "Is the spread even?";
    static const char* const unrelated = "Are errors unrelated?";
    static const char* const normal = "Are errors normal enough?";
    static const char* const few = "Do a few rows decide?";
    static const char* const overlap = "Do the terms overlap?";
    static const std::vector<Check> kChecks = {
        {"reset", shape, "powers of the fit (RESET)", "powers of the fitted value add nothing",
         "fine: p at or above alpha, or under 0.2 % of the residual variance; fails from 2 %",
         "Ramsey 1969", &checkReset},
        {"component-residual", shape, "curvature by term", "no term’s square adds anything",
         "fine: adjusted p at or above alpha, or under 0.2 % of the residual variance; fails from "
         "2 %",
         "Larsen & McCleary 1972", &checkComponentResidual},
        {"breusch-pagan", spread, "Breusch–Pagan", "one spread for all",
         "fine: p at or above alpha, or the spread differs by under 1.15 times (auxiliary R² under "
         ".03); fails from 1.5 times (.1)",
         "Breusch & Pagan 1979; Koenker 1981", &checkBreuschPagan},
        {"white", spread, "White", "one spread for all",
         "fine: p at or above alpha, or the spread differs by under 1.15 times (auxiliary R² under "
         ".03); fails from 1.5 times (.1)",
         "White 1980", &checkWhite},
        {"durbin-watson", unrelated, "Durbin–Watson", "an error says nothing about the next",
         "fine: p at or above alpha, or a first autocorrelation under .1; fails from .3",
         "Durbin & Watson 1950", &checkDurbinWatson},
        {"breusch-godfrey", unrelated, "Breusch–Godfrey",
         "earlier errors say nothing about the present one",
         "fine: p at or above alpha, or under 1 % explained by the past; fails from 8 %",
         "Breusch 1978; Godfrey 1978", &checkBreuschGodfrey},
        {"jarque-bera", normal, "Jarque–Bera", "normal errors",
         "fine: p at or above alpha, or skewness under .2 and excess kurtosis under .4; fails from "
         "1 or 2",
         "Jarque & Bera 1980", &checkJarqueBera},
        {"shapiro-wilk", normal, "Shapiro–Wilk", "normal errors",
         "fine: p at or above alpha, or skewness under .2 and excess kurtosis under .4; fails from "
         "1 or 2",
         "Royston 1995", &checkShapiroWilk},
        {"leverage", few, "leverage", "no row is far from the others in its terms",
         "weigh: a leverage above .2 and 3k/n; fails above .5 and 2k/n", "Hoaglin & Welsch 1978",
         &checkLeverage},
        {"outliers", few, "outliers", "the largest residual is one that chance gives",
         "weigh: any row beyond the Bonferroni bound; fails: more than five, or one twice as far",
         "Beckman & Cook 1983", &checkOutliers},
        {"cooks-distance", few, "Cook’s distance", "no single row decides the estimates",
         "weigh: a distance above .1; fails above 1; rows above 4/n are counted", "Cook 1977",
         &checkCooksDistance},
        {"vif", overlap, "variance inflation", "each term says something of its own",
         "weigh: an inflation of 10 or more (per column); fails from 30", "Fox & Monette 1992",
         &checkVif, false},
    };
    return kChecks;
}

const Check* findCheck(const std::string& id) {
    for (const Check& check : allChecks()) {
        if (id == check.id) {
            return &check;
        }
    }
    return nullptr;
}

std::vector<CheckResult> runChecks(const Frame& frame, const Question& question,
                                   const Design& design, const Fit& fit, double alpha,
                                   const Job& job) {
    std::vector<CheckRequest> wanted = question.checks;
    if (question.allChecks) {
        wanted.clear();
        for (const Check& check : allChecks()) {
            wanted.push_back(CheckRequest{check.id, {}, {}, {}});
        }
    }
    std::vector<CheckResult> results;
    for (const CheckRequest& request : wanted) {
        if (job.stopped()) {
            break;
        }
        const Check* check = findCheck(request.id);
        CheckResult result =
            check == nullptr ? notApplicable("The check ‘" + request.id + "’ is not built yet.")
            : check->needsRows && frame.moments() != nullptr
                ? notApplicable("It looks at rows, and the source is a summary of them.")
                : check->run({frame, question, design, fit, request, alpha, job});
        result.id = request.id;
        results.push_back(std::move(result));
    }
    return results;
}

}  // namespace rapporto
