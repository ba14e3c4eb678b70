#pragma once

#include "core/data/frame.h"

#include <string>
#include <vector>

namespace rapporto {

/// One line of a recoding: which old values, and what they become.
struct RecodeLine {
    /// “3”, “3 to 5”, “< 20”, “<= 20”, “> 60”, “>= 60”, “a, b”, “missing”, “else”.
    std::string from;
    std::string becomes;  ///< A number, a word, “missing” or “same”.

    friend bool operator==(const RecodeLine&, const RecodeLine&) = default;
};

/// What a recoding does, line by line.
struct Recoding {
    std::string expression;          ///< `case when … end`, the first line that holds decides.
    std::vector<std::size_t> rows;   ///< One a line: rows that it decides.
    std::size_t untouched = 0;       ///< Rows with a value that no line takes: they become missing.
    std::vector<std::string> notes;  ///< Sentences: lines that take no row, values that overlap.
};

/// Turns a table of old and new values into an expression and counts what each line takes.
/// Lines without any text are passed over.
///
/// @return the recoding, or Syntax (`where` names the line) for a line that cannot be read,
///         WrongType for words and numbers mixed on the right or a range of texts, UnknownName.
[[nodiscard]] Result<Recoding> recodingOf(const Frame& frame, const std::string& variable,
                                          const std::vector<RecodeLine>& lines);

/// A first table for a variable: its values one by one when they are few, else its quarters.
[[nodiscard]] std::vector<RecodeLine> recodeProposal(const Frame& frame,
                                                     const std::string& variable);

}  // namespace rapporto
