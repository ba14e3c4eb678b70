#include "core/model/fit.h"

namespace rapporto {

RAPPORTO_COMPILED_HERE(Fit);

}  // namespace rapporto
