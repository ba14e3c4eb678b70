#include "core/checks/break_path.h"
#include "core/checks/check.h"
#include "core/checks/common.h"

#include <algorithm>

namespace rapporto {

namespace {

/// The row with what is true of the check beside what it computes.
Check with(Check check, unsigned traits, const char* looksAt = "") {
    check.traits = traits;
    check.looksAt = looksAt;
    return check;
}

}  // namespace

const std::vector<Check>& allChecks() {
    static const char* const shape = "Is the shape right?";
    static const char* const spread = "Is the spread even?";
    static const char* const unrelated = "Are errors unrelated?";
    static const char* const normal = "Are errors normal enough?";
    static const char* const few = "Do a few rows decide?";
    static const char* const overlap = "Do the terms overlap?";
    static const char* const stable = "Is it stable?";
    static const char* const cause = "Can the cause be trusted?";
    static const char* const paths = "Do the paths hold?";
    static const char* const panel = "Does the panel choice hold?";
    static const char* const groups = "Do the groups stand as they should?";
    static const char* const count = "Does the count model fit?";
    static const char* const yesNo = "Does the yes–no or ordered model fit?";
    static const char* const data = "Are the data what they seem?";
    static const char* const trends = "Do they only trend together?";
    static const std::vector<Check> kChecks = {
        {"answer-codes", data, "codes for no answer", "every number is one",
         "fails: a code that looks like “no answer” counts as a number", "docs/data-doubts.md",
         &checkAnswerCodes, true, fits::kAll},
        {"spellings", data, "spellings", "every level is spelled one way",
         "fails: two levels differ by case, spaces, accents or a letter or two",
         "Damerau 1964; docs/data-doubts.md", &checkSpellings, true, fits::kAll},
        {"repeats", data, "repeated rows", "every row stands once",
         "fails: rows repeat wholly where chance gives next to none, or a unit has a moment twice",
         "docs/data-doubts.md", &checkRepeats, true, fits::kAll},
        {"far-values", data, "values far out", "no value stands alone by orders of magnitude",
         "weigh: a value far from the others, a slipped digit, a wrong sign, a date far out",
         "docs/data-doubts.md", &checkFarValues, true, fits::kAll},
        {"twins", data, "copies", "no variable copies another",
         "fails: two variables used agree, scale each other or correlate above .9999",
         "docs/data-doubts.md", &checkTwins, true, fits::kAll},
        {"heaps", data, "heaps and units", "numbers are what their measure says",
         "weigh: one number far too often, fractions in a count, weights not above zero",
         "docs/data-doubts.md", &checkHeaps, true, fits::kAll},
        {"traits", data, "traits of units", "traits of a unit stay",
         "weigh: a trait changes once and comes back", "docs/data-doubts.md", &checkTraits, true,
         fits::kAll},
        with({"shared-trend",
              trends,
              "a trend that is shared",
              "what the terms leave of the outcome wanders",
              "fails: outcome and terms have unit roots and so has what is left, p at or above "
              "alpha",
              "Engle & Granger 1987; MacKinnon 1996",
              &checkSharedTrend,
              true,
              fits::kPlain,
              {"with", "lags"}},
             traits::kNeedsTerms | traits::kTrendsAlone),
        {"unit-root",
         trends,
         "a unit root",
         "the outcome wanders",
         "weigh: p at or above alpha; noted where the terms share its trend",
         "Dickey & Fuller 1979; Said & Dickey 1984; MacKinnon 1996",
         &checkUnitRoot,
         true,
         fits::kPlain | fits::kEcho,
         {"with", "lags"}},
        {"level-stationary",
         trends,
         "a level that is kept",
         "the outcome keeps its level",
         "weigh: p below alpha; noted where the terms share its trend",
         "Kwiatkowski, Phillips, Schmidt & Shin 1992",
         &checkLevelStationary,
         true,
         fits::kPlain | fits::kEcho,
         {"with", "lags"}},
        {"panel-unit-root",
         trends,
         "units that wander",
         "the outcome wanders in every unit",
         "weigh: p at or above alpha",
         "Im, Pesaran & Shin 2003; Maddala & Wu 1999",
         &checkPanelUnitRoot,
         true,
         fits::kAny,
         {"with", "lags"}},
        with({"reset",
              shape,
              "powers of the fit (RESET)",
              "powers of the fitted value add nothing",
              "fine: p at or above alpha, or under 0.2 % of the residual variance; fails from 2 %",
              "Ramsey 1969",
              &checkReset,
              true,
              fits::kPlain,
              {"powers"}},
             traits::kNeedsTerms | traits::kCountsRows),
        with({"component-residual", shape, "curvature by term", "no term’s square adds anything",
              "fine: adjusted p at or above alpha, or under 0.2 % of the residual variance; fails "
              "from "
              "2 %",
              "Larsen & McCleary 1972", &checkComponentResidual},
             traits::kNeedsTerms | traits::kCountsRows),
        with({"rainbow", shape, "rainbow", "the fit errs no more far out than in the middle",
              "fine: p at or above alpha, or F under 1.1; fails from 1.5", "Utts 1982",
              &checkRainbow},
             traits::kNeedsTerms),
        with({"link", shape, "squared index", "the square of the fitted value adds nothing",
              "fine: p at or above alpha, or under 0.2 % of the residual variance; fails from 2 %",
              "Pregibon 1980", &checkLink, true,
              fits::kPlain | fits::kCount | fits::kYesNo | fits::kOrdered | fits::kOther},
             traits::kNeedsTerms),
        with({"interactions", shape, "products of terms", "no effect hangs on another term",
              "fine: p by Holm at or above alpha, or under 0.2 % of the residual variance; fails "
              "from "
              "2 %",
              "Holm 1979", &checkInteractions},
             traits::kNeedsTerms | traits::kCountsRows),
        with({"weights-matter", shape, "weights", "effects are alike at small and large weights",
              "fine: p, classical or robust, at or above alpha; else weigh",
              "DuMouchel & Duncan 1983", &checkWeightsMatter},
             traits::kNeedsTerms | traits::kOfWeightedFit),
        with({"breusch-pagan", spread, "Breusch–Pagan", "one spread for all",
              "fine: p at or above alpha, or the spread differs by under 1.15 times (auxiliary R² "
              "under "
              ".03); fails from 1.5 times (.1)",
              "Breusch & Pagan 1979; Koenker 1981", &checkBreuschPagan},
             traits::kNeedsTerms | traits::kOfSpread | traits::kSpeaks,
             "a spread that moves with the terms"),
        with({"white",
              spread,
              "White",
              "one spread for all",
              "fine: p at or above alpha, or the spread differs by under 1.15 times (auxiliary R² "
              "under "
              ".03); fails from 1.5 times (.1)",
              "White 1980",
              &checkWhite,
              true,
              fits::kPlain,
              {"cross"}},
             traits::kNeedsTerms | traits::kOfSpread,
             "a spread that moves with the terms, their squares and products"),
        with(
            {"harvey", spread, "Harvey", "no term changes the spread by a factor",
             "fine: p at or above alpha, or the spread differs by under 1.15 times; fails from 1.5 "
             "times",
             "Harvey 1976", &checkHarvey},
            traits::kNeedsTerms | traits::kOfSpread, "a spread that a term multiplies"),
        with(
            {"glejser", spread, "Glejser", "no term changes the size of the errors",
             "fine: p at or above alpha, or the spread differs by under 1.15 times; fails from 1.5 "
             "times",
             "Glejser 1969", &checkGlejser},
            traits::kNeedsTerms | traits::kOfSpread, "a size of errors that moves with the terms"),
        with(
            {"goldfeld-quandt",
             spread,
             "Goldfeld–Quandt",
             "both ends scatter alike",
             "fine: p at or above alpha, or the spread differs by under 1.15 times; fails from 1.5 "
             "times",
             "Goldfeld & Quandt 1965",
             &checkGoldfeldQuandt,
             true,
             fits::kPlain,
             {"by", "drop"}},
            traits::kOfSpread | traits::kRatio, "the two ends of one term"),
        with(
            {"groupwise",
             spread,
             "by groups",
             "all groups scatter alike",
             "fine: p at or above alpha, or the spread differs by under 1.15 times; fails from 1.5 "
             "times",
             "Brown & Forsythe 1974",
             &checkGroupwise,
             true,
             fits::kAny,
             {"by"}},
            traits::kOfSpread, "the spread of each group"),
        with({"arch",
              spread,
              "restless times (ARCH)",
              "large errors are not followed by large ones",
              "fine: p at or above alpha, or under 1 % explained by the past; fails from 8 %",
              "Engle 1982",
              &checkArch,
              true,
              fits::kPlain,
              {"lags"}},
             traits::kOfSpread, "large errors that follow large ones"),
        with({"durbin-watson", unrelated, "Durbin–Watson", "an error says nothing about the next",
              "fine: p at or above alpha, or a first autocorrelation under .1; fails from .3",
              "Durbin & Watson 1950", &checkDurbinWatson, true, fits::kPlain | fits::kEcho},
             traits::kAlongTime, "the next moment alone"),
        with({"breusch-godfrey",
              unrelated,
              "Breusch–Godfrey",
              "earlier errors say nothing about the present one",
              "fine: p at or above alpha, or under 1 % explained by the past; fails from 8 %",
              "Breusch 1978; Godfrey 1978",
              &checkBreuschGodfrey,
              true,
              fits::kPlain | fits::kEcho,
              {"lags"}},
             traits::kAlongTime | traits::kSpeaks, "several moments at once"),
        with({"ljung-box",
              unrelated,
              "Ljung–Box",
              "no echo at any lag",
              "fine: p at or above alpha, or no autocorrelation of .1; fails from .3",
              "Ljung & Box 1978",
              &checkLjungBox,
              true,
              fits::kPlain | fits::kEcho,
              {"lags"}},
             traits::kAlongTime, "the echo at each lag"),
        with({"runs", unrelated, "runs of signs", "signs change as by chance",
              "fine: p at or above alpha, or within 5 % of the expected number; fails from 25 %",
              "Wald & Wolfowitz 1940", &checkRuns, true, fits::kPlain | fits::kEcho},
             traits::kAlongTime, "signs alone"),
        with({"intraclass",
              unrelated,
              "clusters",
              "rows of one cluster are no more alike than others",
              "fine: p at or above alpha, or under 1 % between clusters; fails from 5 %",
              "Donner 1986",
              &checkIntraclass,
              true,
              fits::kPlain | fits::kInstruments,
              {"by"}},
             traits::kOfClusters, "rows of one cluster"),
        with({"differences-serial", unrelated, "echo of the changes",
              "changes two moments apart are unrelated",
              "fine: p of AR(2) at or above alpha; fails under .01", "Arellano & Bond 1991",
              &checkDifferencesSerial, true, fits::kDynamic},
             traits::kOfWeightedFit),
        with({"jarque-bera", normal, "Jarque–Bera", "normal errors",
              "fine: p at or above alpha, or skewness under .2 and excess kurtosis under .4; fails "
              "from "
              "1 or 2; noted where there are over 200 rows and over 25 times the squared skewness",
              "Jarque & Bera 1980", &checkJarqueBera, true, fits::kAny},
             0, "skewness and tails"),
        with({"shapiro-wilk", normal, "Shapiro–Wilk", "normal errors",
              "fine: p at or above alpha, or skewness under .2 and excess kurtosis under .4; fails "
              "from "
              "1 or 2; noted where there are over 200 rows and over 25 times the squared skewness",
              "Royston 1995", &checkShapiroWilk, true, fits::kAny},
             traits::kSpeaks, "the whole shape"),
        with({"anderson-darling", normal, "Anderson–Darling", "normal errors",
              "fine: p at or above alpha, or skewness under .2 and excess kurtosis under .4; fails "
              "from "
              "1 or 2; noted where there are over 200 rows and over 25 times the squared skewness",
              "Anderson & Darling 1954; D’Agostino & Stephens 1986", &checkAndersonDarling, true,
              fits::kAny},
             0, "the whole shape, its tails above all"),
        with({"lilliefors", normal, "Lilliefors", "normal errors",
              "fine: p at or above alpha, or skewness under .2 and excess kurtosis under .4; fails "
              "from "
              "1 or 2; noted where there are over 200 rows and over 25 times the squared skewness",
              "Lilliefors 1967; Dallal & Wilkinson 1986", &checkLilliefors, true, fits::kAny},
             0, "the middle of the shape"),
        with({"dagostino", normal, "D’Agostino", "normal errors",
              "fine: p at or above alpha, or skewness under .2 and excess kurtosis under .4; fails "
              "from "
              "1 or 2; noted where there are over 200 rows and over 25 times the squared skewness",
              "D’Agostino, Belanger & D’Agostino 1990", &checkDagostino, true, fits::kAny},
             0, "skewness and tails"),
        with({"leverage", few, "leverage", "no row is far from the others in its terms",
              "weigh: a leverage above .2 and 3k/n; fails above .5 and 2k/n",
              "Hoaglin & Welsch 1978", &checkLeverage},
             traits::kNeedsTerms | traits::kOfTermsAlone | traits::kOfWeightedFit),
        {"outliers", few, "outliers", "the largest residual is one that chance gives",
         "weigh: any row beyond the Bonferroni bound; fails: more than five, or one twice as far",
         "Beckman & Cook 1983", &checkOutliers, true, fits::kPlain | fits::kOneEffect},
        with({"cooks-distance", few, "Cook’s distance", "no single row decides the estimates",
              "weigh: a distance above .1; fails above 1; rows above 4/n are counted", "Cook 1977",
              &checkCooksDistance},
             traits::kOfWeightedFit),
        with({"dfbetas", few, "DFBETAS", "no row decides an effect",
              "weigh: a row moves an effect by half its standard error; fails from a whole one",
              "Belsley, Kuh & Welsch 1980", &checkDfbetas, true, fits::kPlain | fits::kOneEffect},
             traits::kOfWeightedFit),
        with({"dffits", few, "DFFITS", "no row makes its own fit",
              "weigh: a row moves its fit by its standard error; fails from twice that",
              "Belsley, Kuh & Welsch 1980", &checkDffits},
             traits::kOfWeightedFit),
        with({"covratio", few, "COVRATIO", "no row decides the precision",
              "weigh: a row changes the generalised variance by half", "Belsley, Kuh & Welsch 1980",
              &checkCovratio},
             traits::kOfWeightedFit),
        {"least-trimmed", few, "least trimmed squares", "the rows speak with one voice",
         "fine: no effect moves by a standard error without the rows apart, and they are no more "
         "than chance puts there; fails from two",
         "Rousseeuw 1984; Rousseeuw & Van Driessen 2006", &checkTrimmed, true, fits::kPlain},
        with({"held-down", few, "rows held down", "no row counts for less than a half",
              "fine: under 2 % of the rows count for less than a tenth, and least squares lies "
              "within "
              "two errors; else weigh",
              "Huber 1981; Yohai 1987", &checkHeldDown, true, fits::kHeldDown},
             traits::kOfWeightedFit),
        with({"vif", overlap, "variance inflation", "each term says something of its own",
              "weigh: an inflation of 10 or more (per column); fails from 30", "Fox & Monette 1992",
              &checkVif, false, fits::kPlain | fits::kEffects | fits::kOneEffect},
             traits::kNeedsTerms | traits::kOfTermsAlone | traits::kOfWeightedFit |
                 traits::kCountsRows),
        with({"condition", overlap, "condition number", "no direction without data",
              "weigh: 30 or more with two effects that hang on it; fails from 100",
              "Belsley, Kuh & Welsch 1980", &checkCondition, false,
              fits::kPlain | fits::kEffects | fits::kOneEffect},
             traits::kNeedsTerms | traits::kOfTermsAlone | traits::kOfWeightedFit |
                 traits::kCountsRows),
        {"chow",
         stable,
         "one model for all parts (Chow)",
         "the parts share one model",
         "fine: p at or above alpha, or under 1 % of the residual variance; fails from 5 %",
         "Chow 1960",
         &checkChow,
         true,
         fits::kPlain,
         {"by", "at", "at_row"}},
        {"cusum", stable, "CUSUM", "neither level nor effects drift",
         "fine: p at or above alpha; fails from 1.3 in the bounds’ measure",
         "Brown, Durbin & Evans 1975", &checkCusum},
        {"cusum-squares", stable, "CUSUM of squares", "errors keep their size along time",
         "fine: p at or above alpha, or a departure under .05; fails from .25",
         "Brown, Durbin & Evans 1975", &checkCusumSquares},
        {"sup-f", stable, "a break somewhere (sup F)", "no moment cuts the series in two",
         "fine: p at or above alpha, or under 2 % of the residual variance; fails from 10 %",
         "Andrews 1993; Hansen 1997", &checkSupF},
        {"recursive", stable, "estimates along time", "the estimates of the rows so far settle",
         "fine: p at or above alpha; fails from 2 in the measure of the bounds",
         "Zeileis & Hornik 2007", &checkRecursive},
        with(
            {"left-out", cause, "a cause left out",
             "no cause as strong as one of the terms is left out",
             "fails: one as strong as a benchmark would take the effect to zero; weigh: the end of "
             "its interval",
             "Cinelli & Hazlett 2020", &checkLeftOut, false,
             fits::kPlain | fits::kEffects | fits::kOneEffect},
            traits::kOfWeightedFit),
        with({"by-lot", cause, "the cause by lot", "the cause does nothing to anybody",
              "weigh: lots and the law of the errors come to different ends",
              "Fisher 1935; Young 2019", &checkByLot, true,
              fits::kPlain | fits::kEffects | fits::kOneEffect},
             traits::kOfWeightedFit),
        with({"not-seen", cause, "outcomes not seen",
              "the cause does not move whose outcome is seen",
              "weigh: it does, and the effect on those seen either way may be nothing; noted: what "
              "was not seen could undo the effect",
              "Horowitz & Manski 2000; Lee 2009", &checkNotSeen, true,
              fits::kPlain | fits::kEffects | fits::kOneEffect},
             traits::kOfWeightedFit),
        with({"endogeneity", cause, "endogeneity",
              "least squares and instruments aim at the same effect",
              "fine: p below alpha where the question is asked by instruments, or at or above it "
              "where "
              "by least squares; else weigh, and fails by least squares",
              "Durbin 1954; Wu 1973; Hausman 1978", &checkEndogeneity, true, fits::kAny},
             traits::kOfWeightedFit),
        with(
            {"over-identification", cause, "over-identification",
             "all instruments lead to the same effect",
             "fine: p at or above alpha; fails under .01", "Sargan 1958; Basmann 1960; Hansen 1982",
             &checkOverIdentification, true, fits::kAny | fits::kDynamic},
            traits::kOfWeightedFit),
        with({"difference-j", cause, "difference of J", "this instrument agrees with the others",
              "fine: p by Holm at or above alpha; fails under .01",
              "Eichenbaum, Hansen & Singleton 1988", &checkDifferenceJ, true, fits::kAny},
             traits::kOfWeightedFit),
        with({"weak-instruments", cause, "weak instruments",
              "the instruments are weak: two-stage is biased by a tenth of least squares’ bias or "
              "more",
              "fine: above the critical value for a tenth; fails under that for three tenths",
              "Stock & Yogo 2005; Montiel Olea & Pflueger 2013", &checkWeakInstruments, true,
              fits::kAny | fits::kCount | fits::kYesNo},
             traits::kOfTermsAlone | traits::kOfWeightedFit),
        with({"under-identification", cause, "identification",
              "the instruments do not move the terms", "fine: p below alpha; fails else",
              "Anderson 1951; Kleibergen & Paap 2006", &checkUnderIdentification, true,
              fits::kAny | fits::kCount | fits::kYesNo},
             traits::kOfTermsAlone | traits::kOfWeightedFit),
        with({"anderson-rubin", cause, "Anderson–Rubin set", "the endogenous terms have no effect",
              "fine: the set is an interval that says the same as the question’s; weigh: it has no "
              "end "
              "or "
              "says another thing of zero; fails: it is empty",
              "Anderson & Rubin 1949", &checkAndersonRubin, true, fits::kAny},
             traits::kOfWeightedFit),
        with({"pre-trend", cause, "before the change",
              "before it changes a unit moves like the others",
              "fine: p at or above alpha, or under a twentieth of the mean effect after; fails "
              "from a "
              "half of it",
              "Freyaldenhoven, Hansen & Shapiro 2019", &checkPreTrend, true, fits::kEffects},
             traits::kOfWeightedFit),
        with({"who-is-compared", cause, "who is held against whom",
              "no unit is held against one that had changed before",
              "fine: under 5 % of the weight; fails from 30 %",
              "Goodman-Bacon 2021; de Chaisemartin & D’Haultfœuille 2020", &checkWhoIsCompared,
              true, fits::kEffects},
             traits::kOfTermsAlone | traits::kOfWeightedFit),
        {"paths-left-out", paths, "paths left out", "no path that is left out is needed",
         "fine: p at or above alpha, or RMSEA under .05; fails from .10; without a χ² of the "
         "system: p of the clearest path left out, by Holm",
         "Bollen 1989; Steiger 1990; Wald 1943", &checkPathsLeftOut, false, fits::kTrace},
        {"draws", paths, "draws", "the draws tell the ends of the intervals",
         "fine: 25 draws and more beyond each end (BCa: 50) and under 1 % failed; fails under 10 "
         "(20) or from 10 % failed",
         "Efron & Tibshirani 1993", &checkDraws, false, fits::kTrace},
        {"fixed-effects-f", panel, "effects of units (F)", "all units share one constant",
         "fine: the question has an effect of each unit (held fixed, drawn or differenced away), "
         "or "
         "p at or above alpha; else fails",
         "Wooldridge 2010", &checkFixedEffectsF, true, fits::kAny & ~fits::kInstruments},
        {"breusch-pagan-lm", panel, "spread between units (LM)", "units do not differ",
         "fine: allowed for by effects or clusters, or p at or above alpha; else fails",
         "Breusch & Pagan 1980; Honda 1985; Baltagi & Li 1990", &checkBreuschPaganLm, true,
         fits::kAny & ~fits::kInstruments},
        {"hausman", panel, "Hausman", "the units’ effects are unrelated to the terms",
         "fine: p at or above alpha, or the effects are held fixed; else fails",
         "Hausman 1978; Mundlak 1978", &checkHausman, true, fits::kAny & ~fits::kInstruments},
        {"lagged-outcome", panel, "lagged outcome with effects",
         "the lagged outcome is unrelated to what the units’ effects leave",
         "fine: a bias of about .02 or less; fails from .05", "Nickell 1981", &checkLaggedOutcome,
         true, fits::kEffects | fits::kOneEffect},
        with({"panel-serial", panel, "echo within units", "errors of a unit do not carry over",
              "fine: p at or above alpha, or errors clustered by the unit; else fails",
              "Wooldridge 2010; Drukker 2003", &checkPanelSerial, true,
              fits::kAny & ~fits::kInstruments},
             traits::kAlongTime),
        {"cross-section-dependence", panel, "units at one moment",
         "units do not share what the terms leave",
         "fine: p at or above alpha, or a mean correlation under .1; fails from .3", "Pesaran 2004",
         &checkCrossSectionDependence, true, fits::kAny & ~fits::kInstruments},
        {"random-part", groups, "is the random part needed", "groups do not differ",
         "fine: p under alpha, half and half of two chi-squares; else weigh",
         "Self & Liang 1987; Stram & Lee 1994", &checkRandomPart, true, fits::kLevels},
        with({"within-between", groups, "within against between (Mundlak)",
              "effects between groups are those within them",
              "fine: p at or above alpha; else fails", "Mundlak 1978", &checkWithinBetween, true,
              fits::kLevels},
             traits::kNeedsTerms),
        {"few-groups", groups, "number of groups", "groups are many enough to tell their spread",
         "fine: 30 groups and more at each level; noted where errors are adjusted for few; fails "
         "under 6",
         "Maas & Hox 2005; Kenward & Roger 1997", &checkFewGroups, false, fits::kLevels},
        {"groups-normal", groups, "law of the groups’ effects", "groups’ effects are normal",
         "fine: p at or above alpha; else noted", "Royston 1995; Verbeke & Lesaffre 1997",
         &checkGroupsNormal, true, fits::kLevels},
        with({"rows-shape", groups, "shape of the terms",
              "squares and cubes of what the terms give add nothing",
              "fine: p at or above alpha; else fails", "Ramsey 1969", &checkRowsShape, true,
              fits::kLevels},
             traits::kNeedsTerms),
        with({"rows-spread", groups, "spread along the terms",
              "rows of a group scatter alike whatever the terms are",
              "fine: p at or above alpha, or under 2 % of the spread goes with the terms; fails "
              "from "
              "10 %",
              "Koenker 1981; Arellano 1987", &checkRowsSpread, true, fits::kLevels},
             traits::kNeedsTerms),
        {"groups-spread", groups, "spread group by group", "rows scatter alike in all groups",
         "fine: p at or above alpha, or the widest tenth of groups scatters less than twice as "
         "much "
         "as the narrowest; else weigh",
         "Brown & Forsythe 1974", &checkGroupsSpread, true, fits::kLevels},
        {"rows-normal", groups, "law of the rows", "rows within groups are normal",
         "fine: p at or above alpha, or little lean and tail; noted with many rows; else weigh, "
         "fails "
         "from strong lean or tail",
         "Jarque & Bera 1980", &checkRowsNormal, true, fits::kLevels},
        {"overdispersion", count, "spread beyond the mean", "the variance is the mean",
         "fine: p at or above alpha, the extra under a twentieth, or errors that allow for it; "
         "fails from half as much again",
         "Cameron & Trivedi 1990", &checkOverdispersion, true, fits::kCount},
        with(
            {"pearson-dispersion", count, "Pearson’s dispersion", "what is left has the law’s size",
             "fine: between .8 and 1.25, or errors that allow for it; fails outside of .5 to 2",
             "McCullagh & Nelder 1989", &checkPearsonDispersion, true, fits::kCount},
            traits::kCountsRows),
        with({"zero-excess", count, "zeros", "zeros are as many as the law expects",
              "fine: p at or above alpha, or under 1 % of the rows; fails from 5 %",
              "van den Broek 1995; Newey 1985", &checkZeroExcess, true, fits::kCount},
             traits::kCountsRows),
        {"vuong", count, "worth of the part for zeros", "the plain count does as well",
         "fine: it gains more than it costs, p under alpha; else weigh", "Vuong 1989; Wilson 2015",
         &checkVuong, true, fits::kCount},
        {"rootogram", count, "rootogram", "each count is as frequent as expected",
         "fine: no root frequency off by more than 1; fails from 2.5", "Kleiber & Zeileis 2016",
         &checkRootogram, true, fits::kCount},
        {"hosmer-lemeshow", yesNo, "Hosmer–Lemeshow", "shares of yes are as told",
         "fine: p at or above alpha, or under 1 % beyond chance; fails from 5 %",
         "Hosmer & Lemeshow 1980", &checkHosmerLemeshow, true, fits::kYesNo},
        with({"roc", yesNo, "telling apart (ROC)", "the terms tell nothing apart",
              "fine: an area of .7 or more; fails under .55",
              "Hanley & McNeil 1982; DeLong, DeLong & Clarke-Pearson 1988", &checkRoc, true,
              fits::kYesNo},
             traits::kOfWeightedFit | traits::kCountsRows),
        {"parallel-lines", yesNo, "parallel lines (Brant)", "effects are the same at every cut",
         "fine: p at or above alpha; fails under .01", "Brant 1990", &checkParallelLines, true,
         fits::kOrdered},
        with({"separation", yesNo, "separation", "no term tells the answer for certain",
              "fine: each effect is held to one and a half spreads of its term; fails from five",
              "Albert & Anderson 1984", &checkSeparation, true, fits::kYesNo | fits::kCount},
             traits::kOfWeightedFit),
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

std::string checkKey(const CheckResult& result) {
    return result.equation.empty() ? result.id : result.id + " " + result.equation;
}

std::string checkName(const CheckResult& result) {
    const Check* check = findCheck(result.id);
    const std::string name = check == nullptr ? result.id : check->name;
    // An equation is called “to pruning”.
    return result.equation.empty() ? name : result.equation.substr(3) + ": " + name;
}

}  // namespace rapporto
