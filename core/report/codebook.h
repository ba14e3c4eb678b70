#pragma once

#include "core/data/frame.h"
#include "core/report/blocks.h"

#include <string>
#include <vector>

namespace rapporto {

/// What a codebook says about one variable.
struct CodebookEntry {
    struct LevelLine {
        std::string value;
        std::string label;
        std::size_t count = 0;
        double share = 0.0;  ///< Of the values that are there.
        bool base = false;
    };

    std::string name;
    std::string label;
    std::string measure;
    std::string unit;
    std::string expression;         ///< Of a derived variable.
    std::string note;               ///< Question text and remarks.
    std::string values;             ///< “1,149 values from 18 to 84, median 47, mean 46.2”.
    std::string missing;            ///< “31 missing; codes −9”, or empty.
    std::vector<LevelLine> levels;  ///< Of groups, at most 20.
    std::size_t moreLevels = 0;
    Drawing shape;  ///< A small histogram or bars; empty where there is nothing to draw.
};

/// One entry a variable, in the order of the table. Counts and shapes are of all rows.
[[nodiscard]] std::vector<CodebookEntry> codebookEntries(const Frame& frame);

/// A codebook of its own, as a report: every writer of reports writes it.
/// @param title  of the study; may be empty.
[[nodiscard]] ReportPages codebookPages(const std::string& title, const Frame& frame,
                                        const ReportDress& dressed = {});

}  // namespace rapporto
