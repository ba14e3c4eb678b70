#pragma once

#include "core/base/compiled_once.h"

#include <tl/expected.hpp>

#include <string>
#include <vector>

namespace rapporto {

/// What kind of expected failure happened. Append only; never renumber.
enum class ErrorCode {
    Syntax,         ///< A text does not follow its grammar.
    UnknownName,    ///< A name stands for nothing here.
    WrongType,      ///< A value has another type than its place needs.
    ShapeMismatch,  ///< Two inputs disagree in length.
    NoTerms,        ///< There is nothing to fit.
    TooFewRows,     ///< Fewer rows than the computation needs.
    NoVariation,    ///< A column that must vary holds one value.
    RankDeficient,  ///< Some columns are linear combinations of others.
    NotFinite,      ///< An infinity where a number is required.
    NotBuilt,       ///< A documented part that this version does not compute yet.
    BadSetting,     ///< A setting has a value that it cannot have.
    Circular,       ///< Definitions that need each other.
    File,           ///< A file cannot be read or written.
    Changed,        ///< A source differs from the one the study was made with.
    Stopped,        ///< The person stopped the work.
    NotConverged,   ///< An iteration found no end.
    NotUsed,        ///< Something is asked for that has no use in what is asked.
    NothingToTell,  ///< What is left is rounding: there is nothing that a number could stand on.
    Fault,          ///< A mistake of this program, stopped at the border of one part.
    TooLarge,       ///< It would take more memory or time than there is.
};

/// An expected failure, in words for the person who meets it: what happened, where, and what
/// would help. Each text is one sentence or part of one; `where` and `help` may be empty.
struct Refusal {
    RAPPORTO_COMPILED_ONCE(Refusal);

    Refusal(ErrorCode kind, std::string happened, std::string place = {},
            std::string wouldHelp = {}, std::vector<std::string> concerned = {});

    ErrorCode code = ErrorCode::BadSetting;
    std::string what;
    std::string where;
    std::string help;
    std::vector<std::string> subjects;  ///< Names of the columns, terms or rows concerned.

    /// All three texts as one line.
    [[nodiscard]] std::string text() const;

    friend bool operator==(const Refusal&, const Refusal&) = default;
};

template <class T>
using Result = tl::expected<T, Refusal>;

[[nodiscard]] tl::unexpected<Refusal> refuse(ErrorCode code, std::string what,
                                             std::string where = {}, std::string help = {},
                                             std::vector<std::string> subjects = {});

}  // namespace rapporto
