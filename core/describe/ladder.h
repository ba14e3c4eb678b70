#pragma once

#include "core/data/frame.h"

#include <string>
#include <vector>

namespace rapporto {

/// A variable under one power, for comparing shapes.
struct LadderRung {
    std::string label;       ///< “−1/√x”.
    std::string name;        ///< Proposed for the derived variable.
    std::string expression;  ///< As the study file has it.
    double power = 1.0;      ///< 0 stands for the logarithm.
    bool defined = false;    ///< Every row in the sample has a value under it.
    double skewness = 0.0;
    std::vector<double> bars;  ///< Heights of a histogram, 0 to 1.
};

struct ShapeLadder {
    std::vector<LadderRung> rungs;  ///< From −1/x² to x³; empty where the measure has none.
    int best = -1;                  ///< The lightest touch that straightens; −1: none is defined.
    std::string why;                ///< Why there are no rungs.
};

/// The ladder of powers of a quantity or count over the sample, of at most 20,000 rows evenly
/// taken. Source: Tukey (1977), Exploratory Data Analysis, chapter 3.
[[nodiscard]] ShapeLadder shapeLadder(const Frame& frame, const std::string& name);

}  // namespace rapporto
