#include "core/study/unknown_keys.h"

#include <algorithm>

namespace rapporto {
namespace {

using Json = nlohmann::ordered_json;

/// What an entry of a list is known by; null: by its content.
const Json* identityOf(const Json& entry) {
    for (const char* key : {"id", "name", "variable"}) {
        if (entry.contains(key)) {
            return &entry.at(key);
        }
    }
    return nullptr;
}

/// All that is said now was read, whatever else was.
bool isWithin(const Json& now, const Json& read) {
    if (now.is_object() && read.is_object()) {
        return std::all_of(now.items().begin(), now.items().end(), [&](const auto& member) {
            return read.contains(member.key()) && isWithin(member.value(), read.at(member.key()));
        });
    }
    if (now.is_array() && read.is_array()) {
        return std::equal(now.begin(), now.end(), read.begin(), read.end(), isWithin);
    }
    return now == read;
}

bool isSame(const Json& now, const Json& read) {
    if (!now.is_object() || !read.is_object()) {
        return false;
    }
    const Json* identity = identityOf(read);
    const Json* own = identityOf(now);
    return identity != nullptr ? own != nullptr && *own == *identity : isWithin(now, read);
}

void carry(Json& out, const Json& raw, const std::string& path) {
    if (raw.is_array() && out.is_array()) {
        for (const Json& read : raw) {
            const auto now = std::find_if(out.begin(), out.end(),
                                          [&](const Json& one) { return isSame(one, read); });
            if (now != out.end()) {
                carry(*now, read, path);
            }
        }
        return;
    }
    if (!raw.is_object() || !out.is_object()) {
        return;
    }
    if (raw.contains(path)) {
        if (!out.contains(path)) {
            out[path] = raw.at(path);
        }
        return;
    }
    // A name may hold a full stop itself: the shortest one that was read begins the path.
    for (auto stop = path.find('.'); stop != std::string::npos; stop = path.find('.', stop + 1)) {
        const std::string head = path.substr(0, stop);
        if (raw.contains(head)) {
            if (out.contains(head)) {
                carry(out.at(head), raw.at(head), path.substr(stop + 1));
            }
            return;
        }
    }
}

}  // namespace

void carryUnknown(nlohmann::ordered_json& out, const nlohmann::ordered_json* raw,
                  const std::vector<std::string>& paths) {
    for (const std::string& path : paths) {
        if (raw != nullptr) {
            carry(out, *raw, path);
        }
    }
}

}  // namespace rapporto
