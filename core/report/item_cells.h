#pragma once

#include "core/report/blocks.h"

namespace rapporto {

/// A number by the digits of its error; a dash where there is none.
[[nodiscard]] Cell sizedCell(double value, double se);

/// Two ends by the digits of an error, in the language of the report: “0.12 to 0.31”.
[[nodiscard]] std::string endsText(const ReportSheet& sheet, double low, double high, double se);

}  // namespace rapporto
