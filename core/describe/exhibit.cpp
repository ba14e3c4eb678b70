#include "core/describe/exhibit.h"

namespace rapporto {

RAPPORTO_COMPILED_HERE(Exhibit);

}  // namespace rapporto
