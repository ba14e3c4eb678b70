#include "core/base/json_shape.h"

#include <fmt/format.h>

#include <vector>

namespace rapporto {

Result<void> plainEnough(std::string_view json) {
    // How many commas each open bracket has seen; a list may hold as much as it likes.
    struct Open {
        bool object;
        std::size_t commas;
    };

    std::vector<Open> open;
    std::size_t line = 1;
    bool quoted = false;
    for (std::size_t i = 0; i < json.size(); ++i) {
        const char c = json[i];
        line += c == '\n' ? 1U : 0U;
        if (quoted) {
            i += c == '\\' ? 1U : 0U;
            quoted = c != '"';
            continue;
        }
        switch (c) {
            case '"':
                quoted = true;
                break;
            case '{':
            case '[':
                open.push_back({c == '{', 0});
                if (open.size() > kDeepestJson) {
                    return refuse(ErrorCode::Syntax,
                                  fmt::format("values are nested more than {} deep", kDeepestJson),
                                  fmt::format("line {}", line), "Nothing made here is.");
                }
                break;
            case '}':
            case ']':
                if (!open.empty()) {
                    open.pop_back();
                }
                break;
            case ',':
                if (!open.empty() && ++open.back().commas >= kMostMembers && open.back().object) {
                    return refuse(ErrorCode::Syntax,
                                  fmt::format("one object has more than {} members", kMostMembers),
                                  fmt::format("line {}", line), "Nothing made here has.");
                }
                break;
            default:
                break;
        }
    }
    return {};
}

}  // namespace rapporto
