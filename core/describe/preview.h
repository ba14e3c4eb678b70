#pragma once

#include "core/describe/summary.h"

#include <optional>
#include <string>
#include <vector>

namespace rapporto {

/// What an expression would give, before it is taken: for a panel beside the text field.
struct DerivedPreview {
    std::optional<Refusal> refusal;
    std::string expression;
    std::string sourceName;  ///< The first variable it reads, or empty.
    std::size_t rows = 0;
    std::size_t present = 0;
    std::size_t missing = 0;
    std::size_t freshMissing = 0;  ///< Missing where every variable it reads is there.
    std::vector<Loss> losses;
    bool isText = false;
    Summary summary;   ///< Of numbers.
    Histogram before;  ///< Of the source variable; no counts where it has no numbers.
    Histogram after;
    std::vector<std::string> levels;  ///< Of texts or few values, with their counts.
    std::vector<std::size_t> levelCounts;

    struct Row {
        std::size_t row = 0;  ///< From 0.
        std::vector<std::string> from;
        std::string value;
    };

    std::vector<std::string> fromNames;
    std::vector<Row> first;             ///< Up to ten rows, the lost ones among them.
    std::vector<std::string> cautions;  ///< Sentences: a second log, an almost empty level.
};

[[nodiscard]] DerivedPreview previewOf(const Frame& frame, const std::string& expression);

/// A transformation that fits a variable: offered without typing.
struct Proposal {
    std::string label;  ///< “ln x”, “x²”, “first lag”.
    std::string name;   ///< For the new variable.
    std::string expression;
};

/// Those that make sense for the variable's measure and the declared layout.
[[nodiscard]] std::vector<Proposal> proposalsFor(const Frame& frame, const std::string& name);

}  // namespace rapporto
