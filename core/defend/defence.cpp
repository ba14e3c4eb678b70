#include "core/defend/defence.h"

namespace rapporto {

void dropDefence(Question& question) {
    question.leftOut.reset();
    question.byLot.reset();
    question.worstCases.reset();
    question.planned.clear();
    question.forecast.reset();
}

}  // namespace rapporto
