#pragma once

#include "core/report/report.h"
#include "core/report/report_items.h"

#include <span>

namespace rapporto {

/// A figure as the page takes it.
struct MadeFigure {
    Drawing drawing;
    std::string caption;
    std::string note;  ///< What is to be read off it; may be empty.
};

/// A figure that a question can be asked for by name; its line stands in named_figures.cpp.
struct NamedFigure {
    const char* shows;  ///< As the study file has it.
    const char* words;  ///< “along quantiles”.

    /// The answer’s method and terms have it.
    bool (*has)(const Answer& answer);

    /// @param in  whose item says of which variable, by which groups, over which choices.
    Result<MadeFigure> (*make)(const ItemInput& in, const Answer& answer);

    bool fitsAnew = false;  ///< Models are fitted for it: seconds, not milliseconds.
};

[[nodiscard]] std::span<const NamedFigure> allNamedFigures();

/// The figure of that name, or the picture of the check of that id.
///
/// @return the figure; BadSetting where the answer has none of that name, saying which it has; else
///         what making it refuses.
[[nodiscard]] Result<MadeFigure> namedFigure(const ItemInput& in, const Answer& answer);

/// Making the items takes fits of their own: not in a window’s turn.
[[nodiscard]] bool fitAnew(const std::vector<ReportItem>& items);

/// What can be shown of an answer: the figures it has, then its checks; ids and words.
[[nodiscard]] std::vector<std::pair<std::string, std::string>> figuresOf(const Answer& answer);

/// How wide a figure is on the page, in points: the width of its column.
inline constexpr double kFigureWidth = 440.0;

/// An exhibit as a figure of the page.
[[nodiscard]] MadeFigure pageFigure(const Exhibit& exhibit, const std::string& caption);

}  // namespace rapporto
