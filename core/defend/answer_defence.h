#pragma once

#include "core/study/answer.h"

namespace rapporto {

/// What is asked of one effect that has to be defended, each part behind its own border; the answer
/// holds design and fit. The answer so far is shown before what takes its time.
void answerDefence(Answer& answer, const Study& study, const Frame& frame, const Making& making);

}  // namespace rapporto
