#pragma once

#include "core/model/outcome_models.h"

#include <vector>

namespace rapporto {

/// R(α) = Σ_{j<y} ln(1 + αj) with two derivatives by α: what a quadratic law of counts adds to
/// Poisson’s y ln μ.
struct RisingProduct {
    double value = 0.0;
    double first = 0.0;
    double second = 0.0;
};

/// R(α) for all counts of some rows: whole ones below 200 from a list that is made once.
class RisingProducts {
  public:
    RisingProducts(const Eigen::Ref<const Eigen::VectorXd>& counts, double alpha);

    [[nodiscard]] RisingProduct operator()(double y) const;

  private:
    double alpha_;
    std::vector<RisingProduct> list_;  ///< Of y = 0, 1, …
};

/// Terms of the quadratic law; see countTerms().
///
/// @param mean  e^η.
[[nodiscard]] CountTerms quadraticTerms(const RisingProduct& product, double y, double logFactorial,
                                        double eta, double mean, double alpha);

}  // namespace rapporto
