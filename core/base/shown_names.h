#pragma once

#include <string>
#include <vector>

namespace rapporto {

/// A text that names variables as expressions do, for people: a name that the grammar wants in
/// double quotes stands without them, texts in single quotes stay as they are.
[[nodiscard]] std::string shownNames(const std::string& text);

/// The same of finished words, in which other things may stand in quotes: only names that stand
/// quoted in one of `texts` lose them.
[[nodiscard]] std::string shownNamesOf(std::string words, const std::vector<std::string>& texts);

/// The name that a text is and no more, plain or in double quotes; empty where it is anything else.
[[nodiscard]] std::string bareName(const std::string& text);

/// The same, but the text itself where it is anything else: what names are compared by.
[[nodiscard]] std::string plainName(const std::string& text);

/// The place in a map of a name, which may be written as expressions write it.
template <class Map>
[[nodiscard]] auto findNamed(const Map& map, const std::string& name) {
    const auto found = map.find(name);
    return found == map.end() && name.starts_with('"') ? map.find(bareName(name)) : found;
}

}  // namespace rapporto
