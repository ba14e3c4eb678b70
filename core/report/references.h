#pragma once

#include <span>
#include <string>
#include <vector>

namespace rapporto {

/// A work that a method comes from.
struct Reference {
    const char* cite;     ///< As texts name it: “White 1980”.
    const char* authors;  ///< “White, H.”
    int year;
    const char* title;
    const char* where;  ///< Journal or publisher.

    /// “White, H. (1980). A heteroskedasticity-consistent … *Econometrica*.”
    [[nodiscard]] std::string text() const;

    /// “white1980”, for a file of references.
    [[nodiscard]] std::string key() const;
};

[[nodiscard]] std::span<const Reference> allReferences();

/// Those that the text names, by authors and year, each once, in the order of the alphabet.
[[nodiscard]] std::vector<const Reference*> referencesIn(const std::string& text);

/// The works in BibTeX's form, for a paper.
[[nodiscard]] std::string bibtexOf(const std::vector<const Reference*>& references);

}  // namespace rapporto
