#pragma once

#include "core/base/compiled_once.h"
#include "core/describe/exhibit.h"
#include "core/model/fit.h"

#include <functional>
#include <memory>
#include <string>
#include <vector>

namespace rapporto {

/// From the least doubt to the greatest; then none at all.
enum class Verdict : std::uint8_t {
    Fine,
    Noted,       ///< It departs, and what is asked hardly depends on it.
    AllowedFor,  ///< It departs, and the question’s errors do not need it.
    Weigh,
    Fails,
    NotApplicable
};

/// "fine", "noted", "allowed-for", "weigh", "fails", "not-applicable".
[[nodiscard]] std::string verdictName(Verdict verdict);

/// A mark by shape: “●”, “◇”, “◉”, “◆”, “■”, “○”.
[[nodiscard]] std::string verdictMark(Verdict verdict);

/// It is open: somebody has to do or to say something.
[[nodiscard]] inline bool isDoubt(Verdict verdict) {
    return verdict == Verdict::Weigh || verdict == Verdict::Fails;
}

/// A proposed edit: a variant of the question, ready to be tried.
struct Remedy {
    std::string label;
    std::string why;
    Question variant;  ///< Without id; `variantOf` and `title` are set.
};

/// What one check found.
struct CheckResult {
    RAPPORTO_COMPILED_ONCE(CheckResult);

    std::string id;
    std::string
        equation;  ///< Of a path system: “to pruning”; empty: of the whole, or the only one.
    Verdict verdict = Verdict::Fine;
    std::optional<double> statistic;
    std::string statisticName;
    std::vector<double> df;
    std::string distribution;  ///< "F", "chi2", "t", "normal", "W", "exact" or empty.
    std::optional<double> p;
    std::string headline;  ///< For the list: “p .012”, “largest 2.1”.
    std::string reading;   ///< What it means here, in full sentences.
    std::vector<std::pair<std::string, double>> details;
    Exhibit exhibit;
    std::vector<Remedy> remedies;
    bool fault = false;    ///< A mistake of this program stands in the way; the reading tells it.
    bool awaited = false;  ///< It is being worked out; all it says is of the answer before, if any.
};

struct Defence;
struct Trace;

struct CheckInput {
    const Frame& frame;
    const Question& question;
    const Design& design;
    const Fit& fit;
    const CheckRequest& options;
    double alpha;
    const Job& job;
    const Trace* trace = nullptr;  ///< Of checks of a path system.
    /// What was asked of one effect beside the fit; null where nothing was.
    const Defence* defence = nullptr;
};

/// What kind of fit a check may be asked of, as bits.
namespace fits {
inline constexpr unsigned kPlain = 1;        ///< Least squares of the rows as they are.
inline constexpr unsigned kInstruments = 2;  ///< Residuals of a structural equation.
inline constexpr unsigned kEffects = 4;      ///< Least squares with effects swept out.
inline constexpr unsigned kOneEffect = 8;    ///< The same with one grouping alone.
inline constexpr unsigned kRandom = 16;      ///< Rows less a share of their unit’s mean.
inline constexpr unsigned kDynamic = 32;     ///< Instruments by earlier moments.
inline constexpr unsigned kCount = 64;       ///< Likelihood of counts.
inline constexpr unsigned kYesNo = 128;      ///< Likelihood of a yes–no outcome.
inline constexpr unsigned kOrdered = 256;    ///< Likelihood of ordered groups.
inline constexpr unsigned kQuantile = 512;   ///< Quantiles in place of means.
inline constexpr unsigned kHeldDown = 1024;  ///< Robust fits: rows with weights of their own.
inline constexpr unsigned kOther = 2048;     ///< Other likelihoods.
inline constexpr unsigned kTrace = 4096;     ///< A path system as a whole.
inline constexpr unsigned kEcho = 8192;      ///< Rows less a share of the row before.
inline constexpr unsigned kLevels = 16384;   ///< Random effects of groups.
inline constexpr unsigned kAny = 31 | kEcho;
inline constexpr unsigned kAll = 4095 | kEcho | kLevels;  ///< All but a path system as a whole.
}  // namespace fits

/// What is true of a check beside what it computes, as bits.
namespace traits {
/// It asks about terms, or whether something moves with what they give: a mean has neither.
inline constexpr unsigned kNeedsTerms = 1;
inline constexpr unsigned kOfTermsAlone = 2;  ///< It speaks of the terms, not of what is left.
/// Under sampling weights it looks at the weighted fit, whose rows, terms or instruments it is
/// about; others look at each row once, since their laws are those of rows, not of weights.
inline constexpr unsigned kOfWeightedFit = 4;
/// It counts rows by their frequency weights itself: where the rows stood for are too many to be
/// written out, the others are not made.
inline constexpr unsigned kCountsRows = 8;
inline constexpr unsigned kOfSpread = 16;    ///< Errors that need no even spread allow for it.
inline constexpr unsigned kAlongTime = 32;   ///< Errors that expect an echo allow for it.
inline constexpr unsigned kOfClusters = 64;  ///< Errors by the same clusters allow for it.
/// The tests under its question share a null; it suits most cases and speaks at its own level.
inline constexpr unsigned kSpeaks = 128;
/// Where it fails the levels may only trend together: every effect is told with it in front.
inline constexpr unsigned kTrendsAlone = 512;
inline constexpr unsigned kRatio = 256;  ///< Its F sets two spreads against each other.
}  // namespace traits

/// One diagnostic. `run` is pure. Ids are stable keys, saved in documents.
struct Check {
    const char* id;
    const char* group;  ///< The question it answers: “Is the spread even?”.
    const char* name;   ///< “Breusch–Pagan”.
    const char* null;   ///< Its null hypothesis.
    const char* rule;   ///< How the verdict comes about.
    const char* source;
    CheckResult (*run)(const CheckInput&);
    bool needsRows = true;  ///< False: moments are enough.
    unsigned of = fits::kPlain;
    std::vector<const char*> options = {};  ///< Keys of a `CheckRequest` that it uses.
    unsigned traits = 0;
    const char* looksAt = "";  ///< Of a test of a shared null: “the two ends of one term”.

