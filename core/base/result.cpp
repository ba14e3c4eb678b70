#include "core/base/result.h"

#include "core/base/border.h"

#include <utility>

namespace rapporto {

RAPPORTO_COMPILED_HERE(Refusal);

Refusal::Refusal(ErrorCode kind, std::string happened, std::string place, std::string wouldHelp,
                 std::vector<std::string> concerned)
    : code(kind),
      what(std::move(happened)),
      where(std::move(place)),
      help(std::move(wouldHelp)),
      subjects(std::move(concerned)) {}

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

Refusal faultOf(const std::string& part, const std::string& words) {
    return {ErrorCode::Fault,
            part + " could not be worked out: a mistake of this program (" + words + ")",
            "",
            "Everything else stands. Without extreme values, ties or empty groups it may be "
            "answered; please tell us of it.",
            {}};
}

}  // namespace rapporto
