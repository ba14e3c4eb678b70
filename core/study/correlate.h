#pragma once

#include "core/study/question_kind.h"

namespace rapporto {

/// Questions that correlate variables, holding others.
[[nodiscard]] QuestionKind correlateKind();

}  // namespace rapporto
