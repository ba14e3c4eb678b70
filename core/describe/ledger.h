#pragma once

#include "core/data/frame.h"

#include <string>
#include <vector>

namespace rapporto {

/// One condition of a sample rule: its parts joined by “and” work one after the other.
struct RuleStep {
    std::string condition;
    std::size_t removed = 0;  ///< Rows that passed all before and fail or are unknown here.
    std::size_t unknown = 0;  ///< Of those, rows where something it reads is missing.
    std::size_t left = 0;
};

/// What each part of a rule removes, in the order written.
///
/// @return the steps, or the refusal of the part that cannot be evaluated.
[[nodiscard]] Result<std::vector<RuleStep>> ruleSteps(const Frame& frame, const std::string& rule);

/// The parts of a rule that “and” joins at its outermost level, in canonical spelling.
[[nodiscard]] std::vector<std::string> ruleParts(const std::string& rule);

/// The rule with a further condition, in parentheses where “or” needs them.
[[nodiscard]] std::string joinedRule(const std::string& rule, const std::string& condition);

/// The rule without its part number `part` of `ruleParts`.
[[nodiscard]] std::string ruleWithout(const std::string& rule, std::size_t part);

/// The rows (from 0) for which a condition holds, in the sample or not.
/// @return them, or what the expression language refuses; WrongType for a text.
[[nodiscard]] Result<std::vector<std::size_t>> rowsWhere(const Frame& frame,
                                                         const std::string& condition);

}  // namespace rapporto
