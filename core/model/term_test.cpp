#include "core/model/term_test.h"

#include "core/model/multilevel.h"
#include "core/numerics/distributions.h"

#include <cmath>

namespace rapporto {

std::optional<TermTest> testTerm(const Fit& fit, int designTerm) {
    std::vector<Eigen::Index> of;
    std::optional<double> df;
    for (std::size_t c = 0; c < fit.coefficients.size(); ++c) {
        if (fit.coefficients[c].designTerm == designTerm) {
            of.push_back(static_cast<Eigen::Index>(c));
            df = fit.coefficients[c].df;
        }
    }
    if (of.empty() || fit.covariance.rows() != static_cast<Eigen::Index>(fit.coefficients.size())) {
        return std::nullopt;
    }
    Eigen::VectorXd b(static_cast<Eigen::Index>(of.size()));
    for (std::size_t k = 0; k < of.size(); ++k) {
        b(static_cast<Eigen::Index>(k)) =
            fit.coefficients[static_cast<std::size_t>(of[k])].estimate;
    }
    const Eigen::MatrixXd V = fit.covariance(of, of);
    const auto f = waldF(b, V);
    if (!f) {
        return std::nullopt;
    }
    TermTest out{*f, static_cast<double>(of.size()), df, 1.0};
    if (fit.levels && !fit.pooled) {
        Eigen::MatrixXd each = Eigen::MatrixXd::Zero(fit.covariance.rows(), b.size());
        for (std::size_t k = 0; k < of.size(); ++k) {
            each(of[k], static_cast<Eigen::Index>(k)) = 1.0;
        }
        const ContrastLaw law = lawOf(fit, each);
        out.f *= law.scale;
        out.df2 = std::isfinite(law.df) ? std::optional(law.df) : std::nullopt;
    }
    out.p = out.df2 ? fTail(out.f, out.df1, *out.df2) : chiSquareTail(out.f * out.df1, out.df1);
    return out;
}

}  // namespace rapporto
