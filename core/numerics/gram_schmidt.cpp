#include "core/numerics/gram_schmidt.h"

#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;

double rootOf(double x) { return std::sqrt(x); }

Quad rootOf(Quad x) {
    if (!(x > 0)) {
        return 0;
    }
    Quad root = std::sqrt(static_cast<double>(x));
    if (!(static_cast<double>(root) > 0.0)) {
        return 0;  // Below the range of double: as good as zero here.
    }
    // Newton doubles the 53 good bits; twice is beyond 113.
    root = (root + x / root) / 2;
    return (root + x / root) / 2;
}

double dot(const std::vector<double>& a, const std::vector<double>& b) {
    const auto n = static_cast<Index>(a.size());
    return Eigen::Map<const Eigen::VectorXd>(a.data(), n)
        .dot(Eigen::Map<const Eigen::VectorXd>(b.data(), n));
}

Quad dot(const std::vector<Quad>& a, const std::vector<Quad>& b) {
    Quad sum = 0;
    for (std::size_t i = 0; i < a.size(); ++i) {
        sum += a[i] * b[i];
    }
    return sum;
}

template <class T>
void subtract(std::vector<T>& from, T times, const std::vector<T>& what) {
    for (std::size_t i = 0; i < from.size(); ++i) {
        from[i] -= times * what[i];
    }
}

/// Removes from `v` its parts along `basis`, twice; returns the coefficients.
template <class T>
std::vector<T> project(std::vector<T>& v, const std::vector<std::vector<T>>& basis) {
    std::vector<T> coefficients(basis.size(), T(0));
    for (int round = 0; round < 2; ++round) {
        for (std::size_t j = 0; j < basis.size(); ++j) {
            const T c = dot(basis[j], v);
            subtract(v, c, basis[j]);
            coefficients[j] += c;
        }
    }
    return coefficients;
}

/// Solves R x = c for upper triangular R given by columns.
template <class T>
std::vector<T> backSolve(const std::vector<std::vector<T>>& R, std::vector<T> c) {
    for (std::size_t j = c.size(); j-- > 0;) {
        c[j] /= R[j][j];
        for (std::size_t i = 0; i < j; ++i) {
            c[i] -= R[j][i] * c[j];
        }
    }
    return c;
}

template <class T>
Orthogonalised run(const ColumnsView& X, const Eigen::Ref<const Eigen::VectorXd>& y,
                   const Eigen::VectorXd& rootWeights, const Eigen::VectorXd& centre,
                   double tolerance, const Eigen::VectorXd* lengths = nullptr) {
    const auto n = static_cast<std::size_t>(X.rows());
    const auto weight = [&](std::size_t i) {
        return rootWeights.size() > 0 ? T(rootWeights(static_cast<Index>(i))) : T(1);
    };
    Orthogonalised out;
    std::vector<std::vector<T>> Q;
    std::vector<std::vector<T>> R;
    double worst = 1.0;
    for (Index j = 0; j < X.cols(); ++j) {
        // A power of two keeps lengths in range and rounds nothing.
        const double size = X.col(j).cwiseAbs().maxCoeff();
        const double scale = std::isnormal(size) ? std::ldexp(1.0, -std::ilogb(size)) : 1.0;
        std::vector<T> v(n);
        double rawSquares = 0.0;
        for (std::size_t i = 0; i < n; ++i) {
            const double x = X(static_cast<Index>(i), j);
            const double scaled = x * scale * static_cast<double>(weight(i));
            rawSquares += scaled * scaled;
            v[i] = (T(x) - T(centre(j))) * T(scale) * weight(i);
        }
        const double raw = lengths != nullptr ? (*lengths)(j)*scale : std::sqrt(rawSquares);
        const double centred = static_cast<double>(rootOf(dot(v, v)));
        std::vector<T> r = project(v, Q);
        const T left = rootOf(dot(v, v));
        const double share = raw > 0.0 ? static_cast<double>(left) / raw : 0.0;
        if (!(share > tolerance)) {
            std::vector<T> relation = backSolve(R, r);
            Eigen::VectorXd by(static_cast<Index>(relation.size()));
            for (std::size_t i = 0; i < relation.size(); ++i) {
                by(static_cast<Index>(i)) = static_cast<double>(relation[i] / T(scale));
            }
            out.redundant.push_back(j);
            out.lostShare = std::max(out.lostShare, share);
            out.relations.push_back(by);
            continue;
        }
        out.leastShare = std::min(out.leastShare, share);
        worst = std::max(worst, centred / static_cast<double>(left));
        for (T& x : v) {
            x /= left;
        }
        r.push_back(left);
        // Undo the column's scale in R, so that the solution is in the column's own unit.
        for (T& x : r) {
            x /= T(scale);
        }
        Q.push_back(std::move(v));
        R.push_back(std::move(r));
        out.kept.push_back(j);
    }
    const std::size_t k = Q.size();
    out.condition = worst * std::sqrt(static_cast<double>(k));

    std::vector<T> e(n);
    for (std::size_t i = 0; i < n; ++i) {
        e[i] = T(y(static_cast<Index>(i))) * weight(i);
    }
    out.outcomeLength = static_cast<double>(rootOf(dot(e, e)));
    const std::vector<T> beta = backSolve(R, project(e, Q));
    out.residualSquares = static_cast<double>(dot(e, e));
    out.residuals.resize(static_cast<Index>(n));
    for (std::size_t i = 0; i < n; ++i) {
        out.residuals(static_cast<Index>(i)) = static_cast<double>(e[i] / weight(i));
    }
    out.solution.resize(static_cast<Index>(k));
    T shift = 0;
    for (std::size_t j = 0; j < k; ++j) {
        out.solution(static_cast<Index>(j)) = static_cast<double>(beta[j]);
        shift += T(centre(out.kept[j])) * beta[j];
    }
    out.constantShift = k > 0 ? static_cast<double>(beta[0] - shift) : 0.0;
    out.inverse = Eigen::MatrixXd::Zero(static_cast<Index>(k), static_cast<Index>(k));
    for (std::size_t j = 0; j < k; ++j) {
        std::vector<T> unit(j + 1, T(0));
        unit[j] = 1;
        const std::vector<T> column = backSolve(R, unit);
        for (std::size_t i = 0; i <= j; ++i) {
            out.inverse(static_cast<Index>(i), static_cast<Index>(j)) =
                static_cast<double>(column[i]);
        }
    }
    return out;
}

}  // namespace

Orthogonalised gramSchmidt(const ColumnsView& X, const Eigen::Ref<const Eigen::VectorXd>& y,
                           const Eigen::VectorXd& rootWeights, const Eigen::VectorXd& centre,
                           double tolerance, bool wide) {
    return wide ? run<Quad>(X, y, rootWeights, centre, tolerance)
                : run<double>(X, y, rootWeights, centre, tolerance);
}

Orthogonalised gramSchmidtOf(const Eigen::MatrixXd& R, const Eigen::VectorXd& y,
                             const Eigen::VectorXd& lengths, double tolerance) {
    return run<double>(R, y, {}, Eigen::VectorXd::Zero(R.cols()), tolerance, &lengths);
}

}  // namespace rapporto
