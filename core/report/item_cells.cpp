#include "core/report/item_cells.h"

#include "core/base/format.h"
#include "core/report/wording.h"

#include <cmath>

namespace rapporto {

Cell sizedCell(double value, double se) {
    return std::isfinite(value) ? Cell(fixedNumber(value, decimalsFor(se), true), value)
                                : Cell("–");
}

std::string endsText(const ReportSheet& sheet, double low, double high, double se) {
    return fixedNumber(low, decimalsFor(se), true) + " " + sheet.word("to") + " " +
           fixedNumber(high, decimalsFor(se), true);
}

}  // namespace rapporto
