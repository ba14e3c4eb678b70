#pragma once

#include "core/data/frame.h"
#include "core/describe/exhibit.h"

namespace rapporto {

/// Which answers are missing together, in the rows of the sample.
struct MissingPatterns {
    struct Of {
        std::string name;
        std::string label;
        std::size_t missing = 0;
        bool derived = false;  ///< Worked out from others: it lacks what they lack.
    };

    struct Pattern {
        std::vector<bool> missing;  ///< As `variables`.
        std::vector<std::uint32_t> rows;
    };

    std::size_t rows = 0;
    std::size_t complete = 0;       ///< Rows that lack none of them.
    std::vector<Of> variables;      ///< Columns of the table that lack something, worst first.
    std::vector<Pattern> patterns;  ///< Most rows first; the complete one among them.
};

/// @param names  variables to look at; empty: all columns of the table that are not derived.
[[nodiscard]] MissingPatterns missingPatterns(const Frame& frame,
                                              const std::vector<std::string>& names = {});

/// Patterns as rows of tiles, the most frequent on top.
[[nodiscard]] Exhibit patternsPicture(const MissingPatterns& patterns);

/// How rows that lack an answer differ from those that have it.
struct MissingContrast {
    std::string name;  ///< Of what differs.
    std::string label;
    std::string level;     ///< Of groups: the level whose share differs most.
    double seen = 0.0;     ///< Mean (of groups: share) where the answer is there …
    double lacking = 0.0;  ///< … and where it is not.
    double apart = 0.0;    ///< Their difference in pooled standard deviations.
    double p = 1.0;        ///< Welch (1947) of the means …
    double adjusted =
        1.0;  ///< … times all the looks that were taken, of every level: Bonferroni’s.
};

/// All other variables of the sample against whether `name` is missing, furthest apart first.
[[nodiscard]] std::vector<MissingContrast> missingContrasts(const Frame& frame,
                                                            const std::string& name);

}  // namespace rapporto
