#pragma once

#include "core/model/design.h"
#include "core/model/fit.h"
#include "core/study/study.h"
#include "core/study/sweep_choices.h"

namespace rapporto {

/// A way to choose the rows of a specification.
struct SweepSample {
    std::string name;                  ///< “all rows”, “without rows that stand out”.
    std::string where = {};            ///< On top of the question’s own rule.
    std::vector<std::size_t> without;  ///< Rows of the source (from 1) left out.
};

/// Every combination of chosen controls, errors and samples of one question, and what one effect is
/// in each of them.
struct SweepSpec {
    Question question;              ///< With every term that may come in.
    std::string of;                 ///< The coefficient that is followed.
    std::vector<std::size_t> vary;  ///< Terms of the question that come and go; at most 16.
    std::vector<ErrorSpec> errors;  ///< At least one.
    std::vector<SweepSample> samples = {{"all rows", "", {}}};
};

/// It is asked by least squares, of which a sweep is made.
[[nodiscard]] bool canSweep(const Question& question);

/// The terms of a question that may come and go while one effect is followed: not its own, not
/// those that are muted. Places among the question's terms.
[[nodiscard]] std::vector<std::size_t> freeTerms(const Question& question, const Design& design,
                                                 const Fit& fit, const std::string& of);

/// The choices as a sweep of an answered question. Names that are no term of it are left out;
/// the question's own errors are there where they are clustered.
[[nodiscard]] SweepSpec sweepOf(const Question& question, const Design& design, const Fit& fit,
                                const SweepChoices& choices);

/// One specification and its effect.
struct SweepResult {
    std::uint32_t included = 0;  ///< Bit i: the i-th of `vary` is in.
    std::size_t errors = 0;
    std::size_t sample = 0;
    double estimate = 0.0;
    double se = 0.0;
    double low = 0.0;
    double high = 0.0;
    double p = 1.0;
    double rSquared = 0.0;
    std::size_t rows = 0;
};

struct Sweep {
    SweepSpec spec;
    std::vector<SweepResult> results;  ///< By estimate, ascending.
    std::size_t failed = 0;            ///< Specifications without an answer, or without the effect.
    double median = 0.0;
    double shareClear = 0.0;  ///< p under alpha.
    double sharePositive = 0.0;

    /// What one choice does: the mean estimate with it less the mean without it (of errors and
    /// samples: less that of all others).
    struct Choice {
        std::string name;
        enum class Kind : std::uint8_t { Term, Errors, Sample } kind = Kind::Term;
        std::size_t index = 0;
        double moves = 0.0;
        double widens = 1.0;  ///< Ratio of the mean standard errors.
    };

    std::vector<Choice> choices;

    /// Whether a result made the choice.
    [[nodiscard]] bool made(const SweepResult& result, const Choice& choice) const;

    /// The question of one result, as a variant of the original.
    [[nodiscard]] Question variant(const SweepResult& result) const;
};

/// All specifications stand on the rows that are complete in every term of the question (and in
/// the clusters of its errors), whichever of the terms are in.
///
/// @return the sweep, or BadSetting (too many specifications: over 20,000; the effect is no
///         coefficient or one of those that come and go), Stopped, and what makeDesign returns.
/// Source: Simonsohn, Simmons & Nelson (2020), Nature Human Behaviour 4, for the sorted curve.
[[nodiscard]] Result<Sweep> sweep(const Study& study, const Frame& frame, const SweepSpec& spec,
                                  const Job& job);

/// The question with its terms coming in one after the other: the first alone, the first two, … ;
/// each a variant of it.
[[nodiscard]] std::vector<Question> progressiveSeries(const Question& question);

/// A variant with the first instruments that suffice, then one more in each; the question itself
/// has all of them.
[[nodiscard]] std::vector<Question> progressiveInstruments(const Question& question);

/// The question by least squares, two stages, limited information likelihood and moments, without
/// the one it is asked by.
[[nodiscard]] std::vector<Question> causesSideBySide(const Question& question);

}  // namespace rapporto
