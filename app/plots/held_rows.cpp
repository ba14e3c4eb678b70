#include "app/plots/held_rows.h"

#include "core/model/robust.h"

namespace rapporto::app {

std::shared_ptr<const HeldRows> heldRows(const std::shared_ptr<const Answer>& answer) {
    if (!answer || !answer->fit || !answer->fit->robust || !answer->design) {
        return nullptr;
    }
    constexpr double kHalf = 0.5;
    auto out = std::make_shared<HeldRows>();
    const Eigen::VectorXd& weights = answer->fit->robust->weights;
    for (std::size_t i = 0; i < answer->design->rows.size(); ++i) {
        const double w = weights(static_cast<Eigen::Index>(i));
        if (w < kHalf) {
            out->emplace(answer->design->rows[i], w);
        }
    }
    return out->empty() ? nullptr : std::shared_ptr<const HeldRows>(std::move(out));
}

}  // namespace rapporto::app
