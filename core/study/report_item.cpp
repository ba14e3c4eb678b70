#include "core/study/report_item.h"

namespace rapporto {

RAPPORTO_COMPILED_HERE(ReportItem);
RAPPORTO_COMPILED_HERE(TableLook);

}  // namespace rapporto
