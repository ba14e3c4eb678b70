#pragma once

#include "core/report/report.h"
#include "core/study/answer.h"

namespace rapporto {

/// “Correlate a, b holding c by pearson · both sides”.
[[nodiscard]] std::string correlateSentence(const Question& question);

/// What the correlations of a question say together.
[[nodiscard]] std::string correlateReading(const Answer& answer);

/// What one pair says, with what holding the others changed.
[[nodiscard]] std::vector<std::string> pairReading(const Answer& answer, std::size_t a,
                                                   std::size_t b);

/// The blocks of a report item: its table, or what it says.
void correlateReport(ReportSheet& sheet, const Answer& answer, const std::string& item);

/// Correlations as tab-separated text: r below the diagonal's ones, then p and n, each in a block.
[[nodiscard]] std::string correlationsAsText(const CorrelationTable& table);

}  // namespace rapporto
