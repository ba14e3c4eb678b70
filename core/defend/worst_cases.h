#pragma once

#include "core/study/study.h"

namespace rapporto {

/// An end of the effect, from a fit whose outcome is filled in so as to reach it.
struct WorstCaseEnd {
    double estimate = 0.0;
    double se = 0.0;
};

/// Where a yes–no cause moves who is seen: the effect on those who are seen either way.
struct AlwaysSeen {
    double seenWith = 0.0;  ///< Share of rows with the cause whose outcome is seen …
    double seenWithout = 0.0;
    double difference = 0.0;
    double se = 0.0;
    double p = 1.0;
    double trimmed = 0.0;  ///< Share cut off the side that is seen oftener.
    WorstCaseEnd lower;
    WorstCaseEnd upper;
    double low = 0.0;  ///< Of an interval that holds the effect, wherever it lies between the ends.
    double high = 0.0;
};

/// How far an effect could move, whatever the outcomes are that were not seen.
struct WorstCases {
    std::string of;
    std::size_t rows = 0;    ///< With all of the terms …
    std::size_t unseen = 0;  ///< … and no outcome.
    double from = 0.0;       ///< What the outcome can be.
    double to = 0.0;
    bool asSeen = false;  ///< By its smallest and largest value, for want of ends of its own.
    WorstCaseEnd lower;
    WorstCaseEnd upper;
    double low = 0.0;
    double high = 0.0;
    std::optional<AlwaysSeen> always;
    std::string whyNotAlways;  ///< Why that is not told, or nothing.
};

/// Bounds of one effect where some outcomes are not seen. The coefficient is a sum of outcomes,
/// each times a number that the terms alone decide: it is largest where every outcome that is not
/// seen is at the end that the sign of its number asks for. Both ends are fits of their own, in the
/// question’s errors, weights and effects held fixed; the interval holds the effect with 1 − alpha
/// wherever it lies between them.
///
/// Of a yes–no cause without weights, also on those who would be seen with it and without it: the
/// side that is seen oftener is trimmed by the excess, from above and from below.
///
/// @return UnknownName (no such effect), BadSetting (every outcome is seen; a method that is not
///         one linear equation of rows; a grouping as the outcome), what the question refuses,
///         Stopped.
/// Source: Horowitz & Manski (2000), Journal of the American Statistical Association 95; Imbens &
///         Manski (2004), Econometrica 72, for the interval; Lee (2009), Review of Economic Studies
///         76, for those always seen and their errors.
[[nodiscard]] Result<WorstCases> worstCases(const Study& study, const Frame& frame,
                                            const Question& question, const Job& job);

/// The interval that holds what lies between two ends with probability 1 − alpha, wherever.
/// Source: Imbens & Manski (2004), Econometrica 72.
[[nodiscard]] std::pair<double, double> intervalBetween(const WorstCaseEnd& lower,
                                                        const WorstCaseEnd& upper, double alpha,
                                                        std::optional<double> df);

}  // namespace rapporto
