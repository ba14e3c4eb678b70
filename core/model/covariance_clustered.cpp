#include "core/base/format.h"
#include "core/model/cluster_sums.h"
#include "core/numerics/sparse_factor.h"

#include <fmt/format.h>

#include <algorithm>
#include <map>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;

}  // namespace

bool isNested(const SweptGrouping& effects, const std::vector<std::int32_t>& clusters) {
    std::vector<std::int32_t> in(static_cast<std::size_t>(effects.count), -1);
    for (std::size_t i = 0; i < effects.of.size(); ++i) {
        std::int32_t& first = in[static_cast<std::size_t>(effects.of[i])];
        if (first >= 0 && first != clusters[i]) {
            return false;
        }
        first = clusters[i];
    }
    return true;
}

namespace {

/// n − k where effects nested in a clustering do not count: they are free to move with it.
double degreesLeft(const CovarianceInput& in) {
    double counted = in.design.effectsRank;
    for (const SweptGrouping& effects : in.design.effects) {
        const bool nested = std::any_of(
            in.design.clusters.begin(), in.design.clusters.end(),
            [&](const std::vector<std::int32_t>& clusters) { return isNested(effects, clusters); });
        counted -=
            nested ? effects.count * (1.0 + static_cast<double>(effects.slopes.cols())) - 1.0 : 0.0;
    }
    return in.dfResidual + in.design.effectsRank - std::max(counted, 0.0);
}

MatrixXd oneWay(const CovarianceInput& in, const Eigen::VectorXd& byRow,
                const std::vector<std::int32_t>& groups, std::int32_t count) {
    // The solution brings the sums of the first clustering where it was asked to.
    const bool there = in.solution.scores.size() > 0 && &groups == &in.design.clusters.front();
    // Without a constant nothing is centred: the columns are turned first, or far from zero their
    // sums would lose what the factor cancels.
    MatrixXd projected;
    if (!in.problem.hasConstant) {
        const MatrixXd Q = orthonormalColumns(in.problem.X, in.solution);
        projected = MatrixXd::Zero(count, Q.cols());
        for (Eigen::Index i = 0; i < Q.rows(); ++i) {
            projected.row(groups[static_cast<std::size_t>(i)]) += byRow(i) * Q.row(i);
        }
    } else {
        const MatrixXd scores = there
                                    ? in.solution.scores
                                    : groupedScores(in.problem, in.solution, byRow, groups, count);
        projected = SparseFactor(in.solution.centredFactor).after(scores);
    }
    const double g = count;
    const double factor = in.plain ? 1.0 : g / (g - 1.0) * (in.n - 1.0) / degreesLeft(in);
    return factor * SparseFactor(in.solution.factor).around(projected.transpose() * projected);
}

/// Negative eigenvalues of V set to zero, as Cameron, Gelbach & Miller (2011, section 2.3) do.
MatrixXd withoutNegativeEigenvalues(const MatrixXd& V, bool& repaired) {
    if (V.size() == 0) {
        return V;  // Every term was swept out: there is nothing to mend.
    }
    const Eigen::SelfAdjointEigenSolver<MatrixXd> solver(V);
    repaired = solver.eigenvalues().minCoeff() < -1e-12 * solver.eigenvalues().maxCoeff();
    if (!repaired) {
        return V;
    }
    return solver.eigenvectors() * solver.eigenvalues().cwiseMax(0.0).asDiagonal() *
           solver.eigenvectors().transpose();
}

}  // namespace

Result<void> enoughClusters(const std::vector<std::int32_t>& counts,
                            const std::vector<std::string>& by) {
    if (counts.empty()) {
        return refuse(ErrorCode::BadSetting, "clustered errors need a variable to cluster by",
                      "errors", "Choose one or two.");
    }
    for (std::size_t d = 0; d < counts.size(); ++d) {
        if (counts[d] < 2) {
            return refuse(ErrorCode::BadSetting, "‘" + by[d] + "’ has one cluster in the rows used",
                          "errors", "Clustered errors need at least two, better forty.", {by[d]});
        }
    }
    return {};
}

Covariance clusteredTogether(const std::vector<MatrixXd>& parts,
                             const std::vector<std::int32_t>& counts) {
    Covariance out;
    out.matrix = parts[0];
    std::int32_t least = counts[0];
    out.note = plural(static_cast<std::size_t>(counts[0]), "cluster", "clusters");
    if (parts.size() > 1) {
        out.matrix += parts[1] - parts[2];
        bool repaired = false;
        out.matrix = withoutNegativeEigenvalues(out.matrix, repaired);
        least = std::min(counts[0], counts[1]);
        out.note =
            fmt::format("{} and {} clusters{}", counts[0], counts[1],
                        repaired ? "; the covariance was not positive and was repaired" : "");
    }
    if (least < 40) {
        out.note += fmt::format("; with only {}, intervals tend to be too narrow", least);
    }
    out.df = least - 1.0;
    return out;
}

Result<Covariance> clusteredCovariance(const CovarianceInput& in, const ErrorSpec& spec) {
    const auto& counts = in.design.clusterCounts;
    if (auto enough = enoughClusters(counts, spec.by); !enough) {
        return tl::make_unexpected(enough.error());
    }
    Eigen::VectorXd byRow = in.solution.residuals;
    if (in.problem.weights.size() > 0) {
        byRow.array() *= in.problem.weights.array();
    }
    std::vector<MatrixXd> parts = {oneWay(in, byRow, in.design.clusters[0], counts[0])};
    if (counts.size() > 1) {
        std::map<std::pair<std::int32_t, std::int32_t>, std::int32_t> ids;
        std::vector<std::int32_t> both;
        for (std::size_t i = 0; i < in.design.clusters[0].size(); ++i) {
            const auto key = std::pair(in.design.clusters[0][i], in.design.clusters[1][i]);
            both.push_back(ids.emplace(key, static_cast<std::int32_t>(ids.size())).first->second);
        }
        parts.push_back(oneWay(in, byRow, in.design.clusters[1], counts[1]));
        parts.push_back(oneWay(in, byRow, both, static_cast<std::int32_t>(ids.size())));
    }
    return clusteredTogether(parts, counts);
}

}  // namespace rapporto
