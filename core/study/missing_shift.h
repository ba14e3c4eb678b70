#pragma once

#include "core/describe/exhibit.h"
#include "core/study/missing_answer.h"

namespace rapporto {

/// What becomes of an effect where those who did not answer differ from what was filled in for
/// them: every filled number moved by the same amount, everything pooled anew.
/// Source: Rubin (1977), Journal of the American Statistical Association 72, for the idea; van
/// Buuren (2018), Flexible Imputation of Missing Data, for the shift.
struct MissingShift {
    struct Point {
        double shift = 0.0;  ///< In the variable’s own units.
        double estimate = 0.0;
        double low = 0.0;
        double high = 0.0;
    };

    std::string variable;
    std::string label;
    std::string unit;
    std::string effect;         ///< Of which coefficient.
    double spread = 1.0;        ///< Standard deviation of what was seen: shifts go to one of it.
    std::vector<Point> points;  ///< By their shift.
    /// The smallest shift, to either side, at which the interval takes in or leaves zero; absent
    /// within one standard deviation.
    std::optional<double> turns;
};

/// @param term  of the coefficient, the first of that name in the question’s pooled fit.
/// @return the path, or UnknownName (a variable that is not filled in, no such term), WrongType
/// (levels),
///         what the question refuses, Stopped.
[[nodiscard]] Result<MissingShift> missingShift(const Study& study, const Frame& frame,
                                                const Question& question, const ImputedSets& sets,
                                                const std::string& variable,
                                                const std::string& term, const Job& job);

[[nodiscard]] Exhibit shiftPicture(const MissingShift& shift, double alpha);

/// In one or two sentences.
[[nodiscard]] std::string shiftReading(const MissingShift& shift);

}  // namespace rapporto
