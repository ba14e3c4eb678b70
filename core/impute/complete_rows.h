#pragma once

#include "core/model/fit.h"

namespace rapporto {

/// How complete rows stand for those that lack an answer: each by the inverse of its modelled
/// chance to be complete.
/// Source: Horvitz & Thompson (1952), Journal of the American Statistical Association 47; Seaman &
/// White (2013), Statistical Methods in Medical Research 22.
struct CompleteRows {
    std::vector<Coefficient> coefficients;  ///< Of the logit of being complete.
    bool penalised = false;  ///< By Firth’s penalty: a term tells for certain who is complete.
    std::size_t complete = 0;
    std::size_t rows = 0;       ///< Of the sample, with what foretells.
    double lowestChance = 1.0;  ///< Of the complete ones …
    double highestChance = 1.0;
    /// … and what these weights cost by themselves: (Σw²)n/(Σw)², Kish (1965).
    double weightEffect = 1.0;
};

}  // namespace rapporto
