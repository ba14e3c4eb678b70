#pragma once

#include "core/model/fit.h"

namespace rapporto {

/// Two models of one outcome in the same rows, set against each other.
struct ModelTest {
    enum class Kind : std::uint8_t {
        Nested,     ///< The smaller against the larger: Wald F of what the larger adds.
        NonNested,  ///< Each against the other’s fitted values: Davidson & MacKinnon’s J.
        Alike,      ///< The same columns.
    };

    Kind kind = Kind::Alike;
    bool firstIsSmaller = true;  ///< Of nested ones.
    FTest f;                     ///< Of nested ones.

    struct Side {
        double t = 0.0;  ///< Of the other’s fitted values beside the model’s own terms.
        double p = 1.0;
        double n = 0.0;  ///< Cox’s statistic as Pesaran has it for linear models, normal.
        double pCox = 1.0;
    };

    Side first;   ///< What speaks against the first.
    Side second;  ///< What speaks against the second.
};

/// Rows count for the same in both: one kind of weights, row by row.
[[nodiscard]] bool weightedAlike(const Design& first, const Design& second);

/// @return the test, or why there is none: other outcomes, other rows, a fit that is not linear in
///         the question’s own terms; BadSetting each.
/// Source: Davidson & MacKinnon (1981), Econometrica 49; Pesaran (1974), Review of Economic
/// Studies 41.
[[nodiscard]] Result<ModelTest> testModels(const Design& firstDesign, const Fit& first,
                                           const Design& secondDesign, const Fit& second,
                                           const ErrorSpec& errors, const Job& job);

}  // namespace rapporto
