#pragma once

#include "core/base/result.h"
#include "core/report/blocks.h"

namespace rapporto {

/// Blocks as one line of JSON, to be kept with the study.
[[nodiscard]] std::string frozenBlocks(const std::vector<ReportBlock>& blocks);

/// @return the blocks, or BadSetting where the text is no such line.
[[nodiscard]] Result<std::vector<ReportBlock>> thawed(const std::string& text);

}  // namespace rapporto
