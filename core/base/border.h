#pragma once

#include "core/base/result.h"

#include <exception>
#include <new>
#include <type_traits>
#include <utility>

namespace rapporto {

/// The refusal that stands in place of what `part` would have told: an exception with these words
/// got out of it. `part` as in “the check ‘glejser’”.
[[nodiscard]] Refusal faultOf(const std::string& part, const std::string& words);

/// The border for exceptions around one part of an answer: what `work` returns, or a refusal that
/// names the part. `work` returns a Result. Whatever else was asked goes on.
template <class Work>
[[nodiscard]] auto guarded(const std::string& part, Work&& work) -> std::invoke_result_t<Work&&> {
    try {
        return std::forward<Work>(work)();
    } catch (const std::bad_alloc&) {
        return tl::make_unexpected(Refusal{ErrorCode::TooFewRows,
                                           "there is not enough memory for " + part,
                                           "",
                                           "Take terms out or use fewer rows.",
                                           {}});
    } catch (const std::exception& error) {
        return tl::make_unexpected(faultOf(part, error.what()));
    } catch (...) {
        return tl::make_unexpected(faultOf(part, "an unknown exception"));
    }
}

}  // namespace rapporto
