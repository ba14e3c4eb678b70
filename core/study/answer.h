#pragma once

#include "core/checks/check.h"
#include "core/study/study.h"

#include <nlohmann/json_fwd.hpp>

#include <memory>

namespace rapporto {

/// A question answered, or refused with why. Immutable.
struct Answer {
    Question question;
    std::optional<Refusal> refusal;
    double alpha = 0.05;
    RowCounts rows;
    std::shared_ptr<const Design> design;  ///< Null when refused.
    std::shared_ptr<const Fit> fit;        ///< Null when refused.
    std::vector<CheckResult> checks;
    std::string reading;  ///< The whole answer in a few sentences.
};

/// Design, fit, checks and reading of one question.
[[nodiscard]] Answer answerQuestion(const Study& study, const Frame& frame,
                                    const Question& question, const Job& job);

/// The results file for these answers, as docs/study-format.md has it.
[[nodiscard]] nlohmann::ordered_json resultsJson(const Study& study,
                                                 const std::vector<Answer>& answers);

/// Reads the source of a study that lies in `directory`.
///
/// @return the import, or File, Syntax, Stopped from reading; Changed when the recorded checksum
///         differs and `acceptChanged` is false.
[[nodiscard]] Result<Import> loadSource(const Study& study, const std::string& directory,
                                        bool acceptChanged, const Job& job);

}  // namespace rapporto
