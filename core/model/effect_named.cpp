#include "core/model/effect_named.h"

#include "core/expression/expression.h"

#include <algorithm>

namespace rapporto {

const Coefficient* effectNamed(const Fit& fit, const std::string& name) {
    const std::string wanted = canonicalText(name);
    const auto found =
        std::find_if(fit.coefficients.begin(), fit.coefficients.end(), [&](const Coefficient& c) {
            return c.designTerm >= 0 && (c.term == wanted || c.term == name);
        });
    return found == fit.coefficients.end() ? nullptr : &*found;
}

}  // namespace rapporto
