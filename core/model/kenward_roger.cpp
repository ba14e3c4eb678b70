#include "core/model/kenward_roger.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// A variance or covariance among the effects of a level.
struct Parameter {
    std::size_t level = 0;
    Index row = 0;
    Index column = 0;
    double value = 0.0;
};

/// The rows and effects of one outermost group.
struct Cluster {
    std::vector<Index> rows;
    /// Where the effects of a group of a level begin among those of the cluster.
    std::vector<std::vector<std::pair<std::int32_t, Index>>> groups;
    Index effects = 0;
};

std::vector<Cluster> clustersOf(const std::vector<KenwardRoger::Level>& levels) {
    const auto& outer = levels.back();
    std::vector<Cluster> out(static_cast<std::size_t>(outer.count));
    for (Cluster& cluster : out) {
        cluster.groups.resize(levels.size());
    }
    for (std::size_t i = 0; i < outer.of.size(); ++i) {
        out[static_cast<std::size_t>(outer.of[i])].rows.push_back(static_cast<Index>(i));
    }
    for (std::size_t l = 0; l < levels.size(); ++l) {
        std::vector<bool> seen(static_cast<std::size_t>(levels[l].count), false);
        for (std::size_t i = 0; i < levels[l].of.size(); ++i) {
            const auto g = static_cast<std::size_t>(levels[l].of[i]);
            if (!seen[g]) {
                seen[g] = true;
                Cluster& cluster = out[static_cast<std::size_t>(outer.of[i])];
                cluster.groups[l].emplace_back(levels[l].of[i], cluster.effects);
                cluster.effects += levels[l].columns.cols();
            }
        }
    }
    return out;
}

}  // namespace

Result<KenwardRoger> KenwardRoger::make(const MatrixXd& X, const std::vector<Level>& levels,
                                        double variance) {
    constexpr Index kMostEffects = 1500;
    const Index p = X.cols();
    std::vector<Parameter> parameters;
    for (std::size_t l = 0; l < levels.size(); ++l) {
        const Index q = levels[l].columns.cols();
        for (Index a = 0; a < q; ++a) {
            for (Index b = a; b < (levels[l].full ? q : a + 1); ++b) {
                parameters.push_back({l, a, b, levels[l].covariance(a, b)});
            }
        }
    }
    const std::size_t r = parameters.size();
    MatrixXd precision = MatrixXd::Zero(p, p);  // X'V⁻¹X.
    std::vector<MatrixXd> S(r + 1, MatrixXd::Zero(p, p));
    std::vector<std::vector<MatrixXd>> Q(r + 1, std::vector<MatrixXd>(r + 1, MatrixXd::Zero(p, p)));
    MatrixXd traces = MatrixXd::Zero(static_cast<Index>(r + 1), static_cast<Index>(r + 1));
    VectorXd single = VectorXd::Zero(static_cast<Index>(r));  // tr V⁻¹Vᵢ.
    for (const Cluster& cluster : clustersOf(levels)) {
        if (cluster.effects > kMostEffects) {
            return refuse(ErrorCode::BadSetting,
                          "one outermost group holds " + std::to_string(cluster.effects) +
                              " effects: the adjustment would take the machine",
                          "df", "Use Satterthwaite’s degrees of freedom.");
        }
        const auto n = static_cast<Index>(cluster.rows.size());
        MatrixXd Z = MatrixXd::Zero(n, cluster.effects);
        MatrixXd D = MatrixXd::Zero(cluster.effects, cluster.effects);
        for (std::size_t l = 0; l < levels.size(); ++l) {
            const Index q = levels[l].columns.cols();
            std::vector<Index> from(static_cast<std::size_t>(levels[l].count), -1);
            for (const auto& [group, begin] : cluster.groups[l]) {
                from[static_cast<std::size_t>(group)] = begin;
                D.block(begin, begin, q, q) = levels[l].covariance;
            }
            for (Index i = 0; i < n; ++i) {
                const Index row = cluster.rows[static_cast<std::size_t>(i)];
                const auto g =
                    static_cast<std::size_t>(levels[l].of[static_cast<std::size_t>(row)]);
                Z.block(i, from[g], 1, q) = levels[l].columns.row(row);
            }
        }
        const MatrixXd Xh = X(cluster.rows, Eigen::all);
        // V⁻¹ = (I − ZH(σ²I + H'Z'ZH)⁻¹H'Z')/σ² for HH' = D, which may be singular.
        const Eigen::SelfAdjointEigenSolver<MatrixXd> parts(D);
        const MatrixXd H =
            parts.eigenvectors() * parts.eigenvalues().cwiseMax(0.0).cwiseSqrt().asDiagonal();
        const MatrixXd C = Z.transpose() * Z;
        const MatrixXd CX = Z.transpose() * Xh;
        MatrixXd inner = H.transpose() * C * H;
        inner.diagonal().array() += variance;
        const Eigen::LLT<MatrixXd> triangle(inner);
        const MatrixXd HC = H.transpose() * C;
        const MatrixXd HX = H.transpose() * CX;
        const MatrixXd A = (C - HC.transpose() * triangle.solve(HC)) / variance;
        const MatrixXd B = (CX - HC.transpose() * triangle.solve(HX)) / variance;
        precision += (Xh.transpose() * Xh - HX.transpose() * triangle.solve(HX)) / variance;
        std::vector<MatrixXd> EB(r);
        std::vector<MatrixXd> AE(r);
        for (std::size_t i = 0; i < r; ++i) {
            const Parameter& one = parameters[i];
            EB[i] = MatrixXd::Zero(cluster.effects, p);
            AE[i] = MatrixXd::Zero(cluster.effects, cluster.effects);
            for (const auto& [group, begin] : cluster.groups[one.level]) {
                const Index a = begin + one.row;
                const Index b = begin + one.column;
                EB[i].row(a) += B.row(b);
                AE[i].col(b) += A.col(a);
                if (a != b) {
                    EB[i].row(b) += B.row(a);
                    AE[i].col(a) += A.col(b);
                }
            }
            S[i] += B.transpose() * EB[i];
            single(static_cast<Index>(i)) += AE[i].trace();
        }
        for (std::size_t i = 0; i < r; ++i) {
            for (std::size_t j = 0; j < r; ++j) {
                Q[i][j] += EB[i].transpose() * A * EB[j];
                traces(static_cast<Index>(i), static_cast<Index>(j)) +=
                    AE[i].cwiseProduct(AE[j].transpose()).sum();
            }
        }
    }
    // What σ² itself does follows from V = σ²I + Σ θᵢVᵢ.
    const auto rest = static_cast<Index>(r);
    S[r] = precision;
    double traceOfInverse = static_cast<double>(X.rows());
    for (std::size_t i = 0; i < r; ++i) {
        S[r] -= parameters[i].value * S[i];
        traceOfInverse -= parameters[i].value * single(static_cast<Index>(i));
    }
    S[r] /= variance;
    traceOfInverse /= variance;
    for (std::size_t j = 0; j < r; ++j) {
        Q[r][j] = S[j];
        double t = single(static_cast<Index>(j));
        for (std::size_t i = 0; i < r; ++i) {
            Q[r][j] -= parameters[i].value * Q[i][j];
            t -= parameters[i].value * traces(static_cast<Index>(i), static_cast<Index>(j));
        }
        Q[r][j] /= variance;
        Q[j][r] = Q[r][j].transpose();
        traces(rest, static_cast<Index>(j)) = traces(static_cast<Index>(j), rest) = t / variance;
    }
    Q[r][r] = S[r];
    traces(rest, rest) = traceOfInverse;
    for (std::size_t i = 0; i < r; ++i) {
        Q[r][r] -= parameters[i].value * Q[i][r];
        traces(rest, rest) -= parameters[i].value * traces(static_cast<Index>(i), rest);
    }
    Q[r][r] /= variance;
    traces(rest, rest) /= variance;

    KenwardRoger out;
    out.plain_ = precision.llt().solve(MatrixXd::Identity(p, p));
    MatrixXd information(rest + 1, rest + 1);
    for (std::size_t i = 0; i <= r; ++i) {
        for (std::size_t j = 0; j <= r; ++j) {
            information(static_cast<Index>(i), static_cast<Index>(j)) =
                0.5 * (traces(static_cast<Index>(i), static_cast<Index>(j)) -
                       2.0 * (out.plain_ * Q[i][j]).trace() +
                       (out.plain_ * S[i] * out.plain_ * S[j]).trace());
        }
    }
    // Parameters have units: the pseudo-inverse is taken of a unit diagonal.
    const VectorXd unit = information.diagonal().cwiseMax(1e-300).cwiseSqrt().cwiseInverse();
    out.parameters_ = unit.asDiagonal() *
                      Eigen::CompleteOrthogonalDecomposition<MatrixXd>(
                          unit.asDiagonal() * information * unit.asDiagonal())
                          .pseudoInverse() *
                      unit.asDiagonal();
    MatrixXd added = MatrixXd::Zero(p, p);
    for (std::size_t i = 0; i <= r; ++i) {
        for (std::size_t j = 0; j <= r; ++j) {
            added += out.parameters_(static_cast<Index>(i), static_cast<Index>(j)) *
                     (Q[i][j] - S[i] * out.plain_ * S[j]);
        }
    }
    out.adjusted_ = out.plain_ + 2.0 * out.plain_ * added * out.plain_;
    out.adjusted_ = 0.5 * (out.adjusted_ + out.adjusted_.transpose()).eval();
    out.pulls_ = std::move(S);
    return out;
}

