#pragma once

#include "core/left/left_table.h"
#include "core/study/study.h"

namespace rapporto {

/// Rows of a sample that stands in where sums do not do.
inline constexpr std::size_t kSampleRows = 100000;

/// A query for some rows of a table, in the order of a hash of their keys (without a key of all
/// their cells) and a seed: whoever asks it of the same rows draws the same ones.
[[nodiscard]] std::string sampleQuery(const ServerTable& table, std::size_t rows = kSampleRows);

/// The study with such a sample fetched in place of the rows that are left.
[[nodiscard]] Study withSample(Study study, const ServerTable& table,
                               std::size_t rows = kSampleRows);

}  // namespace rapporto
