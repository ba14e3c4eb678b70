#include "core/checks/added_alone.h"

#include "core/base/parallel.h"
#include "core/numerics/sparse_factor.h"

#include <cmath>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr Index kBlock = 512;

/// Sums over rows: Q'Z, Z'e, and Z'Z within each group.
struct Sums {
    MatrixXd byTerms;
    VectorXd byResidual;
    std::vector<MatrixXd> within;
};

Sums zeroSums(Index k, const AddedColumns& added) {
    Sums sums{MatrixXd::Zero(k, added.count), VectorXd::Zero(added.count), {}};
    for (const auto& group : added.groups) {
        const auto q = static_cast<Index>(group.size());
        sums.within.emplace_back(MatrixXd::Zero(q, q));
    }
    return sums;
}

void addRows(const CheckInput& in, const AddedColumns& added, const VectorXd& e,
             const std::vector<Index>& kept, const SparseFactor& factor, Index from, Index rows,
             Sums& sums) {
    MatrixXd X(rows, static_cast<Index>(kept.size()));
    for (std::size_t j = 0; j < kept.size(); ++j) {
        X.col(static_cast<Index>(j)) = in.design.X.col(kept[j]).segment(from, rows);
    }
    MatrixXd Q = factor.after(X);
    MatrixXd Z(rows, added.count);
    added.fill(from, Z);
    if (in.design.weights.size() > 0) {
        const VectorXd root = in.design.weights.segment(from, rows).cwiseSqrt();
        Q = root.asDiagonal() * Q;
        Z = root.asDiagonal() * Z;
    }
    sums.byTerms.noalias() += Q.transpose() * Z;
    sums.byResidual.noalias() += Z.transpose() * e.segment(from, rows);
    for (std::size_t g = 0; g < added.groups.size(); ++g) {
        const auto& group = added.groups[g];
        if (group.size() == 1) {
            sums.within[g](0, 0) += Z.col(group.front()).squaredNorm();
        } else {
            const MatrixXd own = Z(Eigen::all, group);
            sums.within[g].noalias() += own.transpose() * own;
        }
    }
}

/// What is left of a group once the terms are taken out of it, and what it tells of the residuals.
AddedAlone told(const MatrixXd& within, const MatrixXd& byTerms, const VectorXd& byResidual) {
    // A difference of sums is known to about 1e-13 of them.
    constexpr double kUnsure = 1e-6;
    constexpr double kNothing = 1e-11;
    AddedAlone out;
    out.sure = true;
    MatrixXd G = within - byTerms.transpose() * byTerms;
    VectorXd b = byResidual;
    for (Index j = 0; j < G.rows(); ++j) {
        const double share = within(j, j) > 0.0 ? G(j, j) / within(j, j) : 0.0;
        if (share < kNothing) {
            continue;  // A combination of the terms and of those before it.
        }
        out.sure = out.sure && share >= kUnsure;
        out.rank += 1.0;
        out.gained += b(j) * b(j) / G(j, j);
        const Index rest = G.rows() - j - 1;
        const VectorXd below = G.col(j).tail(rest);
        b.tail(rest) -= below * (b(j) / G(j, j));
        G.bottomRightCorner(rest, rest).noalias() -= below * below.transpose() / G(j, j);
    }
    return out;
}

}  // namespace

bool isWorthAPass(const CheckInput& in, Index columns) {
    constexpr double kWork = 2e7;
    return static_cast<double>(in.design.X.rows()) *
               static_cast<double>(in.fit.solution.kept.size()) * static_cast<double>(columns) >
           kWork;
}

std::vector<AddedAlone> addedAlone(const CheckInput& in, const AddedColumns& added,
                                   const VectorXd& e) {
    const std::vector<Index> kept(in.fit.solution.kept.begin(), in.fit.solution.kept.end());
    const auto k = static_cast<Index>(kept.size());
    const SparseFactor factor(in.fit.solution.factor);
    const RowChunks chunks(static_cast<std::size_t>(in.design.X.rows()));
    std::vector<Sums> parts(chunks.count());
    chunks.forEach([&](std::size_t c) {
        parts[c] = zeroSums(k, added);
        const auto end = static_cast<Index>(chunks[c].end);
        for (Index at = static_cast<Index>(chunks[c].begin); at < end && !in.job.stopped();
             at += kBlock) {
            addRows(in, added, e, kept, factor, at, std::min(kBlock, end - at), parts[c]);
        }
    });
    if (in.job.stopped()) {
        return {};
    }
    for (std::size_t c = 1; c < parts.size(); ++c) {
        parts[0].byTerms += parts[c].byTerms;
        parts[0].byResidual += parts[c].byResidual;
        for (std::size_t g = 0; g < added.groups.size(); ++g) {
            parts[0].within[g] += parts[c].within[g];
        }
    }
    std::vector<AddedAlone> out;
    for (std::size_t g = 0; g < added.groups.size(); ++g) {
        const auto& group = added.groups[g];
        out.push_back(told(parts[0].within[g], parts[0].byTerms(Eigen::all, group),
                           parts[0].byResidual(group)));
    }
    return out;
}

}  // namespace rapporto
