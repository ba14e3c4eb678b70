#pragma once

#include "core/base/compiled_once.h"
#include "core/base/result.h"
#include "core/data/column.h"
#include "core/model/defence_requests.h"
#include "core/model/term.h"
#include "core/model/trace_spec.h"

#include <nlohmann/json_fwd.hpp>

#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace rapporto {

struct ErrorSpec {
    std::string kind = "classical";  ///< classical, robust, clustered, autocorrelation, bootstrap.
    std::string type = "HC1";        ///< Of robust: HC0 to HC4.
    std::vector<std::string> by;     ///< Of clustered: one or two variables.
    std::optional<int> lags = {};    ///< Of autocorrelation; absent: by the rule of thumb.
    bool automaticLags = false;      ///< Of autocorrelation: by the data.

    // Of bootstrap.
    int draws = 1999;
    std::optional<std::uint64_t> seed = {};  ///< Absent: the study’s.
    std::string scheme = "rows";             ///< Or clusters, wild, wild-clusters.
    std::string interval = "percentile";     ///< Or bias-corrected, bca.

    /// “clustered by village”, “robust (HC1)”, “classical”.
    [[nodiscard]] std::string shown() const;

    [[nodiscard]] static ErrorSpec clusteredBy(std::string name);
    [[nodiscard]] static ErrorSpec withEcho();
    [[nodiscard]] static ErrorSpec bySurvey();

    /// They take each row for itself: classical or robust ones.
    [[nodiscard]] bool takeRowsAlone() const;

    /// They come from estimating on rows, clusters or signs that are drawn.
    [[nodiscard]] bool areDrawn() const;

    // What they do not need.
    [[nodiscard]] bool allowUnevenSpread() const;
    [[nodiscard]] bool allowClusters() const;    ///< Rows of one of `by` may hang together.
    [[nodiscard]] bool allowEcho() const;        ///< Errors may carry over along time.
    [[nodiscard]] bool followTheDesign() const;  ///< Clusters are those of the survey.

    friend bool operator==(const ErrorSpec&, const ErrorSpec&) = default;
};

/// A grouping whose groups have effects of their own, drawn from a normal law.
struct LevelSpec {
    std::string by;
    std::vector<std::string> slopes = {};  ///< Variables whose effect differs among the groups.
    std::string covariance = "full";       ///< Of constant and slopes, or diagonal.

    friend bool operator==(const LevelSpec&, const LevelSpec&) = default;
};

/// What an estimator can be told beside its name.
struct EstimatorSettings {
    RAPPORTO_COMPILED_ONCE(EstimatorSettings);

    std::string variable = {};  ///< Of a bent line: what it bends in.
    int bends = 1;
    std::vector<double> start = {};
    bool fixed = false;         ///< The bends stay at `start`.
    double a = 1.0;             ///< Of Fuller’s estimator.
    std::string steps = "two";  ///< Of GMM: two, iterated, continuous; of dynamic panels: one, two.

    // Of dynamic panels.
    int depth = 0;           ///< How many earlier moments serve as instruments; 0: all there are.
    bool collapsed = false;  ///< One instrument for a distance in place of one for each moment.

    // Of an event study: `variable` is what is switched on.
    int before = 4;  ///< Moments before the change that have an effect each …
    int after = 4;   ///< … and from it on; what is further out goes to the ends.
    std::string weighting = "pooled";  ///< Or cohorts, group-time.
    std::string against = "not-yet";   ///< Of group-time: compared with not-yet or never changed.

    std::vector<double> at = {};        ///< Of quantile: points between 0 and 1.
    std::optional<double> tuning = {};  ///< Of robust fits; absent: the usual constant.
    int form = 2;                       ///< Of negative binomial: variance μ + αμ^form.
    std::string count = "poisson";      ///< Of zero-inflated and hurdle, or negative-binomial.
    /// Of the same, what tells zeros apart (empty: the terms themselves); of selection, what
    /// decides whether the outcome is seen.
    std::vector<std::string> zeroTerms = {};
    bool penalised = false;         ///< Of logit: Firth’s penalty.
    std::string firstRow = "kept";  ///< Of feasible-ar, or dropped.

    // Of multilevel.
    std::vector<LevelSpec> levels = {};          ///< Innermost first.
    std::string likelihood = "restricted";       ///< Or full.
    std::string lawOfEffects = "satterthwaite";  ///< Or kenward-roger, normal.
    std::string outcomeLaw = "normal";           ///< Or logit, poisson.
    int points = 9;                              ///< Of quadrature, of what is not normal.

    std::optional<double> low = {};   ///< Of tobit: the outcome is cut off from below …
    std::optional<double> high = {};  ///< … and above.

    friend bool operator==(const EstimatorSettings&, const EstimatorSettings&) = default;
};

/// What a person did about an assumption of a question.
struct Decision {
    std::string check;  ///< Id.
    std::string what;   ///< "kept", "remedied" or "accepted".
    std::string reason;

    friend bool operator==(const Decision&, const Decision&) = default;
};

/// How the terms of a question came to be chosen on the very rows that it is answered with.
struct TermChoice {
    std::string by;                  ///< A criterion’s id, "lasso" or "double-selection".
    std::vector<std::string> among;  ///< The terms as they stood before, as shown.
    std::string of = {};             ///< Of double selection: the effect that is asked for.

    friend bool operator==(const TermChoice&, const TermChoice&) = default;
};

enum class WeightKind : std::uint8_t { None, Sampling, Frequency, Precision };

[[nodiscard]] std::string weightName(WeightKind kind);