KenwardRoger::Law KenwardRoger::law(const MatrixXd& contrasts) const {
    const auto l = static_cast<double>(contrasts.cols());
    const MatrixXd theta =
        contrasts *
        (contrasts.transpose() * plain_ * contrasts).ldlt().solve(contrasts.transpose());
    std::vector<MatrixXd> turned;
    for (const MatrixXd& pull : pulls_) {
        turned.push_back(theta * plain_ * pull * plain_);
    }
    double first = 0.0;
    double second = 0.0;
    for (std::size_t i = 0; i < turned.size(); ++i) {
        for (std::size_t j = 0; j < turned.size(); ++j) {
            const double w = parameters_(static_cast<Index>(i), static_cast<Index>(j));
            first += w * turned[i].trace() * turned[j].trace();
            second += w * turned[i].cwiseProduct(turned[j].transpose()).sum();
        }
    }
    if (contrasts.cols() == 1) {
        return {1.0, 2.0 / first};
    }
    const double b = (first + 6.0 * second) / (2.0 * l);
    const double g = ((l + 1.0) * first - (l + 4.0) * second) / ((l + 2.0) * second);
    const double below = 3.0 * l + 2.0 * (1.0 - g);
    const double mean = 1.0 / (1.0 - second / l);
    const double spread =
        2.0 / l * (1.0 + g / below * b) /
        (std::pow(1.0 - (l - g) / below * b, 2) * (1.0 - (l + 2.0 - g) / below * b));
    const double ratio = spread / (2.0 * mean * mean);
    Law out;
    out.df = 4.0 + (l + 2.0) / (l * ratio - 1.0);
    out.scale = out.df / (mean * (out.df - 2.0));
    return out;
}

}  // namespace rapporto
