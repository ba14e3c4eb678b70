#pragma once

#include "core/base/job.h"
#include "core/data/frame.h"
#include "core/describe/exhibit.h"

#include <cstdint>
#include <string>
#include <vector>

namespace rapporto {

/// What about a table may be a slip rather than a fact.
enum class OddKind : std::uint8_t {
    NoAnswerCode,     ///< A code that looks like “no answer” and counts as a number.
    AlikeLevels,      ///< Levels that differ by case, spaces, accents or a letter or two.
    RepeatedRows,     ///< Rows that repeat wholly.
    RepeatedMoments,  ///< A unit has one moment more than once.
    LoneValue,        ///< A value alone by orders of magnitude.
    SlippedDigit,     ///< A value ten, a hundred or a thousand times what its neighbours lead to.
    WrongSign,        ///< A value below zero where all others are well above.
    LoneDate,         ///< A date far outside of the others.
    Heap,             ///< One number far too often.
    CopiedColumn,     ///< A column that copies, scales or nearly copies another.
    Constant,         ///< A column with one value, or none.
    FractionalCount,  ///< A count that holds fractions.
    ChangedTrait,     ///< A trait of a unit that changes once and comes back.
    WeightNotAbove,   ///< A weight that is zero or below.
};

/// "no-answer-code", "alike-levels", …
[[nodiscard]] std::string oddName(OddKind kind);

/// One thing that looks odd.
struct Oddity {
    OddKind kind = OddKind::LoneValue;
    std::vector<std::string> variables;
    /// Codes and heaped numbers; of levels the one that stays, then the others.
    std::vector<Key> values;
    std::vector<std::size_t> rows;  ///< Of the source, from 0: those that are odd, at most 10,000.
    std::size_t count = 0;          ///< Of them all.
    std::string title;              ///< “−99 in farm income”.
    std::string text;               ///< What is odd about it and what it may be, in sentences.

    /// The same thing in the same column has the same name, whatever the rows.
    [[nodiscard]] std::string id() const;
};

/// What is looked at.
struct OddScope {
    std::vector<std::string> variables = {};  ///< Empty: every variable of the source.
    std::string weight = {};                  ///< A variable that weighs rows; may be empty.
    std::vector<OddKind> kinds = {};          ///< Empty: all.
};

/// Looks a table over, in the rows of its sample; derived variables are left out, as what is odd
/// about them is odd about their parts. What is unlike the rest without being far from it is not
/// told: on tables without slips something is found in at most one of ten (docs/data-doubts.md).
///
/// The work is sorted by variables and runs on the pool: about a pass or two over each column, and
/// one product of all numeric columns for copies.
[[nodiscard]] std::vector<Oddity> oddities(const Frame& frame, const OddScope& scope,
                                           const Job& job);

/// The picture of one: the column with the odd rows marked.
[[nodiscard]] Exhibit oddExhibit(const Frame& frame, const Oddity& oddity);

}  // namespace rapporto
