#pragma once

#include "core/describe/summary.h"
#include "core/left/left_rows.h"

namespace rapporto {

/// Levels of a grouping that occur among rows of an engine, in the order of the variable.
struct LeftLevels {
    std::vector<FoundLevel> found;     ///< With the rows of each.
    std::vector<std::string> written;  ///< As a statement writes them.
};

/// The levels of a part that is a grouping, over all rows that count.
///
/// @return the levels, TooLarge for over `most` of them, what the engine refuses, Stopped.
[[nodiscard]] Result<LeftLevels> leftLevels(LeftRows& rows, const LeftPart& part, std::size_t most);

/// Rows of an engine cut into groups, of which numbers are asked for.
struct LeftCut {
    std::string from;         ///< “(select …) name”.
    std::string group = "0";  ///< An expression: the place of a row's group from 0, or null.
    std::size_t groups = 1;

    /// By the levels of a part.
    [[nodiscard]] static LeftCut by(const LeftPart& part, const LeftLevels& levels,
                                    std::string from);
};

/// What is known of a column within each group. Quartiles are those of `summarise`: the very order
/// statistics are looked for by counting, so that servers count their own rows and none is sent.
///
/// @param x         a column of numbers of the cut's rows.
/// @param quartiles  asked for, too: some looks more at the rows.
/// @return a summary for each group, what the engine refuses, Stopped.
[[nodiscard]] Result<std::vector<Summary>> leftSummaries(LeftRows& rows, const LeftCut& cut,
                                                         const std::string& x, bool quartiles);

/// Quantiles, linear between order statistics, of groups whose summaries are known.
///
/// @return for each group one value a probability; of a group without a value none.
[[nodiscard]] Result<std::vector<std::vector<double>>> leftQuantiles(
    LeftRows& rows, const LeftCut& cut, const std::string& x, const std::vector<Summary>& summaries,
    const std::vector<double>& probabilities);

/// The histogram that `histogram` makes of a column, with the counts of its bins.
///
/// @param summary  of the column over these rows, with its quartiles.
[[nodiscard]] Result<Histogram> leftHistogram(LeftRows& rows, const std::string& from,
                                              const std::string& x, const Summary& summary);

}  // namespace rapporto
