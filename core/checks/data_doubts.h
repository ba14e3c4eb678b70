#pragma once

#include "core/checks/check.h"
#include "core/describe/odd/oddity.h"

#include <vector>

namespace rapporto {

/// What looks odd about a question’s variables, looked for once for all checks of the data.
class DataDoubts {
  public:
    /// Looks; on all cores, so not from within work beside other work.
    void look(const CheckInput& in);

    /// @param in  of one of the checks of the question; the id of `in.options` says which.
    [[nodiscard]] CheckResult answer(const CheckInput& in) const;

  private:
    std::vector<Oddity> all_;
};

}  // namespace rapporto
