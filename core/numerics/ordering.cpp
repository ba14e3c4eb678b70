#include "core/numerics/ordering.h"

#include <boost/sort/spreadsort/float_sort.hpp>

#include <algorithm>

namespace rapporto {

void sortValues(std::vector<double>& values) {
    boost::sort::spreadsort::float_sort(values.begin(), values.end());
}

std::vector<Placed> ordered(const Eigen::Ref<const Eigen::VectorXd>& values) {
    std::vector<Placed> out(static_cast<std::size_t>(values.size()));
    for (std::size_t i = 0; i < out.size(); ++i) {
        const auto at = static_cast<Eigen::Index>(i);
        out[i] = {values(at), at};
    }
    std::sort(out.begin(), out.end(),
              [](const Placed& a, const Placed& b) { return a.value < b.value; });
    return out;
}

}  // namespace rapporto