struct CheckRequest {
    std::string id;
    std::optional<int> lags = {};
    std::optional<bool> cross = {};
    std::vector<int> powers = {};
    std::string by = {};                    ///< A variable: what rows are ordered or grouped by.
    std::optional<double> drop = {};        ///< Share of rows left out of the middle.
    std::optional<std::size_t> atRow = {};  ///< From 1, of the source: first of the second part.
    std::string at = {};                    ///< A moment: the first of the second part.
    std::string lagsBy = {};                ///< aic or bic: how lags are chosen; empty: the usual.
    std::string with = {};                  ///< none, constant or trend; empty: the usual.

    friend bool operator==(const CheckRequest&, const CheckRequest&) = default;
};

/// Values of some variables, by name: a number, or the value or label of a level.
using ScenarioValues = std::map<std::string, Key>;

/// The outcome at given values.
struct PredictRequest {
    ScenarioValues at;
    std::string label = {};  ///< For people; may be empty.

    friend bool operator==(const PredictRequest&, const PredictRequest&) = default;
};

/// An effect of a variable on the outcome as the question has it, through every term it enters.
struct EffectRequest {
    enum class As : std::uint8_t { Average, AtMeans, At };

    std::string of;
    As as = As::Average;
    ScenarioValues at = {};
    bool elasticity = false;  ///< Percent for percent in place of unit for unit.
    std::string over = {};    ///< Averaged in each group of this variable; empty: over all rows.

    friend bool operator==(const EffectRequest&, const EffectRequest&) = default;
};

/// How strong a cause left out would have to be: of one effect, by multiples of terms that are in.
struct LeftOutRequest {
    std::string of;
    std::vector<Term> benchmarks;
    std::vector<double> multiples = {1.0, 2.0, 3.0};
    double r2MaxFactor = 1.3;

    friend bool operator==(const LeftOutRequest&, const LeftOutRequest&) = default;
};

/// The method that is meant where none is named.
inline constexpr const char* kLeastSquares = "least-squares";

/// One stated analysis. What this version cannot compute is kept in `raw` and named in `unbuilt`.
struct Question {
    RAPPORTO_COMPILED_ONCE(Question);

    std::string id;
    std::string kind = "explain";
    std::string title;
    bool lead = false;
    std::string variantOf;  ///< Id of the question it is another answer to, or empty.
    std::string outcome;
    std::vector<Term> terms;
    bool intercept = true;
    std::vector<Term> endogenous;           ///< Terms that the instruments move.
    std::vector<Term> instruments;          ///< Outside of the equation.
    std::vector<std::string> fixedEffects;  ///< Groupings swept out.
    std::vector<std::string> ownSlopes;     ///< Variables with a slope for each unit, swept out.
    std::string offset;                     ///< Added to the index as it is; may be empty.
    std::string exposure;                   ///< Its logarithm is; may be empty.
    std::string method = kLeastSquares;
    EstimatorSettings settings;
    ErrorSpec errors;
    WeightKind weightKind = WeightKind::None;
    std::string weight;
    std::string where;                 ///< This question's own rule, on top of the study's.
    std::vector<std::size_t> without;  ///< Rows of the source (from 1) left out here only.
    /// Rows that lack an answer: left out (rows), filled in several times over (imputed), or stood
    /// for by the complete ones (weighted).
    std::string missing = "rows";
    std::vector<Term> completeBy;  ///< Of weighted: what foretells that a row is complete.
    bool allChecks = true;
    std::vector<CheckRequest> checks;  ///< When not all; empty: none.

    std::vector<EffectRequest> effects;
    std::vector<PredictRequest> predict;
    std::vector<std::string> hypotheses;  ///< Statements about the effects, as typed.
    std::optional<LeftOutRequest> leftOut;
    std::optional<LotRequest> byLot;
    std::optional<WorstCaseRequest> worstCases;
    std::vector<PlannedRequest> planned;
    std::optional<ForecastRequest> forecast;
    std::vector<Decision> decisions;   ///< On checks that do not come out fine.
    std::optional<TermChoice> chosen;  ///< Absent: the terms were not chosen by the data.

    // Of kind correlate.
    std::vector<std::string> variables;  ///< Expressions.
    std::vector<std::string> holding;
    std::string coefficient = "pearson";  ///< Or spearman, kendall.
    std::string sides = "two";            ///< Or greater, less.
    bool listwise = false;

    TraceSpec trace;  ///< Of kind trace.

    std::optional<Refusal> unbuilt;  ///< Why this version refuses to answer, or nothing.
    std::vector<std::string> unknownKeys;
    std::shared_ptr<const nlohmann::ordered_json> raw;  ///< As read, for keys it does not know.

    [[nodiscard]] bool byLeastSquares() const { return method == kLeastSquares; }

    /// Nothing is asked yet.
    [[nodiscard]] bool isEmpty() const {
        return outcome.empty() && variables.empty() && trace.isEmpty();
    }

    /// The terms were chosen by these data, and are not all of those chosen among.
    [[nodiscard]] bool choseTerms() const;

    /// Every term it names: those the instruments move, its terms, the instruments; those of the
    /// equations of a trace.
    [[nodiscard]] std::vector<const Term*> allTerms() const;

    /// Equal in all that is computed and written, whatever was read.
    [[nodiscard]] bool sameAs(const Question& other) const;
};

/// A named list of terms; a set changes everywhere it is used.
struct TermSet {
    std::string name;
    std::vector<std::string> members;

    friend bool operator==(const TermSet&, const TermSet&) = default;
};

}  // namespace rapporto
