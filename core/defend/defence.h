#pragma once

#include "core/defend/by_lot.h"
#include "core/defend/planned.h"
#include "core/defend/worst_cases.h"
#include "core/model/left_out.h"

namespace rapporto {

/// What was asked of one effect that somebody has to defend, beside what may be left out. Each part
/// answers or is refused by itself; absent where it was not asked, or is still to come.
struct Defence {
    std::optional<Result<LeftOut>> leftOut;  ///< As the answer has it, for its check.
    std::optional<Result<ByLot>> byLot;
    std::optional<Result<WorstCases>> worstCases;
    std::vector<Result<Planned>> planned;  ///< As Question::planned.
};

/// Whether anything of it is asked.
[[nodiscard]] inline bool asksDefence(const Question& question) {
    return question.leftOut || question.byLot || question.worstCases || !question.planned.empty();
}

/// Asks no more than the fit: neither what may be left out nor what else defends an effect, nor
/// what is to come.
void dropDefence(Question& question);

}  // namespace rapporto
