#pragma once

#include "core/study/answer.h"

namespace rapporto {

/// The outcome along one variable, all others at their means and bases: a curve with the band of
/// its mean over the rows, each row moved to where it would lie with the others there. Of groups
/// and yes–no variables a level at a time with its interval. Turning points and bends are marked.
///
/// @return the exhibit, or the refusal of ScenarioMap::at.
///
/// @param by  a grouping among the terms: a curve for each of its levels (twelve at most); empty:
///            one curve, with the rows.
[[nodiscard]] Result<Exhibit> shapeExhibit(const Answer& answer, const std::string& variable,
                                           const std::string& by = {});

/// The pieces of a bent line at other places of its bends, fitted anew without errors: for a bend
/// that is being dragged. Null without a bent line or when the pieces cannot be told apart.
struct BentPreview {
    Exhibit::Line line;  ///< Along the variable, the other terms at their means.
    double rss = 0.0;
};

[[nodiscard]] std::optional<BentPreview> bentPreview(const Answer& answer,
                                                     std::vector<double> places);

/// An effect along the distribution of the outcome with its band, least squares beside it.
/// @param coefficient  of the fit; any point’s.
[[nodiscard]] Exhibit processExhibit(const Answer& answer, std::size_t coefficient);

}  // namespace rapporto
