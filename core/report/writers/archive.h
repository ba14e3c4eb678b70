#pragma once

#include "core/base/result.h"
#include "core/report/writers/writer.h"

#include <vector>

namespace rapporto {

/// Files packed into one archive in their order, the first one unpacked (as documents want their
/// type). Times are fixed: the same report gives the same bytes.
/// @return the archive, or File when it cannot be packed.
[[nodiscard]] Result<std::string> packedArchive(const std::vector<ReportFile>& files);

}  // namespace rapporto
