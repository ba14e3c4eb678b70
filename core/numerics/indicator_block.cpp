#include "core/numerics/indicator_block.h"

#include "core/base/parallel.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace rapporto {
namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr std::size_t kFewest = 100;  // Groups under which nothing is gained.

/// The rows where a column is one; nothing where it is anything but nought and one, or all ones.
std::optional<std::vector<std::int32_t>> onesOf(const double* x, Index n) {
    std::vector<std::int32_t> rows;
    for (Index i = 0; i < n; ++i) {
        if (x[i] == 0.0) {
            continue;
        }
        if (x[i] != 1.0) {
            return std::nullopt;
        }
        rows.push_back(static_cast<std::int32_t>(i));
    }
    if (rows.empty() || static_cast<Index>(rows.size()) == n) {
        return std::nullopt;
    }
    return rows;
}

/// The other columns, centred, and their means within groups; y, where there is one, is the last.
struct Within {
    MatrixXd values;   ///< Less the means of their groups, n × d.
    MatrixXd means;    ///< Groups × d.
    VectorXd weights;  ///< Σ w of each group.
};

MatrixXd othersOf(const LinearProblem& problem, const IndicatorBlock& block,
                  const VectorXd& centre) {
    MatrixXd out(problem.X.rows(), static_cast<Index>(block.others.size()));
    for (Index j = 0; j < out.cols(); ++j) {
        const Index column = block.others[static_cast<std::size_t>(j)];
        out.col(j) = problem.X.col(column).array() - centre(column);
    }
    return out;
}

double weightOf(const LinearProblem& problem, Index row) {
    return problem.weights.size() > 0 ? problem.weights(row) : 1.0;
}

Within withinOf(const LinearProblem& problem, const IndicatorBlock& block, MatrixXd values) {
    Within out;
    const auto groups = static_cast<Index>(block.columns.size());
    out.weights = VectorXd::Zero(groups);
    out.means = MatrixXd::Zero(groups, values.cols());
    for (Index i = 0; i < values.rows(); ++i) {
        const std::int32_t g = block.of[static_cast<std::size_t>(i)];
        if (g >= 0) {
            out.weights(g) += weightOf(problem, i);
        }
    }
    inParallel(static_cast<std::size_t>(values.cols()), [&](std::size_t at) {
        auto x = values.col(static_cast<Index>(at));
        auto mean = out.means.col(static_cast<Index>(at));
        // A second look takes out what the first has rounded.
        for (int look = 0; look < 2; ++look) {
            VectorXd sums = VectorXd::Zero(groups);
            for (Index i = 0; i < x.size(); ++i) {
                const std::int32_t g = block.of[static_cast<std::size_t>(i)];
                if (g >= 0) {
                    sums(g) += weightOf(problem, i) * x(i);
                }
            }
            sums.array() /= out.weights.array();
            for (Index i = 0; i < x.size(); ++i) {
                const std::int32_t g = block.of[static_cast<std::size_t>(i)];
                x(i) -= g >= 0 ? sums(g) : 0.0;
            }
            mean += sums;
        }
    });
    out.values = std::move(values);
    return out;
}

/// A block of the kept columns that were not centred in its groups.
std::optional<IndicatorBlock> keptBlock(const LinearProblem& problem,
                                        const LinearSolution& solution) {
    if (solution.kept.size() < kFewest) {
        return std::nullopt;
    }
    auto block = indicatorBlock(problem.X.of(solution.kept));
    const bool plain =
        block && std::all_of(block->columns.begin(), block->columns.end(),
                             [&](Index column) { return solution.centre(column) == 0.0; });
    return plain ? std::move(block) : std::nullopt;
}

}  // namespace

std::optional<IndicatorBlock> indicatorBlock(const ColumnsView& X) {
    const auto k = static_cast<std::size_t>(X.cols());
    if (k < kFewest) {
        return std::nullopt;
    }
    std::vector<std::optional<std::vector<std::int32_t>>> ones(k);
    inParallel(k,
               [&](std::size_t j) { ones[j] = onesOf(X.data(static_cast<Index>(j)), X.rows()); });
    std::vector<std::size_t> order(k);
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::erase_if(order, [&](std::size_t j) { return !ones[j]; });
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
        return ones[a]->size() < ones[b]->size();
    });
    IndicatorBlock out;
    std::vector<bool> taken(static_cast<std::size_t>(X.rows()), false);
    std::vector<bool> inside(k, false);
    std::size_t groups = 0;
    for (const std::size_t j : order) {
        const auto& rows = *ones[j];
        if (std::none_of(rows.begin(), rows.end(),
                         [&](std::int32_t row) { return taken[static_cast<std::size_t>(row)]; })) {
            for (const std::int32_t row : rows) {
                taken[static_cast<std::size_t>(row)] = true;
            }
            inside[j] = true;
            ++groups;
        }
    }
    if (groups < kFewest) {
        return std::nullopt;
    }
    out.of.assign(static_cast<std::size_t>(X.rows()), -1);
    for (std::size_t j = 0; j < k; ++j) {
        if (!inside[j]) {
            out.others.push_back(static_cast<Index>(j));
            continue;
        }
        for (const std::int32_t row : *ones[j]) {
            out.of[static_cast<std::size_t>(row)] = static_cast<std::int32_t>(out.columns.size());
        }
        out.columns.push_back(static_cast<Index>(j));
    }
    return out;
}

