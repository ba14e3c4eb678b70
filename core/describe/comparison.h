#pragma once

#include "core/describe/summary.h"

#include <Eigen/Dense>

#include <optional>
#include <string>
#include <vector>

namespace rapporto {

/// One test with its law. Absent numbers: the groups cannot carry it.
struct GroupTest {
    const char* name;
    std::optional<double> statistic;
    std::optional<double> df1;  ///< Absent: normal law.
    std::optional<double> df2;  ///< Of F.
    std::optional<double> p;
};

/// A quantity compared between groups.
struct GroupComparison {
    struct Group {
        std::string label;
        Summary summary;
        double low = 0.0;  ///< t interval of the mean at 1 − alpha, from the group alone.
        double high = 0.0;
    };

    std::vector<Group> groups;  ///< In the order of the levels; those without values are left out.
    double meanDifference = 0.0;  ///< Second less first, of two groups.
    double differenceLow = 0.0;
    double differenceHigh = 0.0;
    GroupTest means;          ///< Welch (1947) t of two groups; Welch (1951) F of more.
    GroupTest pooled;         ///< One-way analysis of variance, one spread for all.
    GroupTest spread;         ///< Levene about medians (Brown & Forsythe 1974).
    GroupTest ranks;          ///< Rank sum of two groups (Mann & Whitney 1947, normal law with the
                              ///< tie-corrected variance); Kruskal & Wallis (1952) of more.
    double etaSquared = 0.0;  ///< Share of the variance between groups.
};

/// Compares the values of groups; each group's missing values were taken out.
///
/// @return the comparison, or TooFewRows: under two groups with two values each.
[[nodiscard]] Result<GroupComparison> compareGroups(const std::vector<std::string>& labels,
                                                    const std::vector<std::vector<double>>& values,
                                                    double alpha);

/// The same from what is known of each group: without `spread` and `ranks`, which take its values.
[[nodiscard]] Result<GroupComparison> compareSummaries(const std::vector<std::string>& labels,
                                                       const std::vector<Summary>& summaries,
                                                       double alpha);

/// Two groupings against each other.
struct CrossTable {
    std::vector<std::string> rows;
    std::vector<std::string> columns;
    Eigen::MatrixXd counts;
    Eigen::MatrixXd expected;
    Eigen::MatrixXd
        residuals;      ///< Adjusted (Haberman 1973): about normal where nothing is related.
    double chi2 = 0.0;  ///< Pearson (1900).
    double df = 0.0;
    double p = 1.0;
    double cramersV = 0.0;   ///< Cramér (1946).
    double thinShare = 0.0;  ///< Share of cells with an expected count under 5.
};

/// @return the table, or TooFewRows: a side with under two levels that occur.
[[nodiscard]] Result<CrossTable> crossTable(const std::vector<std::string>& rows,
                                            const std::vector<std::string>& columns,
                                            const Eigen::MatrixXd& counts);

/// What they say, in a few sentences.
[[nodiscard]] std::string groupReading(const GroupComparison& comparison,
                                       const std::string& outcome, double alpha);
[[nodiscard]] std::string crossReading(const CrossTable& table, const std::string& rows,
                                       const std::string& columns, double alpha);

/// The rows in the sample, cut by a grouping variable.
///
/// @return WrongType for an outcome that is no number, and what compareGroups refuses.
[[nodiscard]] Result<GroupComparison> compareBy(const Frame& frame, const std::string& outcome,
                                                const std::string& groups, double alpha);

}  // namespace rapporto
