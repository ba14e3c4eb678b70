#pragma once

#include "core/model/offer.h"
#include "core/study/answer.h"

namespace rapporto {

/// The ways a question can be estimated, as its data suggest: by what the outcome is, what a row
/// is, whether something moves a term from outside; each with its label and why one would take it.
///
/// @param frame   null while there is no table.
/// @param answer  to the question as it stands; null: what its rows tell is not known.
[[nodiscard]] OfferedMethods offeredMethods(const Study& study, const Frame* frame,
                                            const Question& question, const Answer* answer);

}  // namespace rapporto
