#pragma once

#include "core/study/answer.h"

namespace rapporto {

/// Readings are plain text; **…** marks what is bold. Units and cautions are part of them.

/// What one coefficient says, in one to three paragraphs.
[[nodiscard]] std::vector<std::string> effectReading(const Answer& answer, std::size_t coefficient);

/// The whole answer in a few sentences, by its kind; where writing them fails, what went wrong.
[[nodiscard]] std::string answerReading(const Answer& answer);

/// Of an explained outcome: fit, strongest statements, doubts.
[[nodiscard]] std::string explainReading(const Answer& answer);

/// How many rows were used and where the others went.
[[nodiscard]] std::string rowsReading(const RowCounts& rows);

/// The row of an effect where answers stand side by side.
struct ComparedRow {
    std::string term;
    std::string equation;  ///< In words; empty where it is the fit’s main or only one.

    /// “hives · quantile 0.75”.
    [[nodiscard]] std::string text() const {
        return equation.empty() ? term : term + " · " + equation;
    }

    friend bool operator==(const ComparedRow&, const ComparedRow&) = default;
};

/// An effect and its row.
struct ComparedEffect {
    ComparedRow row;
    const Coefficient* effect = nullptr;  ///< Of the fit, which must outlive it.
};

/// The effects of a fit in its order: no constants, nothing that all rows of the data share (cuts,
/// spreads, a correlation).
[[nodiscard]] std::vector<ComparedEffect> comparedEffects(const Fit& fit);

/// Those of an answer: of a trace its effects, a row for each way; of one without any, none.
[[nodiscard]] std::vector<ComparedEffect> comparedEffects(const Answer& answer);

/// What the effects of an answer are counted in and of which outcome: those that agree share an
/// axis.
[[nodiscard]] std::string effectAxis(const Answer& answer);

/// The effect in a row, or null.
[[nodiscard]] const Coefficient* effectIn(const std::vector<ComparedEffect>& effects,
                                          const ComparedRow& row);

/// The rows of all fits, those of a term together.
[[nodiscard]] std::vector<ComparedRow> comparedRows(
    const std::vector<std::vector<ComparedEffect>>& fits);

/// What the effects of a fit’s main equation are counted in: “the outcome”, “ln of the mean”, “log
/// odds”, “the probit index”, “ln of the hazard” (cloglog).
[[nodiscard]] std::string effectsIn(const Fit& fit);

/// Its effects are differences of logarithms (of the outcome, a mean, odds or a hazard): exp of one
/// is a ratio.
[[nodiscard]] bool isOfLogs(const Answer& answer);

/// What differs between two variants, and how an effect moved; paragraphs.
[[nodiscard]] std::vector<std::string> differenceReading(const Answer& from, const Answer& to);

/// “Explain ln(revenue) with member, hives by least squares · errors clustered by village”.
[[nodiscard]] std::string questionSentence(const Question& question);
[[nodiscard]] std::string explainSentence(const Question& question);

/// How it was computed, for the methods paragraph of a report.
[[nodiscard]] std::string methodsReading(const Answer& answer);
[[nodiscard]] std::string explainMethods(const Answer& answer);

/// A variable in a few sentences: values, middle, shape, codes that look like “no answer”.
[[nodiscard]] std::vector<std::string> variableReading(const Frame& frame, const std::string& name);

}  // namespace rapporto
