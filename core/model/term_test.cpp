#include "core/model/term_test.h"

#include "core/numerics/distributions.h"

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
    out.p = df ? fTail(*f, out.df1, *df) : chiSquareTail(*f * out.df1, out.df1);
    return out;
}

}  // namespace rapporto
