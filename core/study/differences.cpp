#include "core/study/differences.h"

#include <nlohmann/json.hpp>

#include <algorithm>

namespace rapporto {
namespace {

using Json = nlohmann::ordered_json;

/// Keys whose values are lists of things with a name of their own, and what one of them is called.
struct Named {
    const char* key;
    const char* id;
    const char* word;
};

constexpr Named kNamed[] = {{"variables", "name", "variable"},
                            {"derived", "name", "derived variable"},
                            {"kept", "name", "kept column"},
                            {"sets", "name", "set"},
                            {"questions", "id", "question"}};

std::string idOf(const Json& entry, const char* key) {
    return entry.is_object() && entry.contains(key) && entry.at(key).is_string()
               ? entry.at(key).get<std::string>()
               : std::string();
}

void addNamed(const Json& first, const Json& second, const Named& named,
              std::vector<std::string>& parts) {
    const auto find = [&](const Json& list, const std::string& id) -> const Json* {
        for (const Json& one : list) {
            if (idOf(one, named.id) == id) {
                return &one;
            }
        }
        return nullptr;
    };
    for (const Json& one : first) {
        const std::string id = idOf(one, named.id);
        const Json* other = find(second, id);
        if (other == nullptr) {
            parts.push_back(std::string(named.word) + " ‘" + id + "’ (only the first has it)");
        } else if (*other != one) {
            parts.push_back(std::string(named.word) + " ‘" + id + "’");
        }
    }
    for (const Json& one : second) {
        if (find(first, idOf(one, named.id)) == nullptr) {
            parts.push_back(std::string(named.word) + " ‘" + idOf(one, named.id) +
                            "’ (only the second has it)");
        }
    }
}

}  // namespace

StudyDifferences differencesOf(const Study& first, const Study& second) {
    StudyDifferences out;
    while (out.shared < first.trail.size() && out.shared < second.trail.size() &&
           first.trail[out.shared] == second.trail[out.shared]) {
        ++out.shared;
    }
    const auto from = static_cast<std::ptrdiff_t>(out.shared);
    out.first.assign(first.trail.begin() + from, first.trail.end());
    out.second.assign(second.trail.begin() + from, second.trail.end());
    const Json a = studyJson(first);
    const Json b = studyJson(second);
    const Json none;
    std::vector<std::string> keys;
    for (const Json* one : {&a, &b}) {
        for (const auto& [key, value] : one->items()) {
            if (key != "trail" && std::find(keys.begin(), keys.end(), key) == keys.end()) {
                keys.push_back(key);
            }
        }
    }
    for (const std::string& key : keys) {
        const Json& mine = a.contains(key) ? a.at(key) : none;
        const Json& theirs = b.contains(key) ? b.at(key) : none;
        if (mine == theirs) {
            continue;
        }
        const auto named = std::find_if(std::begin(kNamed), std::end(kNamed),
                                        [&](const Named& n) { return key == n.key; });
        const std::size_t before = out.parts.size();
        if (named != std::end(kNamed)) {
            addNamed(mine, theirs, *named, out.parts);
        }
        if (out.parts.size() == before) {
            out.parts.push_back(key);
        }
    }
    return out;
}

}  // namespace rapporto
