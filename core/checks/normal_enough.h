#pragma once

namespace rapporto {

/// So many rows that means, and with them effects, are near a normal law whatever the errors' is:
/// Cochran's rule for skewed quantities (Sampling Techniques, 1977, section 2.15), never under 200.
[[nodiscard]] bool manyRows(double n, double skewness);

}  // namespace rapporto
