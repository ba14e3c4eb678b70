#include "core/numerics/ordering.h"

#include <boost/sort/spreadsort/integer_sort.hpp>

#include <algorithm>
#include <bit>
#include <cstdint>

namespace rapporto {
namespace {

constexpr std::uint64_t kSign = std::uint64_t{1} << 63U;

/// Bits that stand in the order of the numbers. The library sorts numbers themselves, too, but
/// takes differences of their bits that leave the range of whole numbers with a sign.
std::uint64_t keyOf(double value) {
    const auto bits = std::bit_cast<std::uint64_t>(value);
    return (bits & kSign) != 0 ? ~bits : bits | kSign;
}

double valueOf(std::uint64_t key) {
    return std::bit_cast<double>((key & kSign) != 0 ? key ^ kSign : ~key);
}

}  // namespace

void sortValues(std::vector<double>& values) {
    constexpr std::size_t kMany = 2000;
    if (values.size() < kMany) {
        std::sort(values.begin(), values.end());
        return;
    }
    std::vector<std::uint64_t> keys(values.size());
    std::transform(values.begin(), values.end(), keys.begin(), keyOf);
    boost::sort::spreadsort::integer_sort(keys.begin(), keys.end());
    std::transform(keys.begin(), keys.end(), values.begin(), valueOf);
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
