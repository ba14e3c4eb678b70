#pragma once

#include "core/base/compiled_once.h"
#include "core/base/job.h"
#include "core/data/frame.h"
#include "core/model/question.h"

#include <Eigen/Dense>

#include <limits>
#include <memory>
#include <unordered_map>
#include <utility>
#include <vector>

namespace rapporto {

/// How many rows of the source were lost on the way, and why.
struct RowCounts {
    std::size_t source = 0;
    std::size_t inSample = 0;  ///< Source less set aside and removed by rules.
    std::size_t used = 0;
    std::size_t missing = 0;
    std::size_t setAside = 0;
    std::size_t byRule = 0;
    std::size_t dropped = 0;

    /// What one part of the question lacks.
    struct Lack {
        std::string name;
        std::size_t rows = 0;   ///< In the sample without a value of it.
        std::size_t alone = 0;  ///< Of those, rows that lack nothing else.
    };

    std::vector<Lack> missingBy;  ///< Parts that lack something, worst first.
};

/// One column of X.
struct DesignColumn {
    std::string name;   ///< As the results file has it: “zone=Ridge”, “(constant)”.
    std::string label;  ///< For people.
    int term = -1;      ///< Index into Design::terms; −1 for the constant.
    bool indicator = false;
};

/// One factor of a term: an expression, and the levels it has indicators for.
struct DesignFactor {
    std::string text;  ///< As the question has it.
    bool groups = false;
    std::vector<FoundLevel> levels;  ///< All that occur, base included.
    std::size_t base = 0;            ///< Index into `levels`.
};

/// What a term of the question became.
struct DesignTerm {
    RAPPORTO_COMPILED_ONCE(DesignTerm);

    std::string name;  ///< Canonical text.
    std::string label;
    std::string unit;
    std::vector<Eigen::Index> columns;
    bool groups = false;
    std::string base;  ///< Label of the base level of groups.
    bool yesNo = false;
    bool isProduct = false;
    std::string logOf;            ///< x when the term is ln(x).
    std::set<std::string> names;  ///< Variables it uses.
    std::vector<DesignFactor> factors;
    bool endogenous = false;  ///< Moved by the instruments.
    bool added = false;       ///< By a first step (what it leaves): no term of the question.
};

/// Ids of all rows, shared by the copies of a design (one before and one after sweeping, say): they
/// are replaced as a whole.
class SharedIds {
  public:
    SharedIds() = default;

    // NOLINTNEXTLINE(google-explicit-constructor): ids are made as a vector.
    SharedIds(std::vector<std::int32_t> ids)
        : ids_(std::make_shared<const std::vector<std::int32_t>>(std::move(ids))) {}

    [[nodiscard]] const std::vector<std::int32_t>& all() const { return *ids_; }

    [[nodiscard]] std::size_t size() const { return ids_->size(); }

    [[nodiscard]] std::int32_t operator[](std::size_t row) const { return (*ids_)[row]; }

  private:
    std::shared_ptr<const std::vector<std::int32_t>> ids_ =
        std::make_shared<const std::vector<std::int32_t>>();
};

/// A grouping whose effects are swept out of the outcome, the terms and the instruments.
struct SweptGrouping {
    std::string name;
    SharedIds of;  ///< Of each row, from 0.
    std::int32_t count = 0;
    std::vector<std::string> slopeNames = {};
    Eigen::MatrixXd slopes =
        {};  ///< Of each row: variables with a slope for each group; no column: levels alone.
};

/// A grouping whose groups have effects drawn from a normal law; groups lie within those of the
/// next one.
struct DesignLevel {
    std::string name;
    std::vector<std::int32_t> of;  ///< Of each row, from 0.
    std::int32_t count = 0;
    std::vector<std::string> labels;      ///< Of each group.
    std::vector<std::string> slopeNames;  ///< What has a slope in each group …
    Eigen::MatrixXd slopes;               ///< … n × as many.
    bool full = true;                     ///< Constant and slopes may go together.
};

/// Values of one column of X at every moment of every unit, of rows that the question does not use
/// too: what earlier moments say.
struct ColumnHistory {
    Eigen::Index column = 0;
    bool lagged = false;  ///< The outcome of the moment before: known when the row’s error comes.
    std::unordered_map<std::int64_t, double> at;  ///< By historyKey().
};

[[nodiscard]] inline std::int64_t historyKey(std::int32_t unit, std::int64_t moment) {
    return moment * (std::int64_t{1} << 31) + unit;
}

struct SurveyRows;

/// A question made into numbers: outcome y, matrix X, weights, clusters. Rows are the complete
/// ones.
struct Design {
    RAPPORTO_COMPILED_ONCE(Design);

