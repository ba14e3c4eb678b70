#include "core/checks/check.h"

namespace rapporto {

RAPPORTO_COMPILED_HERE(CheckResult);

}  // namespace rapporto
