#include "core/model/trace_spec.h"

namespace rapporto {

RAPPORTO_COMPILED_HERE(TraceSpec);
RAPPORTO_COMPILED_HERE(PathSpec);
RAPPORTO_COMPILED_HERE(TracedPair);

}  // namespace rapporto
