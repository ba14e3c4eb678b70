#pragma once

#include "core/left/left_rows.h"
#include "core/model/design.h"

namespace rapporto {

/// Columns of the rows of one question.
struct LeftColumns {
    std::vector<std::string> terms;        ///< Of X less the constant.
    std::vector<std::string> instruments;  ///< Of Z.
    std::string outcome;
    std::string weight = "1";
    std::vector<std::string> clusters;
    std::string held;              ///< Of the grouping held fixed; empty: none.
    std::vector<LeftPart> beside;  ///< What checks cut the rows by; a row may lack it.
};

/// A question as columns of a statement.
struct LeftSpelled {
    LeftColumns columns;
    std::string source;         ///< The rows used, “(select …) used”.
    std::optional<Frame> seen;  ///< Some rows, with every level of every grouping among the terms.
    Design design;              ///< Of these rows: which columns the terms become.
};

/// Of one index, whose likelihood is asked for step by step.
[[nodiscard]] bool isByLikelihood(const Question& question);

/// What the codebook says of variables, less what was done already when their cells were read.
[[nodiscard]] std::vector<VariableEntry> entriesAsRead(std::vector<VariableEntry> entries);

/// Adds what the question reads to `rows`, counts, looks at some rows, and says which columns its
/// terms become.
///
/// @param counts  where the rows went.
/// @return it, or what is refused: no outcome or row (NoTerms, TooFewRows), weights that are none
///         and outcomes that do not suit (BadSetting), too many levels or columns (BadSetting,
///         TooLarge), what the engine refuses, Stopped.
[[nodiscard]] Result<LeftSpelled> spellOut(LeftRows& rows, const Study& study, const Frame& frame,
                                           const Question& question, RowCounts& counts);

}  // namespace rapporto
