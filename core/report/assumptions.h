#pragma once

#include "core/study/answer.h"

namespace rapporto {

/// One assumption of one question: what the checks say of it and what was done.
struct AssumptionRow {
    enum class State : std::uint8_t {
        Fine,      ///< Nothing speaks against it.
        Noted,     ///< It does not hold, and what is asked hardly depends on it.
        Unasked,   ///< No check of it applies.
        Open,      ///< A check speaks against it and nobody has said anything.
        Decided,   ///< A person gave a reason.
        Answered,  ///< The question’s errors allow for it, or a variant does not have the doubt.
    };

    std::string question;  ///< Id.
    std::string title;     ///< Of the question, for people.
    std::string group;     ///< “Is the spread even?”.
    Verdict worst = Verdict::Fine;
    bool awaited = false;  ///< Some of its checks are still being worked out.
    std::string evidence;  ///< “Breusch–Pagan p = .007; Harvey p < .001”.
    State state = State::Fine;
    std::string done;                 ///< In words; empty while open.
    std::vector<std::string> checks;  ///< Ids that give the worst verdict.
};

/// Every assumption of every answered question of kind explain, in the order of the study. A doubt
/// is decided when each of the checks behind it has a decision, and answered when a variant of the
/// same question comes out fine.
[[nodiscard]] std::vector<AssumptionRow> assumptionLedger(
    const Study& study, const std::vector<const Answer*>& answers);

/// A person has given a reason.
[[nodiscard]] bool isDecided(const Question& question, const std::string& check);

/// The groups of an answer’s checks in which a doubt is open: no decision covers it.
[[nodiscard]] std::vector<GroupVerdict> openDoubts(const Answer& answer);

/// How many doubts of these questions are open.
[[nodiscard]] std::size_t openDoubts(const std::vector<AssumptionRow>& rows);

/// Puts a decision on each of the checks, in place of any before; an empty reason takes them away.
[[nodiscard]] Question withDecision(Question question, const std::vector<std::string>& checks,
                                    const std::string& what, const std::string& reason);

}  // namespace rapporto
