#pragma once

#include "core/describe/exhibit.h"

#include <span>

namespace rapporto {

struct SmoothSettings {
    double span = 0.5;   ///< Share of the points that each place looks at; at least four points.
    int robustness = 0;  ///< Iterations that hold odd points down.
    bool band = false;   ///< Work out `se`.
};

/// A local smooth at its places.
struct LocalSmooth {
    std::vector<double> x;
    std::vector<double> y;
    std::vector<double> se;  ///< Of y, where asked for and neither weighted nor robust.
    double df = 0.0;         ///< Of the t law that goes with `se`.
};

/// Local linear regression with tricube weights over the nearest share of the points, times
/// `weights` (empty: none), with bisquare robustness iterations on residuals over six times their
/// median (Cleveland 1979, Journal of the American Statistical Association 74, 829–836).
///
/// Places are the different values of x up to 400 of them, else 120 at even ranks; between places
/// the smooth is straight. Beyond 20,000 points an even selection of them is smoothed. With `l(x)`
/// the row by which the smooth takes y, se = σ‖l(x)‖, σ² = RSS/δ, δ = tr (I − L)(I − L)ᵀ, which is
/// taken as the degrees of freedom, too (Cleveland & Devlin 1988, Journal of the American
/// Statistical Association 83, with δ for δ₁²/δ₂).
///
/// No places: under five points, or one value of x.
[[nodiscard]] LocalSmooth localSmooth(std::span<const double> x, std::span<const double> y,
                                      std::span<const double> weights,
                                      const SmoothSettings& settings);

/// The same as a line to draw.
[[nodiscard]] Exhibit::Line localLine(const std::vector<double>& x, const std::vector<double>& y,
                                      double span, const std::string& name);

}  // namespace rapporto
