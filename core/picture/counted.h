#pragma once

#include "core/describe/comparison.h"
#include "core/describe/correlation.h"
#include "core/describe/normality_tests.h"
#include "core/describe/survey_mean.h"
#include "core/picture/desk_rows.h"

namespace rapporto {

// Pictures made from numbers, whoever counted them: from rows here, from sums that an engine was
// asked for there. What a mark stands for by row is added by those who know.

/// A histogram.
struct CountedBins {
    std::string title;
    AxisScale scale = AxisScale::Number;
    Histogram bins;
    std::vector<double> heights;  ///< Of the bars; empty: rows.
    double whole = 0.0;           ///< Height × width of a density of one.
    Summary shape;                ///< Of what is drawn; its n is told.
    std::size_t n = 0;            ///< Rows that are drawn.
    std::size_t notPositive = 0;  ///< That a logarithmic axis has no place for.
    std::string note;             ///< Behind the subtitle.
};

[[nodiscard]] Exhibit histogramExhibit(const CountedBins& counted);

/// Tests of whether what is drawn is normal, with what they say; of the rows themselves, whatever
/// their weight.
/// @param s  of the rows.
void addNormality(DrawnPicture& picture, const std::vector<NormalityTest>& tests, const Summary& s,
                  double alpha);

/// Shares of levels.
struct CountedShares {
    struct Share {
        double p = 0.0;
        std::optional<ShareInterval> interval;
        std::size_t rows = 0;
    };

    std::string name;
    std::string shown;  ///< The variable in words.
    std::string title;
    std::vector<std::string> levels;
    std::vector<Share> shares;  ///< Of each; looked at where they are not too many.
    std::size_t n = 0;
    std::string intervals;  ///< “95 % intervals”.
    std::string of;         ///< “rows”, “the weight”.
};

/// More levels than that are too many side by side.
inline constexpr std::size_t kMostBars = 40;

[[nodiscard]] DrawnPicture sharesPicture(const CountedShares& counted);

/// Shares of levels of rows counted alike, with intervals by Wilson (1927).
[[nodiscard]] std::vector<CountedShares::Share> sharesOfCounts(
    const std::vector<std::size_t>& counts, double alpha);

/// Two groupings.
struct CountedCross {
    const DeskVariable& rows;
    const DeskVariable& columns;
    std::string shown;        ///< “rows within columns”, in words.
    const CrossTable& table;  ///< Of rows counted alike.
    Eigen::MatrixXd masses;   ///< What cells weigh.
    std::string note;
    double alpha = 0.05;
};

/// Its bars go column by column, the rows of each from below.
[[nodiscard]] DrawnPicture crossPicture(const CountedCross& counted);

/// Which parts a picture of groups has.
struct GroupParts {
    bool points = true;
    bool boxes = true;
    bool means = true;
};

/// The title, axes and subtitle of a quantity by groups.
void nameGroups(Exhibit& exhibit, const DeskVariable& y, const DeskVariable& groups,
                const PictureInput& input, const GroupParts& parts, std::size_t n);

/// What the comparison says, with its numbers.
void addComparison(DrawnPicture& picture, const Result<GroupComparison>& compared,
                   const std::string& outcome, double alpha);

/// Mean with its t interval from the group alone, upright at `at`.
[[nodiscard]] Exhibit::Interval meanInterval(const Summary& group, double at, double alpha);

/// A place on an axis that may be logarithmic; NaN: it has none.
[[nodiscard]] double onAxis(bool logarithmic, double value);

/// @param pairwise  each pair over the rows that have both; else all of one summary.
/// @param points    the rows are at hand: a tile opens their scatter.
[[nodiscard]] DrawnPicture mosaicPicture(const CorrelationTable& table, bool pairwise, bool points);

/// What the columns of a table of numbers are.
[[nodiscard]] const std::vector<std::string>& numbersHead();

/// A quantity’s row of numbers.
[[nodiscard]] std::vector<std::string> numbersRow(const std::string& name, const Summary& summary,
                                                  bool date);

/// What stands under such a table.
[[nodiscard]] std::string numbersNote(std::size_t rows);

/// Levels with their rows and shares, those beyond forty in one line.
/// @param masses  what each weighs; its share is of their sum.
void addLevelRows(PictureTable& table, const std::string& before,
                  const std::vector<std::string>& levels, const std::vector<std::size_t>& counts,
                  const std::vector<double>& masses);

/// A variable of a table of numbers, for its reading.
struct CountedVariable {
    std::string name;
    std::size_t missing = 0;
    std::optional<double> skewness;  ///< Of a quantity.
};

/// Where to look first: the most missing, the longest tail.
void addNumbersReading(DrawnPicture& picture, const std::vector<CountedVariable>& variables,
                       std::size_t rows);

/// A quantity within bins of another.
struct CountedMeans {
    struct Bin {
        double x = 0.0;  ///< Mean of the bin.
        Summary y;       ///< n, mean, sd.
    };

    std::vector<Bin> bins;  ///< Those that hold rows.
    double n = 0.0;
    double meanX = 0.0;
    double meanY = 0.0;
    double xx = 0.0;  ///< Sums of products of what is left of the means.
    double xy = 0.0;
    double yy = 0.0;
};

/// Edges between bins of about equal counts: the quantiles at k/20, each once, less those that
/// leave nothing below them.
/// @param quantiles  at 1/20, …, 19/20.
[[nodiscard]] std::vector<double> equalBinEdges(std::vector<double> quantiles, double low);

/// How many bins of about equal counts there are at most.
inline constexpr std::size_t kEqualBins = 20;

[[nodiscard]] DrawnPicture binnedPicture(const PictureInput& input, const CountedMeans& counted);

}  // namespace rapporto
