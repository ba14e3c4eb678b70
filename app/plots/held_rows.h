#pragma once

#include "core/study/answer.h"

#include <memory>
#include <unordered_map>

namespace rapporto::app {

/// Source rows (from 0) that a robust fit counts for less than a half, with their weights.
using HeldRows = std::unordered_map<std::size_t, double>;

/// Null where the answer holds no row down.
[[nodiscard]] std::shared_ptr<const HeldRows> heldRows(const std::shared_ptr<const Answer>& answer);

}  // namespace rapporto::app