    [[nodiscard]] bool has(unsigned trait) const { return (traits & trait) != 0; }

    /// It looks at the table, whatever is made of it.
    [[nodiscard]] bool isOfData() const { return of == fits::kAll; }
};

/// All checks in the order they are shown. Defined in check_table.cpp, the only place to add one.
[[nodiscard]] const std::vector<Check>& allChecks();

/// The check of that id, or null.
[[nodiscard]] const Check* findCheck(const std::string& id);

/// “Breusch–Pagan”; of an equation of a path system “pruning: Breusch–Pagan”.
[[nodiscard]] std::string checkName(const CheckResult& result);

/// The check’s id, with its equation where it has one: what tells the results of an answer apart.
[[nodiscard]] std::string checkKey(const CheckResult& result);

/// What a check looks at where that is not the answer’s own design and fit: each row once under
/// sampling weights, the rows that are stood for under frequency weights.
struct CheckRows {
    Design design;
    Fit fit;
};

/// What the checks of an answer are made of.
struct CheckRun {
    const Frame& frame;
    const Question& question;
    const Design& design;
    const Fit& fit;
    double alpha;
    /// What checks look at instead of design and fit, asked for when the first is made; gives null
    /// where the design has neither sampling nor frequency weights. May be empty.
    std::function<std::shared_ptr<const CheckRows>()> rows = {};
    /// Told of the results while they come, in the order of `runChecks` with those still awaited
    /// among them: once before any is made, then from any thread, one call at a time, at most every
    /// 60 ms and for no more than a tenth of the time. Not called where all were known. May be
    /// empty.
    std::function<void(const std::vector<CheckResult>&)> tell = {};
    /// The result of a request that was answered before on the same table, question and fit, and
    /// where to keep one. May be empty: nothing is remembered.
    std::function<std::optional<CheckResult>(const CheckRequest&)> before = {};
    std::function<void(const CheckRequest&, const CheckResult&)> keep = {};
    const Defence* defence = nullptr;  ///< What was asked of one effect; null where nothing was.
};

/// Runs what the question asks for. An id that this version does not have comes back as
/// not-applicable with the words “not built yet”. What a stop left unanswered is not among them.
[[nodiscard]] std::vector<CheckResult> runChecks(const CheckRun& run, const Job& job);

/// The checks that the question asks for, none of them made yet.
[[nodiscard]] std::vector<CheckResult> awaitedChecks(const Question& question);

/// The checks of a path system as a whole that the question asks for.
[[nodiscard]] std::vector<CheckResult> runTraceChecks(const Frame& frame, const Question& question,
                                                      const Trace& trace, double alpha,
                                                      const Job& job);

/// What the checks under one question of the list say together.
///
/// Where they are tests of one null (an even spread, unrelated errors, normal errors) the one that
/// suits most cases speaks at its own level, and any other that doubts must do so after Holm’s
/// correction for their number: of five looks at nothing one is below .05 far too often. Where a
/// silent test looks in more directions than the one that speaks, what its silence is worth is
/// worked out. Everywhere else the worst verdict is the question’s.
struct GroupVerdict {
    std::string group;
    Verdict worst = Verdict::NotApplicable;
    std::vector<std::string> names;  ///< Of the checks it rests on.
    std::vector<std::string> ids;    ///< The same.
    std::string line;                ///< For the list: “Breusch–Pagan p .007, and 2 more”.
    /// Silent tests that look in more directions than the one that speaks, by id: how often each
    /// would see a departure as large as the one found.
    std::vector<std::pair<std::string, double>> power;
    std::string reading;   ///< Which of them to believe here, and why.
    bool awaited = false;  ///< Some of its checks are still being worked out.
};

/// Each question once, in the order of the checks: five tests of normality are one doubt. Not
/// applicable where no check of the question is.
///
/// Source: Holm (1979); the power of a test in more directions by the noncentral chi-square.
[[nodiscard]] std::vector<GroupVerdict> verdictsByGroup(const std::vector<CheckResult>& checks,
                                                        double alpha = 0.05);
[[nodiscard]] std::vector<GroupVerdict> verdictsByGroup(
    const std::vector<const CheckResult*>& checks, double alpha);

CheckResult checkReset(const CheckInput& in);
CheckResult checkComponentResidual(const CheckInput& in);
CheckResult checkBreuschPagan(const CheckInput& in);
CheckResult checkWhite(const CheckInput& in);
CheckResult checkDurbinWatson(const CheckInput& in);
CheckResult checkBreuschGodfrey(const CheckInput& in);
CheckResult checkJarqueBera(const CheckInput& in);
CheckResult checkShapiroWilk(const CheckInput& in);
CheckResult checkLeverage(const CheckInput& in);
CheckResult checkOutliers(const CheckInput& in);
CheckResult checkCooksDistance(const CheckInput& in);
CheckResult checkVif(const CheckInput& in);
CheckResult checkRainbow(const CheckInput& in);
CheckResult checkLink(const CheckInput& in);
CheckResult checkInteractions(const CheckInput& in);
CheckResult checkHarvey(const CheckInput& in);
CheckResult checkGlejser(const CheckInput& in);
CheckResult checkGoldfeldQuandt(const CheckInput& in);
CheckResult checkGroupwise(const CheckInput& in);
CheckResult checkArch(const CheckInput& in);
CheckResult checkLjungBox(const CheckInput& in);
CheckResult checkRuns(const CheckInput& in);
CheckResult checkIntraclass(const CheckInput& in);
CheckResult checkAndersonDarling(const CheckInput& in);
CheckResult checkLilliefors(const CheckInput& in);
CheckResult checkDagostino(const CheckInput& in);
CheckResult checkDfbetas(const CheckInput& in);
CheckResult checkDffits(const CheckInput& in);
CheckResult checkCovratio(const CheckInput& in);
CheckResult checkCondition(const CheckInput& in);
CheckResult checkChow(const CheckInput& in);
CheckResult checkCusum(const CheckInput& in);
CheckResult checkCusumSquares(const CheckInput& in);
CheckResult checkEndogeneity(const CheckInput& in);
CheckResult checkOverIdentification(const CheckInput& in);
CheckResult checkDifferenceJ(const CheckInput& in);
CheckResult checkWeakInstruments(const CheckInput& in);
CheckResult checkUnderIdentification(const CheckInput& in);
CheckResult checkAndersonRubin(const CheckInput& in);
CheckResult checkFixedEffectsF(const CheckInput& in);
CheckResult checkBreuschPaganLm(const CheckInput& in);
CheckResult checkHausman(const CheckInput& in);
CheckResult checkPanelSerial(const CheckInput& in);
CheckResult checkCrossSectionDependence(const CheckInput& in);
CheckResult checkLaggedOutcome(const CheckInput& in);

// Of random effects of groups.
CheckResult checkRandomPart(const CheckInput& in);
CheckResult checkWithinBetween(const CheckInput& in);
CheckResult checkFewGroups(const CheckInput& in);
CheckResult checkGroupsNormal(const CheckInput& in);
CheckResult checkRowsShape(const CheckInput& in);
CheckResult checkRowsSpread(const CheckInput& in);
CheckResult checkGroupsSpread(const CheckInput& in);
CheckResult checkRowsNormal(const CheckInput& in);
CheckResult checkDifferencesSerial(const CheckInput& in);
CheckResult checkPreTrend(const CheckInput& in);
CheckResult checkWhoIsCompared(const CheckInput& in);
CheckResult checkWeightsMatter(const CheckInput& in);
CheckResult checkOverdispersion(const CheckInput& in);
CheckResult checkPearsonDispersion(const CheckInput& in);
CheckResult checkZeroExcess(const CheckInput& in);
CheckResult checkVuong(const CheckInput& in);
CheckResult checkRootogram(const CheckInput& in);
CheckResult checkHosmerLemeshow(const CheckInput& in);
CheckResult checkRoc(const CheckInput& in);
CheckResult checkParallelLines(const CheckInput& in);
CheckResult checkSeparation(const CheckInput& in);
CheckResult checkAnswerCodes(const CheckInput& in);
CheckResult checkSpellings(const CheckInput& in);
CheckResult checkRepeats(const CheckInput& in);
CheckResult checkFarValues(const CheckInput& in);
CheckResult checkTwins(const CheckInput& in);
CheckResult checkHeaps(const CheckInput& in);
CheckResult checkTraits(const CheckInput& in);
CheckResult checkUnitRoot(const CheckInput& in);
CheckResult checkLevelStationary(const CheckInput& in);
CheckResult checkSharedTrend(const CheckInput& in);
CheckResult checkPanelUnitRoot(const CheckInput& in);
// Of one effect that a person wants to defend.
CheckResult checkLeftOut(const CheckInput& in);
CheckResult checkByLot(const CheckInput& in);
CheckResult checkNotSeen(const CheckInput& in);
CheckResult checkPathsLeftOut(const CheckInput& in);
CheckResult checkDraws(const CheckInput& in);

}  // namespace rapporto
