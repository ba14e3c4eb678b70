#pragma once

#include "core/describe/exhibit.h"
#include "core/study/study.h"

namespace rapporto {

/// A question with one variable in another shape, fitted.
struct ShapeTrial {
    std::string label;     ///< “ln hives”, “hives with square”, “spline of 4 knots”.
    std::string none;      ///< Why it could not be tried; empty: it was.
    bool present = false;  ///< The shape that the question has.
    Question question;     ///< Ready to be put beside the original.
    double coefficients = 0.0;  ///< With the constant.
    std::optional<double> aic;  ///< Of the outcome in its own units; absent without likelihood.
    double error = 0.0;         ///< Root mean square of what is left, in the outcome’s own units.
    Exhibit::Line curve;        ///< Along `along`, the others at means and bases.
};

struct ShapeTrials {
    std::string of;                  ///< The variable whose shape is tried.
    bool outcome = false;            ///< It is the outcome’s.
    std::string along;               ///< The variable of the curves.
    std::string own;                 ///< The outcome before any logarithm or power.
    bool logged = false;             ///< The picture’s upright axis is in powers of ten.
    std::vector<ShapeTrial> trials;  ///< The ladder, then square, cube and splines.
    Exhibit points;                  ///< The rows, in own units, without curves.

    /// The trial with the least AIC, or error where there is no likelihood; null: none was tried.
    [[nodiscard]] const ShapeTrial* best() const;

    /// Points with all curves: `chosen`, the present and the best ones drawn out, the others faint.
    [[nodiscard]] Exhibit exhibit(int chosen) const;
};

/// The fit of a question under each rung of the ladder of powers for one of its variables, and (for
/// a term) under square, cube and restricted cubic splines; curves over the rows in the outcome’s
/// own units. R² of different outcomes cannot be compared: the measures are AIC with the Jacobian
/// of the outcome’s transformation and the error in the outcome’s own units, predictions carried
/// back by smearing (over 200 quantiles of what is left, in 20,000 rows at most).
/// Source: Box & Cox (1964), JRSS B 26 (the Jacobian); Duan (1983), JASA 78; Durrleman & Simon
/// (1989), Statistics in Medicine 8 (restricted splines).
///
/// @param of     a variable that stands in a term by itself or as a power; or the outcome’s.
/// @param along  the variable of the curves where the outcome’s shape is tried.
/// @return the trials, or UnknownName, WrongType, Stopped, and what makeDesign returns.
[[nodiscard]] Result<ShapeTrials> shapeTrials(const Frame& frame, const Question& question,
                                              const std::vector<TermSet>& sets,
                                              const std::string& of, const std::string& along,
                                              const Job& job);

/// The variable behind the outcome where it is one under a power or a logarithm; else empty.
[[nodiscard]] std::string outcomeVariable(const Frame& frame, const Question& question);

}  // namespace rapporto
