#pragma once

#include "core/data/frame.h"

#include <string>
#include <vector>

namespace rapporto {

/// How well several items measure one thing.
struct ScaleFacts {
    struct Item {
        std::string name;
        double mean = 0.0;
        double sd = 0.0;
        double withRest = 0.0;      ///< Correlation with the sum of the other items.
        double alphaWithout = 0.0;  ///< Alpha of the others; needs three items.
    };

    std::size_t n = 0;  ///< Rows in the sample with every item.
    double alpha = 0.0;
    std::vector<Item> items;
    std::vector<std::string> againstTheRest;  ///< Items with a negative correlation: worded in
                                              ///< reverse?
};

/// Cronbach's alpha, k/(k − 1)·(1 − Σ var(item)/var(sum)), with item–rest correlations.
///
/// @return the facts, or WrongType for an item that holds texts, TooFewRows, NoVariation.
/// Source: Cronbach (1951), Psychometrika 16, 297–334.
[[nodiscard]] Result<ScaleFacts> scaleOf(const Frame& frame, const std::vector<std::string>& items);

/// “(a + b + c) / 3”.
[[nodiscard]] std::string scaleExpression(const std::vector<std::string>& items);

}  // namespace rapporto
