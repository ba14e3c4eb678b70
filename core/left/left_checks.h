#pragma once

#include "core/checks/check.h"
#include "core/left/left_rows.h"

namespace rapporto {

/// What is left of each row of a question by least squares, where the rows stay with an engine.
struct LeftRests {
    std::string from;                ///< Rows with what is left of each as “e”.
    std::vector<std::string> terms;  ///< Columns of the kept terms about their means.
    std::string fitted;              ///< The fitted value about its mean.
    std::string outcome;             ///< About its mean.
    double rows = 0.0;

    /// What the rows can be cut by, as a column of theirs.
    struct Beside {
        LeftPart part;
        std::string column;
    };

    std::vector<Beside> beside;
};

/// A check of residuals that sums can answer: reset, breusch-pagan, white (with products while they
/// are few), jarque-bera, intraclass, chow by groups. The numbers are those of the check over rows.
///
/// @return nothing for any other check, or with settings that need the rows; a refusal of the
///         engine is told in its place.
[[nodiscard]] std::optional<CheckResult> checkBySums(LeftRows& rows, const LeftRests& rests,
                                                     const CheckInput& in);

}  // namespace rapporto
