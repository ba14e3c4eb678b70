#pragma once

#include "core/model/model_tests.h"
#include "core/study/answer.h"

namespace rapporto {

/// Two answers for one outcome in the same rows, set against each other.
struct ModelComparison {
    enum class Kind : std::uint8_t {
        LikelihoodRatio,  ///< One likelihood holds the other’s equations.
        Nested,           ///< Least squares, one holds the other’s columns: Wald’s F.
        NonNested,        ///< Neither does: Davidson & MacKinnon’s J, Cox’s test.
    };

    Kind kind = Kind::Nested;
    bool grows = true;       ///< The second holds the first; of non-nested ones nothing.
    double statistic = 0.0;  ///< Chi-square or F; of non-nested ones nothing.
    double df1 = 0.0;
    std::optional<double> df2;  ///< Absent: chi-square.
    double p = 1.0;
    bool half = false;            ///< Half of the law stands at zero: a spread cannot be below it.
    std::optional<double> score;  ///< Rao’s statistic at the smaller one, of df1 …
    std::optional<double> scoreP;
    ModelTest::Side first = {};   ///< Of non-nested ones: what speaks against the first …
    ModelTest::Side second = {};  ///< … and against the second.
};

/// @return nothing where there is no such test: other outcomes or rows, sampling weights of a
///         likelihood, fits that are not of one family or differ in more than their terms (weights,
///         an offset, what is held fixed, what the method is told), more cells than are looked at
///         aside.
/// Source: Wilks (1938), Annals of Mathematical Statistics 9; Rao (1948), Proceedings of the
/// Cambridge Philosophical Society 44; Davidson & MacKinnon (1981), Econometrica 49; Pesaran
/// (1974), Review of Economic Studies 41.
[[nodiscard]] std::optional<ModelComparison> comparedModels(const Answer& from, const Answer& to,
                                                            const Job& job);

/// What an answer is compared with, the first that there is a test against: the question that it is
/// a variant of, then the lead; those without a fit are left out.
[[nodiscard]] std::vector<const Answer*> comparedWith(const Answer& answer,
                                                      const std::vector<Answer>& all);

}  // namespace rapporto
