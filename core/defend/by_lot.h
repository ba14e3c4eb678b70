#pragma once

#include "core/model/fit.h"

namespace rapporto {

/// An effect set against what it would be had the cause been drawn by lot.
struct ByLot {
    std::string of;          ///< The term.
    std::string drawn;       ///< What draws a lot: “1,110 rows”, “24 groups of village”.
    bool paths = false;      ///< A lot is a unit’s whole course over the moments.
    bool exact = false;      ///< Every lot was looked at.
    int draws = 0;           ///< Lots looked at, the one that was drawn among them if exact.
    double p = 1.0;          ///< Share of lots that speak at least as loudly.
    double statistic = 0.0;  ///< t of one column, F of a grouping, with classical errors.
    bool joint = false;      ///< A grouping of several columns: no estimate, no interval.
    std::optional<double> lawP;  ///< The question’s own p of the same claim.
    double estimate = 0.0;
    /// Ends of the effects, the same for everybody, that lots do not reject at alpha; absent: none
    /// on this side, too few lots.
    std::optional<double> low;
    std::optional<double> high;
    /// Effects that the lots gave where the cause does nothing, for the picture; those of a
    /// grouping are F.
    std::vector<double> lots;
};

/// Whether it can be asked of this fit at all: one linear equation of rows as they are.
[[nodiscard]] bool canDrawLots(const Design& design, const Fit& fit);

/// Draws the cause anew among rows, or among whole groups of `request.by`, within `request.within`:
/// how often would lots alone speak as loudly as the cause does, if it did nothing to anybody?
///
/// The statistic is the t (F) of least squares with the question’s terms, weights and effects held
/// fixed; the interval holds every effect, the same for everybody, that is not rejected, by
/// inversion: each lot is louder than the cause between the two roots of a linear equation in that
/// effect. Where there are no more different lots than `request.draws`, all are looked at; else p
/// is (1 + louder)/(1 + draws). Hangs on the seed alone, not on the number of threads.
///
/// @param seed  where the request has none.
/// @return UnknownName (no such term, no such grouping), BadSetting (a product with the cause among
///         the terms; a cause that differs within groups of `by`; nothing to draw; a method without
///         one linear equation of rows), Stopped.
/// Source: Fisher (1935), The Design of Experiments; Rosenbaum (2002), Observational Studies, for
///         the inversion; Young (2019), Quarterly Journal of Economics 134, for regressions.
[[nodiscard]] Result<ByLot> byLot(const Frame& frame, const Design& design, const Fit& fit,
                                  const LotRequest& request, std::uint64_t seed, double alpha,
                                  const Job& job);

}  // namespace rapporto
