#pragma once

#include <QString>

namespace rapporto::app {

/// From now on a fault that ends the process leaves a report in `folder`: version, what was done
/// last (its words, no data), and the stack.
void installFaultReport(const QString& folder);

/// What the report would say was done last.
void noteLastStep(const QString& did);

/// A report that an earlier process left and nobody was told of yet; empty: there is none. The next
/// call tells of it no more.
[[nodiscard]] QString newFaultReport(const QString& folder);

}  // namespace rapporto::app
