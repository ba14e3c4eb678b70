#pragma once

#include "core/base/job.h"
#include "core/numerics/nested_effects.h"

#include <Eigen/Dense>

#include <memory>
#include <vector>

namespace rapporto {

/// −2 ln of the likelihood of a yes–no outcome (logit) or a count (Poisson) with random effects of
/// nested groups, drawn from a normal law: effects are factors Λ times standard normal numbers.
///
/// In one grouping by adaptive Gauss–Hermite quadrature about each group’s mode, `points` in each
/// direction (one: Laplace’s approximation); in several by Laplace’s approximation at the common
/// mode, groups eliminated from the innermost on. Slopes are exact: the modes and curvatures move
/// with the parameters. The same bits for any number of threads.
///
/// Source: Pinheiro & Bates (1995), Journal of Computational and Graphical Statistics 4; Pinheiro &
/// Chao (2006), the same 15; Smith (1995), the same 4, for slopes through a Cholesky factor.
class LevelLikelihood {
  public:
    struct Data {
        Eigen::MatrixXd X;                      ///< n × k.
        Eigen::VectorXd y;                      ///< 0 and 1, or counts.
        Eigen::VectorXd offset;                 ///< n, or empty.
        std::vector<RandomGrouping> groupings;  ///< Innermost first, each within the next.
        bool logit = true;                      ///< Else Poisson.
        int points = 9;
    };

    explicit LevelLikelihood(Data data);
    ~LevelLikelihood();

    /// At coefficients and factors (q × q, any).
    struct Look {
        double deviance = 0.0;                ///< Infinite where it is no number.
        Eigen::VectorXd slope;                ///< By the coefficients.
        std::vector<Eigen::MatrixXd> slopes;  ///< By the entries of each factor.
    };

    [[nodiscard]] Look look(const Eigen::VectorXd& coefficients,
                            const std::vector<Eigen::MatrixXd>& factors, bool wantSlopes) const;

    /// Where every group’s effects lie most likely, and their covariance there.
    struct Modes {
        std::vector<Eigen::MatrixXd> values;       ///< Of each grouping: groups × q.
        std::vector<Eigen::MatrixXd> covariances;  ///< Groups × q·q, column by column.
        Eigen::VectorXd index;                     ///< Of each row, groups’ effects in it.
        std::vector<Eigen::VectorXd> weights;      ///< Of each grouping: Σ of rows’ information.
    };

    [[nodiscard]] Modes modes(const Eigen::VectorXd& coefficients,
                              const std::vector<Eigen::MatrixXd>& factors) const;

    [[nodiscard]] const Data& data() const;

  private:
    struct Parts;
    std::unique_ptr<const Parts> parts_;
};

/// Places and weights of Gauss–Hermite quadrature: ∫ f(x) exp(−x²) dx ≈ Σ w f(x), 1 to 99 points.
/// Source: Golub & Welsch (1969), Mathematics of Computation 23.
struct HermiteRule {
    Eigen::VectorXd at;
    Eigen::VectorXd weights;
};

[[nodiscard]] HermiteRule hermiteRule(int points);

}  // namespace rapporto