std::optional<LinearSolution> solveWithin(const LinearProblem& problem, const IndicatorBlock& block,
                                          const Job& job) {
    constexpr double kLeastShare = 1e-6;
    const Index k = problem.X.cols();
    const auto d = static_cast<Index>(block.others.size());
    const auto groups = static_cast<Index>(block.columns.size());
    if (d == 0) {
        return std::nullopt;
    }
    LinearSolution out;
    out.centre = VectorXd::Zero(k);
    for (const Index column : block.others) {
        const bool constant = problem.hasConstant && column == 0;
        out.centre(column) = problem.hasConstant && !constant ? problem.X.col(column).mean() : 0.0;
    }
    const double outcomeCentre = problem.hasConstant ? problem.y.mean() : 0.0;
    MatrixXd all(problem.X.rows(), d + 1);
    all.leftCols(d) = othersOf(problem, block, out.centre);
    all.col(d) = problem.y.array() - outcomeCentre;
    const VectorXd lengths = all.colwise().stableNorm();
    const Within within = withinOf(problem, block, std::move(all));
    const MatrixXd Z = within.values.leftCols(d);
    const VectorXd y = within.values.col(d);
    // The outcome alone may lie between groups, the columns may not.
    if ((Z.colwise().stableNorm().transpose().array() <= kLeastShare * lengths.head(d).array())
            .any()) {
        return std::nullopt;
    }
    const auto inner = solveLinear({Z, y, problem.weights, false}, false, job);
    if (!inner || static_cast<Index>(inner->kept.size()) != d) {
        return std::nullopt;
    }
    const VectorXd& b = inner->coefficients;
    const MatrixXd& C = inner->factor;
    const MatrixXd means = within.means.leftCols(d);
    const VectorXd levels = within.means.col(d) - means * b;
    out.kept.resize(static_cast<std::size_t>(k));
    std::iota(out.kept.begin(), out.kept.end(), Index{0});
    out.coefficients = VectorXd::Zero(k);
    out.centredFactor = MatrixXd::Zero(k, k);
    out.coefficients(block.others) = b;
    out.coefficients(block.columns) = levels;
    out.centredFactor(block.others, Eigen::seqN(0, d)) = C;
    out.centredFactor(block.columns, Eigen::seqN(0, d)) = -means * C;
    for (Index g = 0; g < groups; ++g) {
        out.centredFactor(block.columns[static_cast<std::size_t>(g)], d + g) =
            1.0 / std::sqrt(within.weights(g));
    }
    out.factor = out.centredFactor;
    if (problem.hasConstant) {
        for (const Index column : block.others) {
            if (column != 0) {
                out.factor.row(0) -= out.centre(column) * out.centredFactor.row(column);
                out.coefficients(0) -= out.centre(column) * out.coefficients(column);
            }
        }
        out.coefficients(0) += outcomeCentre;
    }
    out.residuals = inner->residuals;
    out.residualSquares = inner->residualSquares;
    out.wide = inner->wide;
    return out;
}

std::optional<ProblemWithin> withinGroups(const LinearProblem& problem) {
    constexpr double kNothing = 1e-13;  // Of a column’s length: rounding.
    constexpr double kSurely = 1e-6;
    if (problem.X.cols() < static_cast<Index>(kFewest)) {
        return std::nullopt;
    }
    std::vector<Index> filled;
    for (Index j = 0; j < problem.X.cols(); ++j) {
        if ((problem.X.col(j).array() != 0.0).any()) {
            filled.push_back(j);
        }
    }
    const LinearProblem full{problem.X.of(filled), problem.y, problem.weights, false};
    const auto block = indicatorBlock(full.X);
    if (!block) {
        return std::nullopt;
    }
    const auto d = static_cast<Index>(block->others.size());
    MatrixXd all(full.X.rows(), d + 1);
    all.leftCols(d) = othersOf(full, *block, VectorXd::Zero(full.X.cols()));
    all.col(d) = full.y;
    const VectorXd lengths = all.colwise().stableNorm();
    const Within within = withinOf(full, *block, std::move(all));
    std::vector<Index> varying;
    for (Index j = 0; j < d; ++j) {
        const double share = within.values.col(j).stableNorm() / lengths(j);
        if (share > kSurely) {
            varying.push_back(j);
        } else if (share > kNothing) {
            return std::nullopt;
        }
    }
    return ProblemWithin{within.values(Eigen::all, varying), within.values.col(d),
                         static_cast<double>(block->columns.size())};
}

