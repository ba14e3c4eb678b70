#pragma once

#include "core/picture/picture.h"

namespace rapporto {

// The makers of the pictures, one file each; see picture_table.cpp for what each fits.

/// Bins with the kernel density (bandwidth by Sheather & Jones) and the normal curve of the same
/// mean and sd; shares of the weight under a survey design.
[[nodiscard]] DrawnPicture drawDistribution(const PictureInput& input);

/// Ordered values against the quantiles of a normal law at (i − 3/8)/(n + 1/4) (Blom 1958), the
/// line through the quartiles, and the band in which each point lies with probability 1 − alpha if
/// the law is that line’s (normal order statistics, delta method). Rows count alike.
[[nodiscard]] DrawnPicture drawQuantiles(const PictureInput& input);

/// The share of rows (of weight) at or below each value; without weights with the band that holds
/// the whole true curve with probability 1 − alpha (Massart 1990).
[[nodiscard]] DrawnPicture drawCumulative(const PictureInput& input);

/// Shares of the levels with intervals by Wilson (1927); under a design on the effective number of
/// rows that its variance gives.
[[nodiscard]] DrawnPicture drawShares(const PictureInput& input);

/// A quantity by groups: rows as points, box, mean with interval.
[[nodiscard]] DrawnPicture drawGroups(const PictureInput& input);
[[nodiscard]] DrawnPicture drawStrips(const PictureInput& input);
[[nodiscard]] DrawnPicture drawBoxes(const PictureInput& input);
[[nodiscard]] DrawnPicture drawMeans(const PictureInput& input);

/// Two groupings: a column for each level of the second, as wide as its share of the rows, cut by
/// the shares of the first; shade by the adjusted residual (Haberman 1973).
[[nodiscard]] DrawnPicture drawCross(const PictureInput& input);

/// Points with least squares line, parabola, local smooth, intervals; a third variable makes
/// groups with a line each.
[[nodiscard]] DrawnPicture drawScatter(const PictureInput& input);

/// Means of a quantity, or shares of a yes–no, in twenty bins of another of about equal counts,
/// with the line through all rows. Rows count alike.
[[nodiscard]] DrawnPicture drawBinned(const PictureInput& input);

/// A quantity over the layout’s time: a line for each unit and the mean of all; a second variable
/// makes the means of its groups.
[[nodiscard]] DrawnPicture drawOverTime(const PictureInput& input);

/// Autocorrelations and partial autocorrelations over the layout’s time (Box & Jenkins 1970).
[[nodiscard]] DrawnPicture drawAutocorrelation(const PictureInput& input);

/// Correlation of one quantity with another some moments earlier or later.
[[nodiscard]] DrawnPicture drawCrossCorrelation(const PictureInput& input);

/// Every quantity against every other, each one’s distribution on the diagonal.
[[nodiscard]] DrawnPicture drawScatterMatrix(const PictureInput& input);

/// Correlations as shaded tiles, alike variables together.
[[nodiscard]] DrawnPicture drawMosaic(const PictureInput& input);

/// The same of a summary, which has no rows.
[[nodiscard]] DrawnPicture mosaicOfSummary(const PictureInput& input);

/// Numbers of a summary: n, mean and standard deviation.
[[nodiscard]] DrawnPicture numbersOfSummary(const PictureInput& input);

/// Numbers of every variable; a last variable of groups cuts them.
[[nodiscard]] DrawnPicture drawSummaryTable(const PictureInput& input);

}  // namespace rapporto
