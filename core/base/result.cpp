#include "core/base/result.h"

#include <utility>

namespace rapporto {

std::string Refusal::text() const {
    std::string all = where.empty() ? what : where + ": " + what;
    if (!help.empty()) {
        all += (all.ends_with('.') ? " " : ". ") + help;
    }
    return all;
}

tl::unexpected<Refusal> refuse(ErrorCode code, std::string what, std::string where,
                               std::string help, std::vector<std::string> subjects) {
    return tl::make_unexpected(
        Refusal{code, std::move(what), std::move(where), std::move(help), std::move(subjects)});
}

}  // namespace rapporto