std::optional<VectorXd> leveragesWithin(const LinearProblem& problem,
                                        const LinearSolution& solution) {
    const auto block = keptBlock(problem, solution);
    if (!block) {
        return std::nullopt;
    }
    const LinearProblem kept{problem.X.of(solution.kept), problem.y, problem.weights,
                             problem.hasConstant};
    const Within within = withinOf(kept, *block, othersOf(kept, *block, solution.centre));
    MatrixXd Z = within.values;
    if (problem.weights.size() > 0) {
        Z = problem.weights.cwiseSqrt().asDiagonal() * Z;
    }
    const VectorXd unit = Z.colwise().norm().cwiseInverse();
    Z *= unit.asDiagonal();
    const Eigen::LLT<MatrixXd> root(Z.transpose() * Z);
    constexpr double kLeastPivot = 1e-3;  // Of a column's length beside those before it.
    if (Z.cols() > 0 && (root.info() != Eigen::Success ||
                         !(root.matrixLLT().diagonal().minCoeff() > kLeastPivot))) {
        return std::nullopt;
    }
    MatrixXd turned = Z.transpose();
    root.matrixL().solveInPlace(turned);
    VectorXd h = turned.colwise().squaredNorm();
    for (Index i = 0; i < h.size(); ++i) {
        const std::int32_t g = block->of[static_cast<std::size_t>(i)];
        h(i) += g >= 0 ? weightOf(problem, i) / within.weights(g) : 0.0;
    }
    return h;
}

std::optional<MatrixXd> scaledMeatWithin(const LinearProblem& problem,
                                         const LinearSolution& solution,
                                         const VectorXd& factorByRow) {
    const auto block = keptBlock(problem, solution);
    if (!block) {
        return std::nullopt;
    }
    const LinearProblem kept{problem.X.of(solution.kept), problem.y, problem.weights,
                             problem.hasConstant};
    const MatrixXd Z = factorByRow.asDiagonal() * othersOf(kept, *block, solution.centre);
    const auto groups = static_cast<Index>(block->columns.size());
    VectorXd squares = VectorXd::Zero(groups);
    MatrixXd across = MatrixXd::Zero(Z.cols(), groups);
    for (Index i = 0; i < Z.rows(); ++i) {
        const std::int32_t g = block->of[static_cast<std::size_t>(i)];
        if (g >= 0) {
            squares(g) += factorByRow(i) * factorByRow(i);
            across.col(g) += factorByRow(i) * Z.row(i).transpose();
        }
    }
    const auto k = static_cast<Index>(solution.kept.size());
    MatrixXd out = MatrixXd::Zero(k, k);
    out(block->others, block->others) = Z.transpose() * Z;
    out(block->others, block->columns) = across;
    out(block->columns, block->others) = across.transpose();
    for (Index g = 0; g < groups; ++g) {
        const Index column = block->columns[static_cast<std::size_t>(g)];
        out(column, column) = squares(g);
    }
    return out;
}

std::optional<MatrixXd> groupedScoresWithin(const LinearProblem& problem,
                                            const LinearSolution& solution,
                                            const VectorXd& factorByRow,
                                            std::span<const std::int32_t> groups, Index count) {
    const auto block = keptBlock(problem, solution);
    if (!block) {
        return std::nullopt;
    }
    const LinearProblem kept{problem.X.of(solution.kept), problem.y, problem.weights,
                             problem.hasConstant};
    const MatrixXd Z = othersOf(kept, *block, solution.centre);
    MatrixXd out = MatrixXd::Zero(count, static_cast<Index>(solution.kept.size()));
    for (Index i = 0; i < Z.rows(); ++i) {
        const auto row = static_cast<Index>(groups[static_cast<std::size_t>(i)]);
        for (Index j = 0; j < Z.cols(); ++j) {
            out(row, block->others[static_cast<std::size_t>(j)]) += factorByRow(i) * Z(i, j);
        }
        const std::int32_t g = block->of[static_cast<std::size_t>(i)];
        if (g >= 0) {
            out(row, block->columns[static_cast<std::size_t>(g)]) += factorByRow(i);
        }
    }
    return out;
}

}  // namespace rapporto
