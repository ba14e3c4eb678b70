#include "core/base/shown_names.h"

namespace rapporto {
namespace {

/// Past the end of what begins with a quote at `from`; a doubled quote within belongs to it.
std::size_t endOfQuoted(const std::string& text, std::size_t from) {
    const char quote = text[from];
    for (std::size_t at = from + 1; at < text.size(); ++at) {
        if (text[at] != quote) {
            continue;
        }
        if (at + 1 < text.size() && text[at + 1] == quote) {
            ++at;
            continue;
        }
        return at + 1;
    }
    return std::string::npos;  // It is never closed: a mark of inches, say.
}

std::string unquoted(const std::string& text) {
    std::string out;
    for (std::size_t at = 1; at + 1 < text.size(); ++at) {
        out += text[at];
        at += text[at] == '"' ? 1 : 0;
    }
    return out;
}

}  // namespace

std::string shownNames(const std::string& text) {
    std::string out;
    std::size_t at = 0;
    while (at < text.size()) {
        if (text[at] != '"' && text[at] != '\'') {
            out += text[at++];
            continue;
        }
        const std::size_t end = endOfQuoted(text, at);
        if (end == std::string::npos) {
            return out + text.substr(at);
        }
        const std::string quoted = text.substr(at, end - at);
        out += text[at] == '"' ? unquoted(quoted) : quoted;
        at = end;
    }
    return out;
}

std::string shownNamesOf(std::string words, const std::vector<std::string>& texts) {
    for (const std::string& text : texts) {
        for (std::size_t at = text.find('"'); at < text.size(); at = text.find('"', at)) {
            const std::size_t end = endOfQuoted(text, at);
            if (end == std::string::npos) {
                break;
            }
            const std::string quoted = text.substr(at, end - at);
            for (std::size_t place = words.find(quoted); place != std::string::npos;
                 place = words.find(quoted, place)) {
                words.replace(place, quoted.size(), unquoted(quoted));
            }
            at = end;
        }
    }
    return words;
}

std::string bareName(const std::string& text) {
    if (!text.empty() && text.front() == '"') {
        return endOfQuoted(text, 0) == text.size() ? unquoted(text) : std::string();
    }
    return text.find_first_of("(),+-*/= \"'") == std::string::npos ? text : std::string();
}

std::string plainName(const std::string& text) {
    const std::string bare = bareName(text);
    return bare.empty() ? text : bare;
}

}  // namespace rapporto