    Eigen::MatrixXd X;  ///< n × k, the constant first.
    Eigen::VectorXd y;
    std::vector<DesignColumn> columns;
    std::vector<DesignTerm> terms;
    bool hasConstant = false;
    WeightKind weightKind = WeightKind::None;
    Eigen::VectorXd weights;  ///< Sampling weights are scaled to mean 1; empty: none.
    std::string outcome;      ///< Canonical text.
    std::string outcomeLabel;
    std::string outcomeUnit;
    std::string outcomeLogOf;  ///< x when the outcome is ln(x).
    bool outcomeYesNo = false;
    double standFor = 0.0;  ///< Rows that those here stand for, where they are others; else 0.
    std::vector<std::size_t> rows;                    ///< Source rows, from 0.
    std::vector<std::vector<std::int32_t>> clusters;  ///< One a clustering variable, ids from 0.
    std::vector<std::int32_t> clusterCounts;

    // Instruments outside of the equation; empty without any.
    Eigen::MatrixXd Z;                            ///< n × m.
    std::vector<DesignColumn> instrumentColumns;  ///< m; `term` indexes `instrumentTerms`.
    std::vector<DesignTerm> instrumentTerms;

    // Effects of groupings. Once swept, y, X and Z are what the effects leave plus their means.
    std::vector<SweptGrouping> effects;
    double effectsRank = 0.0;  ///< Parameters of the effects beside the constant.
    bool swept = false;
    Eigen::VectorXd effectsLeverage;       ///< Of the effects alone; empty: not worked out.
    std::shared_ptr<const Design> before;  ///< As it was before sweeping or differencing.

    std::vector<DesignLevel> levels;  ///< Of random effects, innermost first.

    // Of a panel: the unit of each row and its moment in whole steps; else empty.
    std::vector<std::int32_t> units;
    std::int32_t unitCount = 0;
    std::vector<std::int64_t> unitMoments;
    std::vector<ColumnHistory> histories;  ///< Of dynamic panels: columns that earlier ones serve.
    std::vector<std::int64_t> changed;     ///< Of event studies: moment of each unit; see kNever.

    // Of outcomes that are no measurements.
    Eigen::VectorXd offset;  ///< n, or empty.
    Eigen::MatrixXd zeroX;   ///< Columns of the part that tells zeros apart; empty: X.
    std::vector<DesignColumn> zeroColumns;
    std::vector<DesignTerm> zeroTerms;
    std::vector<std::string> levelNames;  ///< Of an outcome of ordered or plain groups.
    Eigen::VectorXd lower;  ///< Of an outcome known to lie between two ends, −∞ for none …
    Eigen::VectorXd upper;  ///< … and ∞; y is the middle, or the one end there is. Else empty.
    std::vector<char> unseen;  ///< Of a selection: rows whose outcome (0 in y) is not at hand.

    std::shared_ptr<const SurveyRows> survey;  ///< Of errors by the survey design; else null.

    Layout::Kind layout = Layout::Kind::CrossSection;
    std::vector<double> time;           ///< Of each row in a series; empty otherwise.
    std::vector<std::int64_t> moments;  ///< Of each row in a series: whole steps; else empty.
    int seasonLags = 1;                 ///< Lags in a year of the series.
    RowCounts counts;
    std::vector<std::string> warnings;  ///< Product without its parts, undefined rows, …
};

/// Rows, or how many its frequency weights say that there are.
[[nodiscard]] double rowsStoodFor(const Design& design);

/// Of Design::changed: a unit that is never switched on, one that is from its first row on.
inline constexpr std::int64_t kNever = std::numeric_limits<std::int64_t>::max();
inline constexpr std::int64_t kAlways = std::numeric_limits<std::int64_t>::min();

/// Builds the design of an explain question.
///
/// @return the design, or a refusal: UnknownName, WrongType, Syntax from an expression; NoTerms
///         (neither a term nor a constant); TooFewRows (no complete row); NoVariation (outcome, or
///         a grouping with one level, an instrument that does not vary); BadSetting (weights that
///         are negative, a term that is named twice over: as endogenous, as an instrument, among
///         the others).
///
/// @param job     looked at while what is held fixed is swept out (Stopped).
/// @param counts  filled as far as rows were counted, of a refused design, too; may be null.
[[nodiscard]] Result<Design> makeDesign(const Frame& frame, const Question& question,
                                        const std::vector<TermSet>& sets, const Job& job,
                                        RowCounts* counts = nullptr);

/// x when `expression` is ln(x), else empty.
[[nodiscard]] std::string logArgument(const std::string& expression);

}  // namespace rapporto
