#pragma once

#include "core/describe/exhibit.h"
#include "core/study/answer.h"

#include <optional>
#include <string>

namespace rapporto {

/// How strong a cause left out is: shares of what the terms leave of the term and of the outcome
/// that it would explain.
struct Strength {
    double withTerm = 0.0;
    double withOutcome = 0.0;
};

/// The estimate beside a cause left out, as lines of equal estimate over its strength on both
/// sides; the line of no effect and that of an interval that reaches zero stand out. Each benchmark
/// is a line through its multiples. Of one linear equation.
/// Source: Cinelli & Hazlett (2020), Journal of the Royal Statistical Society B 82.
///
/// @param chosen  a strength that is being looked at, marked by a cross.
[[nodiscard]] Exhibit leftOutExhibit(const LeftOut& found, double alpha,
                                     const std::optional<Strength>& chosen = {});

/// What an answer has to be drawn so; null where it was not asked, or of a count.
[[nodiscard]] const LeftOut* leftOutToDraw(const Answer& answer);

/// Where both axes of that picture end: past the benchmarks and the robustness value.
[[nodiscard]] Strength leftOutReach(const LeftOut& found);

/// How much stronger than the terms what is left out would have to be to leave no effect, over the
/// share of the outcome that it and they explain together: from their own share to all of it. A
/// point stands where it was asked. Nothing is drawn where there is no such number.
/// Source: Oster (2019), Journal of Business & Economic Statistics 37; one over that number is a
/// straight line in the share.
[[nodiscard]] Exhibit stabilityExhibit(const Answer& answer);

/// “A cause left out that explains 10 % of what is left of member and 5 % of what is left of the
/// outcome would leave **.120** (.060 to .180).”
[[nodiscard]] std::string strengthReading(const LeftOut& found, const Strength& strength,
                                          double alpha);

}  // namespace rapporto
