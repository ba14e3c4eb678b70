#pragma once

#include "core/base/result.h"
#include "core/study/json_reader.h"
#include "core/study/report_item.h"

#include <nlohmann/json_fwd.hpp>

#include <string>
#include <vector>

namespace rapporto {

/// An entry of ‘report’ of a study file; see docs/study-format.md. Faults are the reader’s.
[[nodiscard]] ReportItem readReportItem(JsonReader& in);

/// What differs from the defaults.
[[nodiscard]] nlohmann::ordered_json reportItemJson(const ReportItem& item);

/// ‘report_style’ of a study file.
[[nodiscard]] ReportStyle readReportStyle(JsonReader& in);
[[nodiscard]] nlohmann::ordered_json reportStyleJson(const ReportStyle& style);

}  // namespace rapporto
