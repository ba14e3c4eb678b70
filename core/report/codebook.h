#pragma once

#include "core/data/frame.h"

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
    std::string svg;  ///< A small histogram or bars; empty where there is nothing to draw.
};

/// One entry a variable, in the order of the table. Counts and shapes are of all rows.
[[nodiscard]] std::vector<CodebookEntry> codebookEntries(const Frame& frame);

/// A page to print. With `inlineFigures` the pictures stand in the text; else they are images
/// called `codebook:0`, `codebook:1`, …
[[nodiscard]] std::string codebookHtml(const std::string& title, const Frame& frame,
                                       const std::vector<CodebookEntry>& entries,
                                       bool inlineFigures);

}  // namespace rapporto
